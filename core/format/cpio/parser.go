package cpio

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"io/fs"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/text/encoding"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/codec"
	"widecrate/core/fault"
)

// longestLink bounds the target of a symbolic link.
const longestLink = 4096

// member is an entry with where its data is.
type member struct {
	archive.Entry
	at      int64 // of its data
	padding int64
	sum     uint32
	summed  bool
}

// inode tells files from others of the same archive.
type inode struct{ device, number uint64 }

// parser goes from header to header.
type parser struct {
	in      blob.Front
	began   int64 // where this one did: padding counts from there
	behind  int64 // zeros since the end
	account *archive.Names
	files   []archive.PackageFile
	charset encoding.Encoding // of names that are not UTF-8; nil: they stay as they are
	waiting map[inode][]int   // names of a file whose data comes with the last of them
	given   map[inode]string  // the name of a file with several, whose data came
	names   []archive.Entry   // these names
	ready   []archive.Entry   // names that have their file now
	ended   bool
}

func damaged(at int64, format string, args ...any) error {
	return fault.New(fault.Damaged, "the header at offset %d: %w", at, fault.New(fault.Damaged, format, args...))
}

// next reads the header of the next entry, up to its data; a name of a file that came
// before has none. It returns io.EOF after the last trailer.
func (p *parser) next() (*member, error) {
	for {
		if len(p.ready) > 0 {
			e := p.ready[0]
			p.ready = p.ready[1:]
			return &member{Entry: e}, nil
		}
		at := p.in.Offset()
		d, err := p.begin()
		if err != nil {
			return nil, err
		}
		m, h, err := p.read(d, at)
		if err != nil {
			return nil, err
		}
		switch {
		case m == nil: // the trailer
			p.ended, p.began = true, p.in.Offset()
			p.abandon()
			clear(p.given)
		case h.links > 1 && m.Kind == archive.File && (d == &portable || d == &numbered) && m.Size == 0:
			if first, given := p.given[inode{h.device, h.inode}]; given { // some writers put the data with the first name
				m.Kind, m.Link = archive.Hardlink, first
				return m, nil
			}
			p.wait(h, m.Entry)
		default:
			p.named(h, m)
			return m, nil
		}
	}
}

// begin finds the next header.
func (p *parser) begin() (*dialect, error) {
	in := p.in.(*front)
	for {
		at := in.Offset()
		b, err := in.peek(len(magicNew))
		switch {
		case len(b) == 0 && err == io.EOF && p.ended:
			return nil, io.EOF
		case len(b) == 0 && err == io.EOF:
			return nil, damaged(at, "it is missing: the archive is cut off, or its end mark is")
		case err != nil && err != io.EOF:
			return nil, err
		}
		d := dialectOf(b)
		switch {
		case d != nil:
			p.ended, p.behind = false, 0
			return d, nil
		case !p.ended:
			return nil, damaged(at, "there is none")
		case b[0] == 0: // what fills up the last block
			b, _ := in.peek(4096) // as many as there are
			zeros := int64(len(b) - len(bytes.TrimLeft(b, "\x00")))
			p.behind += zeros
			err := in.Skip(zeros)
			if err == nil {
				err = archive.Behind(p.behind)
			}
			if err != nil {
				return nil, err
			}
			p.began = in.Offset()
		case in.unpacks():
			return nil, errPacked
		default:
			return nil, fault.New(fault.Damaged, "at offset %d, behind the end of the archive, stands something that is none", at)
		}
	}
}

// errPacked says that a packed archive follows.
var errPacked = errors.New("a packed archive follows")

// read reads a header and what belongs to it; nil: it is the trailer.
func (p *parser) read(d *dialect, at int64) (*member, header, error) {
	h, name, err := p.header(d, at)
	if err == nil {
		err = cutOff(at, p.in.Skip(p.pad(d)))
	}
	if err != nil {
		return nil, h, err
	}
	if name == trailer {
		return nil, h, nil
	}
	if err := p.account.Take(name); err != nil {
		return nil, h, err
	}
	name = p.decoded(name)
	m := &member{Entry: archive.Entry{Path: name, Method: "store", Modified: time.Unix(h.modified, 0), Size: h.size, Packed: h.size,
		Offset: at, Mode: fs.FileMode(h.mode) & fs.ModePerm, HasMode: true, SetID: h.mode&archive.ModeSetID != 0}, at: p.in.Offset(), sum: uint32(h.sum), summed: h.summed}
	if h.owned {
		m.Also |= archive.Owner
	}
	switch m.Kind = archive.KindOfMode(uint32(h.mode)); m.Kind {
	case archive.Folder:
		if trimmed := strings.TrimRight(name, "/"); trimmed != "" {
			m.Path = trimmed
		}
	case archive.Symlink:
		if h.size > longestLink {
			return nil, h, fault.New(fault.Unsafe, "the target of the link at offset %d has %d bytes", at, h.size)
		}
		target := make([]byte, h.size)
		if _, err := io.ReadFull(p.in, target); err != nil {
			return nil, h, cutOff(at, err)
		}
		m.Link, m.Size, m.Packed = p.decoded(strings.TrimRight(string(target), "\x00")), 0, 0
		m.padding = p.pad(d)
		return m, h, nil
	}
	m.padding = (d.align - (p.in.Offset()-p.began+h.size)%d.align) % d.align
	return m, h, nil
}

