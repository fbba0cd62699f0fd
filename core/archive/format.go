package archive

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"time"

	"golang.org/x/text/encoding"

	"widecrate/core/codec"
	"widecrate/core/fault"
)

// A Reader gives access to any entry of an archive at any time.
type Reader interface {
	// Entries lists the archive in its own order. The slice belongs to the
	// Reader and must not be changed.
	Entries() []Entry

	// Open returns the decoded data of the i-th entry. Size and checksum are
	// verified while reading: io.EOF means that all of it was right, and data
	// that differs from the claims gives an error of kind fault.Damaged
	// instead. Several entries may be open at once, on several goroutines.
	Open(i int) (io.ReadCloser, error)

	// Close frees what the Reader holds. The underlying io.ReaderAt is the
	// caller's.
	Close() error
}

// Extents is a Reader that says where the bytes of an entry are.
type Extents interface {
	// Extent is where header and data of the i-th entry lie in the archive, in
	// bytes, or a little more.
	Extent(i int) (from, to int64)
}

// Stores is a Reader that says where data lies that is stored as it is.
type Stores interface {
	// Stored is where the data of the i-th entry lies in the archive; its size is
	// Unknown where it is packed or locked.
	Stored(i int) (from, size int64, err error)
}

// A Stream goes through an archive once, in order, as its bytes arrive.
type Stream interface {
	// Next moves to the next entry, leaving out what was not read of the one
	// before. It returns io.EOF after the last.
	Next() (Entry, error)

	// Read reads the decoded data of the current entry, verified as in
	// Reader.Open.
	io.Reader

	io.Closer
}

// A HoleWriter takes the holes of a sparse file without their zeros. The data of
// an entry with Holes is an io.WriterTo that makes use of it.
type HoleWriter interface {
	io.Writer

	// WriteHole continues after n bytes that are zeros.
	WriteHole(n int64) error
}

// A Writer makes an archive, entry by entry.
type Writer interface {
	// Add writes one entry. data is read to its end for a File, and may be nil
	// for the other kinds. A Size that is known is checked against the data. The
	// entry comes back as it was stored, with sizes, method and checksum.
	Add(e Entry, data io.Reader) (Entry, error)

	// Close completes the archive; the underlying writer stays open.
	Close() error

	// Abort gives the archive up, instead of Close. Afterwards nothing more
	// is written to the underlying writer.
	Abort()
}

// A Preparer is a Writer of which the costly part of Add can be done beforehand,
// for many entries at a time.
type Preparer interface {
	Writer

	// Prepare packs a file of up to PrepareLimit bytes. It may be called on
	// several goroutines, and gives what AddPrepared needs.
	Prepare(e Entry, data []byte) (Entry, []byte, error)

	// AddPrepared writes an entry as Prepare gave it.
	AddPrepared(e Entry, packed []byte) error
}

// PrepareLimit is the largest data that is prepared.
const PrepareLimit = 1 << 20

// Options fill in what an archive does not say.
type Options struct {
	Name       string            // of the archive's file; a compressed file is called after it
	Zone       *time.Location    // of times that do not say theirs; nil: the local one
	Encoding   encoding.Encoding // of entry names that do not say theirs; nil: it is detected
	Passwords  []string          // candidates for locked entries, tried in order
	Salvage    bool              // list what can be had of a damaged archive; see Broken
	MaxMemory  int64             // what a decoder's header may ask for, in bytes; 0: a safe default
	Dictionary []byte            // that data was packed with, where its method has such; nil: none
	Parts      Parts             // that the archive lies in
	Names      *Names            // account of its paths; nil: each counts alone
	Files      []PackageFile     // of a cpio whose headers only number the files of its package

	// Decoded gets all that is decoded of an archive which is compressed as a
	// whole: headers, what is skipped, and what stands behind its end. Its error ends
	// that; nil: nobody counts.
	Decoded func(bytes int64) error
}

// PackageFile is what the header of a package says of one of its files.
type PackageFile struct {
	Path     string
	Mode     uint32 // as in POSIX, with the kind
	Modified int64  // seconds since 1970
	Size     int64  // bytes in the cpio: of several names of a file, only the last has them
	Inode    uint64 // tells files from others of the same package
	Links    uint64 // names that the file has
}

// A Break is in the error, of kind fault.Damaged, of an archive that is read from
// front to back: where its bytes stop making sense, or end too early.
type Break struct {
	Offset int64 // in the archive, in bytes; at or shortly after the break
	CutOff bool  // more bytes should follow
	Err    error
}

func (b *Break) Error() string { return b.Err.Error() }
func (b *Break) Unwrap() error { return b.Err }

// WriteOptions shape a new archive.
type WriteOptions struct {
	Method   string // of compression, one of Format.Methods; empty: the usual one
	Encode   codec.EncodeOptions
	Password string // locks the data of files; empty: nothing is locked
}

