package crypt

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha1"
	"crypto/subtle"
	"encoding/binary"
	"errors"
	"hash"
	"io"
	"sync"
)

// What stands around the data of an entry that is locked with AES: a salt and
// two bytes that show most wrong passwords in front, an authentication code
// after it.
const (
	VerifyLength = 2
	CodeLength   = 10
	iterations   = 1000
)

// Strength is the length of an AES key as the extra field of ZIP has it: 1, 2
// and 3 for 128, 192 and 256 bits.
type Strength byte

// Valid reports whether there is such a strength.
func (s Strength) Valid() bool { return s >= 1 && s <= 3 }

// KeyLength is in bytes.
func (s Strength) KeyLength() int { return 8 + 8*int(s) }

// SaltLength is half of it.
func (s Strength) SaltLength() int { return s.KeyLength() / 2 }

// AES has the keys that a password gives.
type AES struct{ encrypt, authenticate []byte }

// NewAES derives the keys from a password and a salt. They include two bytes
// that are to be verify: ok is false with 65,535 of 65,536 wrong passwords.
func NewAES(password string, s Strength, salt []byte, verify [VerifyLength]byte) (a AES, ok bool, err error) {
	a, made, err := derive(password, s, salt)
	return a, subtle.ConstantTimeCompare(made, verify[:]) == 1, err
}

// Lock derives the keys for a new entry. front is what stands before its data: a
// salt of its own, and the bytes that show wrong passwords.
func Lock(password string, s Strength) (a AES, front []byte, err error) {
	front = make([]byte, s.SaltLength())
	rand.Read(front) // never fails
	a, verify, err := derive(password, s, front)
	return a, append(front, verify...), err
}

func derive(password string, s Strength, salt []byte) (a AES, verify []byte, err error) {
	n := s.KeyLength()
	keys, err := pbkdf2.Key(sha1.New, password, salt, iterations, 2*n+VerifyLength)
	if err != nil {
		return a, nil, err
	}
	a.encrypt, a.authenticate = keys[:n], keys[n:2*n]
	return a, keys[2*n:], nil
}

// ErrCode says that data is not what was locked with this password.
var ErrCode = errors.New("its authentication code is wrong")

// Reader decrypts what r reads, and at its end checks the code against it. The
// error is ErrCode when they differ.
func (a AES) Reader(r io.Reader, code [CodeLength]byte) (io.Reader, error) {
	block, err := aes.NewCipher(a.encrypt)
	if err != nil {
		return nil, err
	}
	return &aesReader{keyStream: keyStream{block: block}, r: r, mac: hmac.New(sha1.New, a.authenticate), code: code}, nil
}

// The key stream is made in pieces: all counters, then each encrypted in place,
// then one XOR. The counter is little-endian, so that the library's own counter
// mode is of no use.
const pieceLength = 1024

type keyStream struct {
	block   cipher.Block
	counter uint64
	stream  [pieceLength]byte
	left    []byte // of stream
}

// xor encrypts or decrypts the next bytes in place.
func (k *keyStream) xor(p []byte) {
	for len(p) > 0 {
		if len(k.left) == 0 {
			k.refill()
		}
		n := subtle.XORBytes(p, p, k.left)
		p, k.left = p[n:], k.left[n:]
	}
}

type aesReader struct {
	keyStream
	r       io.Reader
	mac     hash.Hash
	code    [CodeLength]byte
	pending sync.WaitGroup // until the last piece was authenticated
}

// Pieces from worthwhile on are authenticated while they are decrypted, on another
// core if one is free: both take about as long.
const worthwhile = 32 << 10

var copies = sync.Pool{New: func() any { return new([]byte) }}

func (a *aesReader) Read(p []byte) (int, error) {
	n, err := a.r.Read(p)
	a.pending.Wait()
	if n >= worthwhile {
		piece := copies.Get().(*[]byte)
		*piece = append((*piece)[:0], p[:n]...)
		a.pending.Go(func() {
			a.mac.Write(*piece)
			copies.Put(piece)
		})
	} else {
		a.mac.Write(p[:n])
	}
	a.xor(p[:n])
	if err == io.EOF {
		a.pending.Wait()
		if subtle.ConstantTimeCompare(a.mac.Sum(nil)[:CodeLength], a.code[:]) != 1 {
			err = ErrCode
		}
	}
	return n, err
}

func (k *keyStream) refill() {
	clear(k.stream[:])
	for at := 0; at < pieceLength; at += aes.BlockSize {
		k.counter++
		binary.LittleEndian.PutUint64(k.stream[at:], k.counter)
	}
	for at := 0; at < pieceLength; at += aes.BlockSize {
		k.block.Encrypt(k.stream[at:], k.stream[at:])
	}
	k.left = k.stream[:]
}

// Writer encrypts data in place, and writes it to w. Close
// writes the authentication code after; it does not close w.
func (a AES) Writer(w io.Writer) (io.WriteCloser, error) {
	block, err := aes.NewCipher(a.encrypt)
	if err != nil {
		return nil, err
	}
	return &aesWriter{keyStream: keyStream{block: block}, w: w, mac: hmac.New(sha1.New, a.authenticate)}, nil
}

type aesWriter struct {
	keyStream
	w   io.Writer
	mac hash.Hash
}

func (a *aesWriter) Write(p []byte) (int, error) {
	a.xor(p)
	a.mac.Write(p)
	return a.w.Write(p)
}

func (a *aesWriter) Close() error {
	_, err := a.w.Write(a.mac.Sum(nil)[:CodeLength])
	return err
}