// header reads a header and its name.
func (p *parser) header(d *dialect, at int64) (h header, name string, err error) {
	b := make([]byte, d.header)
	if _, err := io.ReadFull(p.in, b); err != nil {
		return h, "", cutOff(at, err)
	}
	h, ok := d.parse(b)
	switch {
	case !ok:
		return h, "", damaged(at, "one of its numbers is none")
	case h.name < 1 || h.name > longestName:
		return h, "", damaged(at, "its name has %d bytes", h.name)
	case d == &numbered && h.inode >= uint64(len(p.files)):
		return h, "", damaged(at, "it is that of file %d, of %d that a package lists", h.inode, len(p.files))
	case d == &numbered:
		f := p.files[h.inode]
		return header{inode: f.Inode, mode: uint64(f.Mode), links: f.Links, modified: f.Modified, size: f.Size}, f.Path, nil
	}
	b = make([]byte, h.name)
	if _, err := io.ReadFull(p.in, b); err != nil {
		return h, "", cutOff(at, err)
	}
	name, _, _ = strings.Cut(string(b), "\x00")
	return h, name, nil
}

// decoded is a name in UTF-8, as far as somebody says how.
func (p *parser) decoded(name string) string {
	if p.charset != nil && !utf8.ValidString(name) {
		if text, err := p.charset.NewDecoder().String(name); err == nil {
			return text
		}
	}
	return name
}

// pad is how many bytes there are up to where the next thing starts.
func (p *parser) pad(d *dialect) int64 {
	return (d.align - (p.in.Offset()-p.began)%d.align) % d.align
}

func cutOff(at int64, err error) error {
	if fault.CutOff(err) {
		return damaged(at, "it is cut off")
	}
	return err
}

// wait keeps a name until the data of its file comes.
func (p *parser) wait(h header, e archive.Entry) {
	if p.waiting == nil {
		p.waiting = map[inode][]int{}
	}
	key := inode{h.device, h.inode}
	p.waiting[key] = append(p.waiting[key], len(p.names))
	p.names = append(p.names, e)
}

// named makes links of the names that waited for this file.
func (p *parser) named(h header, m *member) {
	if m.Kind != archive.File {
		return
	}
	key := inode{h.device, h.inode}
	if h.links > 1 {
		if p.given == nil {
			p.given = map[inode]string{}
		}
		p.given[key] = m.Path
	}
	for _, i := range p.waiting[key] {
		e := p.names[i]
		e.Kind, e.Link, e.Size, e.Packed = archive.Hardlink, m.Path, 0, 0
		p.ready = append(p.ready, e)
	}
	delete(p.waiting, key)
}

// abandon makes empty files of names that no data came for.
func (p *parser) abandon() {
	first := map[int]int{} // of those that wait, the one that they are names of
	for _, same := range p.waiting {
		for _, i := range same {
			first[i] = same[0]
		}
	}
	for i, e := range p.names {
		of, waits := first[i]
		if !waits {
			continue
		}
		if of != i {
			e.Kind, e.Link = archive.Hardlink, p.names[of].Path
		}
		p.ready = append(p.ready, e)
	}
	p.waiting, p.names = nil, nil
}

// front can look at what comes next.
type front struct {
	blob.Front
	ahead []byte // looked at, and not read yet
}

func (f *front) Offset() int64 { return f.Front.Offset() - int64(len(f.ahead)) }

func (f *front) peek(n int) ([]byte, error) {
	for len(f.ahead) < n {
		b := make([]byte, n-len(f.ahead))
		read, err := f.Front.Read(b)
		f.ahead = append(f.ahead, b[:read]...)
		if err != nil {
			return f.ahead, err
		}
	}
	return f.ahead[:n], nil
}

func (f *front) Read(p []byte) (int, error) {
	if len(f.ahead) > 0 {
		n := copy(p, f.ahead)
		f.ahead = f.ahead[n:]
		return n, nil
	}
	return f.Front.Read(p)
}

func (f *front) Skip(n int64) error {
	k := min(n, int64(len(f.ahead)))
	f.ahead = f.ahead[k:]
	return f.Front.Skip(n - k)
}

// methodHead is how many bytes show the compression method.
const methodHead = 64

func (f *front) unpacks() bool { _, found := f.method(); return found }

// method is that of the packed archive that comes next.
func (f *front) method() (codec.Method, bool) {
	b, _ := f.peek(methodHead) // a short one has less
	for _, m := range codec.Streams() {
		if m.Magic(b) {
			return m, true
		}
	}
	return codec.Method{}, false
}

// metered tells of what is decoded.
type metered struct {
	io.Reader
	tell func(bytes int64) error
}

func (m metered) Read(p []byte) (int, error) {
	n, err := m.Reader.Read(p)
	if m.tell != nil {
		if over := m.tell(int64(n)); over != nil {
			return 0, over
		}
	}
	return n, err
}

// unpack goes on in the packed archive that comes next.
func (p *parser) unpack(o archive.Options) (io.Closer, error) {
	in := p.in.(*front)
	m, _ := in.method()
	d, err := m.Decode(bufio.NewReaderSize(in, 256<<10), codec.Options{MaxMemory: o.MaxMemory, Dictionary: o.Dictionary})
	if err != nil {
		return nil, err
	}
	p.in, p.began, p.ended = &front{Front: blob.FrontStream(metered{d, o.Decoded})}, 0, false
	return d, nil
}
