// Package lone reads and writes compressed streams as archives: one compressed
// file on its own is an archive of one entry, and a compressed tar is a tar, a
// compressed cpio a cpio.
package lone

import (
	"bufio"
	"cmp"
	"errors"
	"io"
	"math"
	"path"
	"slices"
	"strings"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/codec"
	"widecrate/core/fault"
	"widecrate/core/format/cpio"
	"widecrate/core/format/tar"
)

// head is how many bytes of a file show its method.
const head = 64

// short are the extensions that stand for two.
var short = map[string][]string{codec.Gzip: {".tgz"}, codec.Bzip2: {".tbz2", ".tbz"}, codec.XZ: {".txz"}, codec.Zstd: {".tzst"}, codec.LZ4: {".tlz4"}, codec.LZMAFile: {".tlz"}, codec.Compress: {".taz"}}

// inner is a kind of archive that is compressed as a whole.
type inner struct {
	name   string
	starts func(head []byte) bool
	empty  func(head []byte, rest io.Reader) bool // nil: there are no empty ones
	stream func(r io.Reader, o archive.Options) archive.Stream
}

var (
	innerTar  = inner{"tar", tar.IsHeader, tar.IsEmpty, func(r io.Reader, o archive.Options) archive.Stream { return tar.NewStream(r, o) }}
	innerCPIO = inner{"cpio", cpio.IsHeader, nil, func(r io.Reader, o archive.Options) archive.Stream { return cpio.NewStream(r, o) }}
)

// Formats returns the formats of a compression method.
func Formats(m codec.Method) []archive.Format {
	file := archive.Format{
		Name:       cmp.Or(m.Format, m.Name),
		Extensions: m.Extensions,
		Identify:   func(r io.ReaderAt, _ int64) bool { return identify(r, m) },
		OpenStream: func(r io.ReaderAt, size int64, o archive.Options) (archive.Stream, error) {
			return openFile(m, r, size, o)
		},
		HoldsOne: true,
	}
	packed, images := packedFormat(m, innerTar), packedFormat(m, innerCPIO)
	if m.Encode != nil {
		file.NewWriter = func(w io.Writer, o archive.WriteOptions) (archive.Writer, error) {
			enc, err := m.Encode(w, o.Encode)
			return &fileWriter{enc: enc}, err
		}
		packed.NewWriter = func(w io.Writer, o archive.WriteOptions) (archive.Writer, error) {
			enc, err := m.Encode(w, o.Encode)
			return &tarWriter{tar.NewWriter(enc), enc}, err
		}
	}
	packed.Extensions = append(packed.Extensions, short[m.Name]...)
	return []archive.Format{packed, images, file}
}

// packedFormat is an archive of one kind that is compressed as a whole.
func packedFormat(m codec.Method, kind inner) archive.Format {
	f := archive.Format{
		Hardlinks: true,
		NeedsSize: true,
		Name:      kind.name + m.Extensions[0],
		Identify:  func(r io.ReaderAt, size int64) bool { return identify(r, m) && holds(kind, m, r, size, nil) },
		OpenStream: func(r io.ReaderAt, size int64, o archive.Options) (archive.Stream, error) {
			d, err := decode(m, r, size, o)
			if err != nil {
				return nil, err
			}
			return &packedStream{kind.stream(d, o), d}, nil
		},
	}
	for _, ext := range m.Extensions {
		f.Extensions = append(f.Extensions, "."+kind.name+ext)
	}
	return f
}

// OpenTar opens a tar that is compressed in any way, or in none. What comes in order,
// of size blob.Endless, is read forwards.
func OpenTar(r io.ReaderAt, size int64, o archive.Options) (archive.Stream, error) {
	return openInner(innerTar, r, size, o)
}

// OpenCPIO does the same with a cpio.
func OpenCPIO(r io.ReaderAt, size int64, o archive.Options) (archive.Stream, error) {
	return openInner(innerCPIO, r, size, o)
}

func openInner(kind inner, r io.ReaderAt, size int64, o archive.Options) (archive.Stream, error) {
	in := &headed{r: r, head: make([]byte, head)}
	n, err := r.ReadAt(in.head, 0)
	if err != nil && err != io.EOF {
		return nil, fault.Reading("", err)
	}
	in.head = in.head[:n]
	for _, m := range codec.Streams() {
		if m.Magic(in.head) {
			return packedFormat(m, kind).OpenStream(in, size, o)
		}
	}
	return kind.stream(bufio.NewReaderSize(io.NewSectionReader(in, 0, size), 256<<10), o), nil
}

