package zip

import (
	"errors"
	"io"
	"sync/atomic"

	"widecrate/core/codec"
	"widecrate/core/crypt"
	"widecrate/core/fault"
)

// lock is how an entry is locked.
type lock struct {
	strength crypt.Strength // of AES; 0: the traditional way
	check    byte           // of the traditional way
}

// around is how many bytes of the packed size belong to the lock.
func (l lock) around() int64 {
	if l.strength == 0 {
		return crypt.HeaderLength
	}
	return int64(l.strength.SaltLength()) + crypt.VerifyLength + crypt.CodeLength
}

// passwords are the candidates for an archive.
type passwords struct {
	list  []string
	used  []atomic.Bool // those that have opened something
	right atomic.Int32  // the one that opened an entry last; tried first
	wrong atomic.Bool   // all are, for one entry at least
}

// order goes through the candidates, beginning with the one that was right.
func (p *passwords) order(try func(i int) (done bool, err error)) error {
	right := int(p.right.Load())
	for n := range len(p.list) {
		i := n
		if n == 0 {
			i = right
		} else if n <= right {
			i = n - 1
		}
		if done, err := try(i); done || err != nil {
			return err
		}
	}
	return nil
}

// Passwords are the numbers of the candidates, from 1, that have opened entries.
func (z *Reader) Passwords() (numbers []int) {
	for i := range z.passwords.used {
		if z.passwords.used[i].Load() {
			numbers = append(numbers, i+1)
		}
	}
	return numbers
}

var errNoPassword = fault.New(fault.Password, "it is locked, and there is no password").
	Suggest(fault.GivePassword)

// unlock returns the packed data of a locked entry, decrypted. Of several
// passwords that may be right, the first is taken with which the entry can be
// read.
func (d *data) unlock(method codec.Method) (io.Reader, error) {
	if len(d.z.passwords.list) == 0 {
		return nil, errNoPassword
	}
	open, err := d.candidate()
	if err != nil {
		return nil, err
	}
	var maybe []int
	err = d.z.passwords.order(func(i int) (bool, error) {
		_, ok, err := open(d.z.passwords.list[i])
		if !ok || err != nil {
			return false, err
		}
		maybe = append(maybe, i)
		// Another may pass, too: one in 256, with AES one in 65,536, where to try each takes long. There, the one that
		// was right before is right again.
		return d.rec.lock.strength > 0 && d.z.opened.Load() && i == int(d.z.passwords.right.Load()), nil
	})
	if err != nil {
		return nil, err
	}
	d.z.passwords.wrong.CompareAndSwap(false, len(maybe) == 0)
	switch n := len(d.z.passwords.list); {
	case len(maybe) == 0 && n == 1:
		return nil, fault.New(fault.Password, "the password given does not open it")
	case len(maybe) == 0:
		return nil, fault.New(fault.Password, "none of the %d passwords given opens it", n)
	}
	right := maybe[0]
	if d.doubtful = len(maybe) > 1; d.doubtful {
		for _, i := range maybe {
			if r, _, err := open(d.z.passwords.list[i]); err == nil && d.readable(method, r) {
				right, d.doubtful = i, false
				break
			}
		}
	}
	d.z.passwords.right.Store(int32(right))
	d.z.passwords.used[right].Store(true)
	d.z.opened.Store(true)
	r, _, err := open(d.z.passwords.list[right])
	return r, err
}

// candidate reads what stands around the data, and returns a function that
// opens the data with one password: false if that is certainly wrong.
func (d *data) candidate() (func(password string) (io.Reader, bool, error), error) {
	l := d.rec.lock
	inside := func() io.Reader {
		front := l.around()
		if l.strength > 0 {
			front -= crypt.CodeLength
		}
		return &section{d.z.r, d.position + front, d.entry.Packed - l.around()}
	}
	if d.entry.Packed < l.around() {
		return nil, fault.New(fault.Damaged, "it is locked, and too short for that")
	}
	if l.strength == 0 {
		var header [crypt.HeaderLength]byte
		if _, err := d.z.r.ReadAt(header[:], d.position); err != nil {
			return nil, fault.Reading("", err)
		}
		return func(password string) (io.Reader, bool, error) {
			t, ok := crypt.NewTraditional(password, header, l.check)
			if !ok {
				return nil, false, nil
			}
			return t.Reader(inside()), true, nil
		}, nil
	}
	front := make([]byte, l.strength.SaltLength()+crypt.VerifyLength)
	var code [crypt.CodeLength]byte
	_, err := d.z.r.ReadAt(front, d.position)
	if err == nil {
		_, err = d.z.r.ReadAt(code[:], d.position+d.entry.Packed-crypt.CodeLength)
	}
	if err != nil {
		return nil, fault.Reading("", err)
	}
	salt, verify := front[:l.strength.SaltLength()], [crypt.VerifyLength]byte(front[l.strength.SaltLength():])
	known := map[string]crypt.AES{} // deriving keys is made to be slow
	return func(password string) (io.Reader, bool, error) {
		keys, found := known[password]
		if !found {
			var ok bool
			var err error
			if keys, ok, err = crypt.NewAES(password, l.strength, salt, verify); !ok || err != nil {
				return nil, false, err
			}
			known[password] = keys
		}
		r, err := keys.Reader(inside(), code)
		return r, true, err
	}, nil
}

// readable reports whether an entry decrypted like this is what the directory
// says.
func (d *data) readable(method codec.Method, r io.Reader) bool {
	trial := &data{z: d.z, entry: d.entry, rec: d.rec, position: d.position, flags: d.flags}
	defer trial.Close()
	if trial.decode(method, r) != nil {
		return false
	}
	_, err := io.Copy(io.Discard, trial)
	return err == nil
}

// decode starts to decode data that was decrypted.
func (d *data) decode(method codec.Method, r io.Reader) (err error) {
	d.stream = getBuffer(r)
	d.packed = d.stream
	d.decoder, err = method.Decode(d.packed, d.options())
	return err
}

// locked says what an error in decrypted data may mean.
func (d *data) locked(err error) error {
	switch {
	case err == nil || !d.entry.Encrypted || fault.Of(err) != fault.Damaged && fault.Known(err):
		return err
	case d.rec.lock.strength == 0 || d.doubtful || d.z.passwords.wrong.Load():
		// One wrong password in 256 passes for the right one up to here, with AES one in 65,536.
		return fault.New(fault.Password, "the password is wrong, or its data is damaged: %w", err)
	case errors.Is(err, crypt.ErrCode):
		return fault.New(fault.Damaged, "%w", crypt.ErrCode)
	}
	return err
}
