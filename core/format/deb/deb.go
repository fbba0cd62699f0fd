// Package deb reads Debian packages (deb(5), format 2.0): an ar archive of two tars. Their
// files are the entries, those of the control data in a folder of their own. The files
// are checked against the MD5 sums that the package has of them.
package deb

import (
	"bytes"
	"crypto/md5" //nolint:gosec // it is what packages have
	"encoding/hex"
	"fmt"
	"io"
	"path"
	"strings"
	"sync/atomic"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/format/ar"
	"widecrate/core/format/digest"
	"widecrate/core/format/lone"
)

// ControlFolder is where the control data is.
const ControlFolder = "[control]"

// Format is a Debian package. It is only read.
var Format = archive.Format{
	Name:       "deb",
	Extensions: []string{".deb", ".udeb"},
	Hardlinks:  true,
	Identify: func(r io.ReaderAt, size int64) bool {
		var b [len(first)]byte
		_, err := r.ReadAt(b[:], 8) // behind the magic of ar
		return (err == nil || err == io.EOF) && ar.Starts(r) && string(b[:]) == first
	},
	OpenStream: func(r io.ReaderAt, size int64, o archive.Options) (archive.Stream, error) { return Open(r, size, o) },
}

// What the members of the ar archive are called, the compression of the tars aside.
const (
	first   = "debian-binary"
	control = "control.tar"
	data    = "data.tar"
	sums    = "md5sums"
)

// longestSums bounds the list of sums.
const longestSums = 64 << 20

// Stream goes through the control data, and then through the files.
type Stream struct {
	r       *reader
	size    int64
	options archive.Options
	next    int64  // where the next header of the ar archive is
	member  string // what is open, or was last
	start   int64  // of its data
	end     int64
	found   bool // that with the files
	tar     archive.Stream
	sums    map[string]string // by path
	list    *bytes.Buffer     // takes the list of sums while it passes by
	check   digest.Check      // of the current file
}

// reader knows how far it was read.
type reader struct {
	io.ReaderAt
	to atomic.Int64
}

func (r *reader) ReadAt(p []byte, at int64) (int, error) {
	n, err := r.ReaderAt.ReadAt(p, at)
	if n > 0 {
		r.to.Store(max(r.to.Load(), at+int64(n)))
	}
	return n, err
}

// Open begins with the package of size bytes in r, which is read forwards.
func Open(r io.ReaderAt, size int64, o archive.Options) (*Stream, error) {
	return &Stream{r: &reader{ReaderAt: r}, size: size, options: o, next: ar.First, sums: map[string]string{}}, nil
}

// Next moves to the next entry; see archive.Stream.
func (s *Stream) Next() (archive.Entry, error) {
	if s.list != nil {
		if _, err := archive.Copy(io.Discard, s); err != nil {
			return archive.Entry{}, err
		}
		s.takeSums()
	}
	for {
		if s.tar == nil {
			if err := s.open(); err != nil {
				return archive.Entry{}, err
			}
			continue
		}
		e, err := s.tar.Next()
		if err == io.EOF {
			s.tar.Close()
			s.tar = nil
			continue
		}
		if err != nil {
			return archive.Entry{}, fault.At(s.member, err)
		}
		s.begin(&e)
		return e, nil
	}
}

// open opens the next tar, if the next entry of the ar archive is one.
func (s *Stream) open() error {
	e, from, next, err := ar.Header(s.r, s.next)
	if err == io.EOF && s.r.to.Load() < s.end {
		var last [1]byte
		if n, _ := s.r.ReadAt(last[:], s.end-1); n == 0 { // a tar may end before its member does
			return s.cutOff()
		}
	}
	if err == io.EOF && !s.found {
		return fault.New(fault.Damaged, "it is a package without a data.tar").Advise("it is cut off: get it again")
	}
	if err != nil {
		return err
	}
	s.member, s.start, s.end, s.next = e.Path, from, from+e.Size, next
	if s.end > s.size {
		return s.cutOff()
	}
	isData := strings.HasPrefix(e.Path, data)
	if !isData && !strings.HasPrefix(e.Path, control) {
		return nil
	}
	s.found = s.found || isData
	size := e.Size
	if s.size == blob.Endless {
		size = blob.Endless
	}
	s.tar, err = lone.OpenTar(io.NewSectionReader(s.r, from, e.Size), size, s.options)
	return fault.At(e.Path, err)
}

func (s *Stream) cutOff() error {
	return fault.New(fault.Damaged, "%w", &archive.Break{Offset: s.start, CutOff: true, Err: fmt.Errorf("%s at offset %d is cut off", s.member, s.start)})
}

// begin makes an entry of the package of one of a tar.
func (s *Stream) begin(e *archive.Entry) {
	e.Path = strings.TrimPrefix(e.Path, "./")
	s.list, s.check = nil, digest.Check{}
	if strings.HasPrefix(s.member, control) {
		if e.Kind == archive.File && e.Path == sums {
			s.list = &bytes.Buffer{}
		}
		if e.Path = path.Join(ControlFolder, e.Path); e.Kind == archive.Hardlink {
			e.Link = path.Join(ControlFolder, e.Link)
		}
		return
	}
	if e.Kind == archive.Hardlink {
		e.Link = strings.TrimPrefix(e.Link, "./")
	}
	if want, has := s.sums[e.Path]; has && e.Kind == archive.File {
		s.check, e.Summed = digest.Check{Name: "MD5", Hash: md5.New(), Want: want}, true //nolint:gosec // as above
	}
}

// takeSums reads the list: a sum of 32 digits, two spaces, and a path.
func (s *Stream) takeSums() {
	for line := range strings.Lines(s.list.String()) {
		line = strings.TrimRight(line, "\r\n")
		if sum, name, found := strings.Cut(line, " "); found && len(sum) == hex.EncodedLen(md5.Size) {
			s.sums[strings.TrimPrefix(strings.TrimLeft(name, " *"), "./")] = strings.ToLower(sum)
		}
	}
	s.list = nil
}

// Read reads the data of the current entry.
func (s *Stream) Read(p []byte) (int, error) {
	if s.tar == nil {
		return 0, io.EOF
	}
	n, err := s.tar.Read(p)
	if s.list != nil && s.list.Len() < longestSums {
		s.list.Write(p[:n])
	}
	return n, s.check.Take(p[:n], err)
}

// Remarks are those of the tar that was read last.
func (s *Stream) Remarks() []archive.Remark {
	if len(s.sums) > 0 {
		return []archive.Remark{{Text: "its files are checked against the MD5 sums in it"}}
	}
	return nil
}

// Close lets go of the tar that is open.
func (s *Stream) Close() error {
	if s.tar != nil {
		return s.tar.Close()
	}
	return nil
}