// headed has the start of what it reads at hand, which may come only once.
type headed struct {
	r    io.ReaderAt
	head []byte
}

func (h *headed) ReadAt(p []byte, at int64) (n int, err error) {
	if at < int64(len(h.head)) {
		if n = copy(p, h.head[at:]); n == len(p) {
			return n, nil
		}
	}
	rest, err := h.r.ReadAt(p[n:], at+int64(n))
	return n + rest, err
}

func identify(r io.ReaderAt, m codec.Method) bool {
	var start [head]byte
	n, err := r.ReadAt(start[:], 0)
	return (err == nil || err == io.EOF) && m.Magic(start[:n])
}

// holds looks whether what is compressed starts like an archive of some kind.
func holds(kind inner, m codec.Method, r io.ReaderAt, size int64, dictionary []byte) bool {
	// What memory is allowed is known when it is opened; this little takes none.
	d, err := m.Decode(bufio.NewReader(io.NewSectionReader(r, 0, size)), codec.Options{MaxMemory: math.MaxInt64, Dictionary: dictionary})
	if err != nil {
		return false
	}
	defer d.Close()
	var block [512]byte
	n, err := io.ReadFull(d, block[:])
	if kind.empty != nil && err == nil && kind.empty(block[:], d) {
		return true
	}
	return (err == nil || err == io.ErrUnexpectedEOF) && kind.starts(block[:n])
}

// Inside is the format of a compressed file that is an archive, which only shows with the
// dictionary that it was packed with; of any other, the format that it was found to be of.
func Inside(f archive.Format, r io.ReaderAt, size int64, dictionary []byte) archive.Format {
	if dictionary == nil || !f.HoldsOne {
		return f
	}
	for _, m := range codec.Streams() {
		if cmp.Or(m.Format, m.Name) != f.Name {
			continue
		}
		for _, kind := range []inner{innerTar, innerCPIO} {
			if holds(kind, m, r, size, dictionary) {
				return packedFormat(m, kind)
			}
		}
	}
	return f
}

// packedStream is an archive that is compressed as a whole.
type packedStream struct {
	archive.Stream
	d *decoded
}

func (s *packedStream) Close() error {
	s.Stream.Close() // read only: nothing can be lost
	return s.d.Close()
}

// Summed is that of the compressed data.
func (s *packedStream) Summed() bool { return s.d.Summed() }

// Remarks are those of the archive, and of the compressed data.
func (s *packedStream) Remarks() []archive.Remark {
	return append(archive.Remarks(s.Stream), s.d.Remarks()...)
}

// Next moves on; at the end the rest of the compressed data is read, too, so
// that its checksum is checked against it.
func (s *packedStream) Next() (archive.Entry, error) {
	e, err := s.Stream.Next()
	e.Packed = archive.Unknown
	if err == io.EOF {
		if _, rest := io.Copy(io.Discard, s.d); rest != nil {
			return e, rest
		}
	}
	return e, s.placed(err)
}

func (s *packedStream) Read(p []byte) (int, error) {
	n, err := s.Stream.Read(p)
	return n, s.placed(err)
}

// WriteTo is that of the archive, which may know of holes.
func (s *packedStream) WriteTo(w io.Writer) (int64, error) {
	n, err := archive.Copy(w, s.Stream)
	return n, s.placed(err)
}

// placed says of damage that only the archive shows where it is in the compressed
// data.
func (s *packedStream) placed(err error) error {
	e, ok := errors.AsType[*fault.Error](err)
	if !ok || e.Kind != fault.Damaged {
		return err
	}
	if _, known := errors.AsType[*archive.Break](err); known {
		return err
	}
	return fault.At(e.Where, fault.New(fault.Damaged, "%w", &archive.Break{Offset: s.d.place(), Err: e.Err}))
}

// stream is one compressed file, or those of a gzip stream whose members have different names.
type stream struct {
	*decoded
	entry   archive.Entry  // the next one
	members *codec.Members // nil: there are none
	given   bool           // the first entry
	at      int64          // in the decoded data
	rest    []byte         // that was read already, of the next file
}