// A Format is one kind of archive. At least one of Open and OpenStream is set; with
// both, the first is for content that can be read at any place, the other for content
// that comes in order.
type Format struct {
	Name       string
	Extensions []string // in lower case but for a last Z, with the dot; the first is the usual one

	// Identify reports whether the content is in this format. It reads little
	// and never fails: what cannot be read is not in the format.
	Identify func(r io.ReaderAt, size int64) bool

	// IdentifyBehind reports the same of content that starts with something
	// else. It is asked when no format knows the start: another archive may
	// well end with this one inside. It may be nil.
	IdentifyBehind func(r io.ReaderAt, size int64) bool

	// Open reads the directory of an archive of size bytes. An error of kind
	// fault.Damaged or fault.Unsafe says what is wrong with it; ErrOrdered, that
	// OpenStream has to be used.
	Open func(r io.ReaderAt, size int64, o Options) (Reader, error)

	// OpenStream opens an archive that is gone through in order.
	OpenStream func(r io.ReaderAt, size int64, o Options) (Stream, error)

	// NewWriter starts an archive; nil: the format is only read. Where w also is an io.WriterAt, headers
	// may be completed afterwards; bytes before the start are never touched.
	NewWriter func(w io.Writer, o WriteOptions) (Writer, error)

	// Continues returns how many bytes at the start of content only say that it goes on
	// where other content ended, as that of a tape does; 0: nothing says so. It may be nil.
	Continues func(r io.ReaderAt) (headers int64)

	// Methods are the compression methods to choose from for its entries; nil:
	// there is nothing to choose. The first is the usual one.
	Methods []string

	// HoldsTime reports whether the format can hold a time, to a few seconds; nil: any.
	HoldsTime func(t time.Time) bool

	Encrypts  bool // the writer can lock entries with a password
	Hardlinks bool // a second name of a file is stored as one
	NeedsSize bool // the size of a file must be known before its data
	HoldsOne  bool // there is one entry, and its path may not be kept
}

// ErrUnsupported is in the error of Reader.Open for an entry that is stored in a
// way that is not read: it is no sign of damage, and the others may be fine.
var ErrUnsupported = errors.New("not a method that widecrate reads")

// ErrOrdered is the error of Format.Open for an archive whose entries cannot be had
// but in order.
var ErrOrdered = errors.New("it can only be gone through in order")

// Broken says why entries may be missing from the list of a damaged archive
// that was opened with Salvage; nil where all are there.
func Broken(r Reader) error {
	if b, ok := r.(interface{ Broken() error }); ok {
		return b.Broken()
	}
	return nil
}

// ModeSetID are the bits of a Unix mode that let a file run with the rights of its owner or
// group.
const ModeSetID = 0o6000

// A Remark is something that a person may want to know of how an archive was read:
// what was assumed about its names, or a comment in it.
type Remark struct {
	Text     string
	Hint     fault.Hint // what can be done about it
	Reported bool       // also to those who do not ask

	Partial bool // what is read is not all that is there
}

// A RemarkList is what is remarked on one archive. In JSON it is the texts of those that are reported.
type RemarkList []Remark

// Reported are those that everybody sees.
func (l RemarkList) Reported() (reported []Remark) {
	for _, r := range l {
		if r.Reported {
			reported = append(reported, r)
		}
	}
	return reported
}

// IsZero reports whether none is.
func (l RemarkList) IsZero() bool { return len(l.Reported()) == 0 }

// MarshalJSON gives the texts.
func (l RemarkList) MarshalJSON() ([]byte, error) {
	var texts []string
	for _, r := range l.Reported() {
		texts = append(texts, r.Text)
	}
	return json.Marshal(texts)
}

// Remarks are those about an archive, a Reader or a Stream; of the latter, when it
// was gone through.
func Remarks(r any) []Remark {
	if m, ok := r.(interface{ Remarks() []Remark }); ok {
		return m.Remarks()
	}
	return nil
}

// Summed reports whether a checksum of all the data comes with a Stream, and is checked when it
// is gone through to its end.
func Summed(s Stream) bool {
	m, ok := s.(interface{ Summed() bool })
	return ok && m.Summed()
}

// longestLink bounds what is read as the target of a symbolic link: the
// longest path that the common systems take.
const longestLink = 4096

// LinkTarget returns where the i-th entry, a link, points to: from its header,
// or from its data where the format keeps it there.
func LinkTarget(r Reader, i int) (string, error) {
	e := r.Entries()[i]
	if e.Link != "" {
		return e.Link, nil
	}
	data, err := r.Open(i)
	if err != nil {
		return "", err
	}
	defer data.Close()
	return Target(data)
}

// Target reads where a link points to from its data. A target that is longer than any
// path is of kind fault.Unsafe; one of several lines is of kind fault.Damaged: it is text,
// of which a changed bit made a link, as kinds have no checksum in a ZIP archive.
func Target(data io.Reader) (string, error) {
	target, err := io.ReadAll(io.LimitReader(data, longestLink+1))
	switch {
	case err != nil:
		return "", err
	case len(target) > longestLink:
		return "", fault.New(fault.Unsafe, "its target is longer than %d bytes", longestLink)
	case bytes.ContainsFunc(target, func(r rune) bool { return r < ' ' }):
		return "", fault.New(fault.Damaged, "its kind is link, and its data is no path")
	}
	return string(target), nil
}
