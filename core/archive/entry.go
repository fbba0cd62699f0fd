// Package archive has the nouns that every format and every command shares: an
// Entry, the three ways to go through an archive (Reader, Stream, Writer), and
// a Format that brings them together. It reads and writes nothing itself.
package archive

import (
	"io/fs"
	"time"
)

// Kind is what an entry is.
type Kind uint8

// The kinds of entry.
const (
	File Kind = iota
	Folder
	Symlink
	Hardlink
	Device
	Pipe
	Other
)

var kindNames = [...]string{"file", "folder", "link", "hard link", "device", "pipe", "other"}

func (k Kind) String() string { return kindNames[k] }

// MarshalText gives the name, in JSON too.
func (k Kind) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// Unknown stands for a size that the archive does not record in advance.
const Unknown int64 = -1

// An Entry is one member of an archive, as the archive describes the member. All
// fields are claims: only data read through Reader.Open or Stream has been checked.
type Entry struct {
	// Path is the stored name in UTF-8 with '/' between folders. It is not
	// cleaned: it may be absolute or hold "..". A folder has no trailing '/'.
	Path      string
	Link      string      // target of a link, where the header holds it; see LinkTarget
	Method    string      // name of the compression method
	Modified  time.Time   // zero when not recorded
	Size      int64       // bytes of data, or Unknown
	Packed    int64       // bytes in the archive, or Unknown
	Holes     int64       // bytes of Size that a sparse file does not store: zeros
	Offset    int64       // of its header in the archive, decompressed if that is compressed as a whole
	Mode      fs.FileMode // permission bits only
	CRC32     uint32      // checksum of the data (IEEE), valid when HasCRC32
	Kind      Kind
	HasMode   bool // whether the archive records permissions
	HasCRC32  bool
	Encrypted bool
	Summed    bool // the data is checked against a sum of its own of another kind
	SetID     bool // the file would run with the rights of its owner or group: no command takes that over
	Also      Facts
}

// Facts are what an archive records of an entry besides: they stay where an entry is copied as
// it is packed, and are lost where it is packed again.
type Facts uint8

// The facts.
const (
	Owner      Facts = 1 << iota // a user and a group other than number 0
	Comment                      // a text about it
	Attributes                   // extended attributes, or lists of who may do what
	Times                        // of access, change or creation
)
