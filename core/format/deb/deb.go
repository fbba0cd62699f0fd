// Package deb reads Debian packages (deb(5), format 2.0): an ar archive of two tars. Their
// files are the entries, those of the control data in a folder of their own. The files
// are checked against the MD5 sums that the package has of them.
package deb

import (
	"bytes"
	"crypto/md5" //nolint:gosec // it is what packages have
	"encoding/hex"
	"io"
	"path"
	"strings"

	"widecrate/core/archive"
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
	r       io.ReaderAt
	options archive.Options
	left    []member // tars that come
	at      *member
	tar     archive.Stream
	sums    map[string]string // by path
	list    *bytes.Buffer     // takes the list of sums while it passes by
	check   digest.Check      // of the current file
}

// member is one of the tars.
type member struct {
	name       string
	from, size int64
	control    bool
}

// Open reads the headers of the package of size bytes in r.
func Open(r io.ReaderAt, size int64, o archive.Options) (*Stream, error) {
	outer, err := ar.Open(r, size, o)
	if err != nil {
		return nil, err
	}
	s := &Stream{r: r, options: o, sums: map[string]string{}}
	found := 0
	for i, e := range outer.Entries() {
		from, to := outer.Extent(i)
		isControl, isData := strings.HasPrefix(e.Path, control), strings.HasPrefix(e.Path, data)
		if !isControl && !isData {
			continue
		}
		s.left = append(s.left, member{e.Path, from, to - from, isControl})
		if isData {
			found++
		}
	}
	if found == 0 {
		return nil, fault.New(fault.Damaged, "it is a package without a data.tar").Advise("it is cut off: get it again")
	}
	return s, nil
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
			if len(s.left) == 0 {
				return archive.Entry{}, io.EOF
			}
			s.at, s.left = &s.left[0], s.left[1:]
			var err error
			if s.tar, err = lone.OpenTar(io.NewSectionReader(s.r, s.at.from, s.at.size), s.at.size, s.options); err != nil {
				return archive.Entry{}, fault.At(s.at.name, err)
			}
		}
		e, err := s.tar.Next()
		if err == io.EOF {
			s.tar.Close()
			s.tar = nil
			continue
		}
		if err != nil {
			return archive.Entry{}, fault.At(s.at.name, err)
		}
		s.begin(&e)
		return e, nil
	}
}

// begin makes an entry of the package of one of a tar.
func (s *Stream) begin(e *archive.Entry) {
	e.Path = strings.TrimPrefix(e.Path, "./")
	s.list, s.check = nil, digest.Check{}
	if s.at.control {
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