func openFile(m codec.Method, r io.ReaderAt, size int64, o archive.Options) (archive.Stream, error) {
	d, err := decode(m, r, size, o)
	if err != nil {
		return nil, err
	}
	e := archive.Entry{Path: nameFrom(o.Name, m), Method: m.Name, Size: archive.Unknown, Packed: size}
	if size == blob.Endless {
		e.Packed = archive.Unknown
	}
	s := &stream{decoded: d, entry: e}
	if m.Name == codec.Gzip {
		if header, err := codec.ReadGzipHeader(bufio.NewReader(io.NewSectionReader(r, 0, size))); err == nil { // what is wrong with it shows when it is decoded
			s.describe(header)
		}
	}
	if several, ok := d.decoder.(interface{ Members() *codec.Members }); ok {
		s.members = several.Members()
	}
	return s, nil
}

// describe takes name and time from the header of a gzip member.
func (s *stream) describe(header codec.GzipHeader) {
	s.entry.Modified = header.Modified
	if name := header.FileName(); name != "" {
		s.entry.Path = name
	}
}

func (s *stream) Next() (archive.Entry, error) {
	if !s.given {
		s.given = true
		return s.entry, nil
	}
	if _, err := io.Copy(io.Discard, s); err != nil {
		return archive.Entry{}, err
	}
	next, more := s.nextMember()
	if !more {
		return archive.Entry{}, io.EOF
	}
	s.members.Take()
	s.entry.Packed = archive.Unknown
	s.describe(next.Header)
	return s.entry, nil
}

// nextMember is the one that comes next, as far as that is known: the decoder knows it before it
// gives what is in it.
func (s *stream) nextMember() (m codec.Member, known bool) {
	if s.members != nil {
		m, known = s.members.Next()
	}
	return m, known
}

// Read reads up to where the next file starts.
func (s *stream) Read(p []byte) (int, error) {
	if len(s.rest) == 0 {
		n, err := s.decoded.Read(p)
		if next, known := s.nextMember(); !known || next.At >= s.at+int64(n) {
			s.at += int64(n)
			return n, err
		}
		s.rest = slices.Clone(p[:n]) // an error comes again
	}
	n := len(s.rest)
	if next, known := s.nextMember(); known {
		n = int(min(int64(n), next.At-s.at))
	}
	if n == 0 {
		return 0, io.EOF
	}
	n = copy(p, s.rest[:n])
	s.at += int64(n)
	s.rest = s.rest[n:]
	return n, nil
}

// nameFrom is what a file is called when it is decompressed.
func nameFrom(name string, m codec.Method) string {
	for _, ext := range m.Extensions {
		if n := len(name) - len(ext); n > 0 && strings.EqualFold(name[n:], ext) {
			return name[:n]
		}
	}
	if name == "" {
		return "data"
	}
	return name + ".data"
}

// tarWriter writes a compressed tar.
type tarWriter struct {
	*tar.Writer
	enc io.WriteCloser
}

func (w *tarWriter) Abort() { codec.Abort(w.enc) }

func (w *tarWriter) Close() error {
	if err := w.Writer.Close(); err != nil {
		return err
	}
	return fault.Writing("", w.enc.Close())
}

// fileWriter compresses one file.
type fileWriter struct {
	enc   io.WriteCloser
	given bool
}

func (w *fileWriter) Add(e archive.Entry, content io.Reader) (archive.Entry, error) {
	if e.Kind != archive.File || w.given {
		return e, fault.New(fault.Usage, "this format holds one file and nothing else").Advise("a tar, compressed the same way, holds many: .tar.gz and the like")
	}
	w.given = true
	if d, ok := w.enc.(codec.Describer); ok {
		d.Describe(path.Base(e.Path), e.Modified)
	}
	n, err := io.Copy(w.enc, content)
	if err != nil {
		return e, fault.Writing("", err)
	}
	if e.Size != archive.Unknown && n != e.Size {
		return e, fault.New(fault.Unreadable, "it changed while it was read: %d bytes at first, %d now", e.Size, n)
	}
	e.Size = n
	return e, nil
}

func (w *fileWriter) Abort() { codec.Abort(w.enc) }

func (w *fileWriter) Close() error { return fault.Writing("", w.enc.Close()) }
