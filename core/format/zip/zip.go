// Package zip reads and writes ZIP archives after the published application
// note (.ZIP File Format Specification, version 6.3.10); section numbers in
// this package are its own. It decodes through core/codec, and knows nothing
// of where entries go.
package zip

import (
	"encoding/binary"
	"io"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

// Format is the ZIP format.
var Format = archive.Format{
	Name:           "zip",
	Extensions:     []string{".zip"},
	Identify:       identify,
	IdentifyBehind: identifyBehind,
	Open:           func(r io.ReaderAt, size int64, o archive.Options) (archive.Reader, error) { return Open(r, size, o) },
	NewWriter:      func(w io.Writer, o archive.WriteOptions) (archive.Writer, error) { return NewWriter(w, o), nil },
	Methods:        writable,
	Encrypts:       true,
	HoldsTime:      holdsTime,
}

// Signatures and the lengths of the fixed parts of each record.
const (
	localSignature      = 0x04034b50 // 4.3.7
	localLength         = 30
	descriptorSignature = 0x08074b50 // 4.3.9.3
	descriptorLength    = 24         // the longest
	centralSignature    = 0x02014b50 // 4.3.12
	centralLength       = 46
	end64Signature      = 0x06064b50 // 4.3.14
	end64Length         = 56
	locatorSignature    = 0x07064b50 // 4.3.15
	locatorLength       = 20
	endSignature        = 0x06054b50 // 4.3.16
	endLength           = 22
	splitSignature      = descriptorSignature // at the start of a split archive, 8.5.4
	unsplitSignature    = 0x30304b50          // the same where one segment was enough, 8.5.5
)

// Bits of the general purpose flag, 4.4.4.
const (
	flagEncrypted  = 1 << 0
	flagLZMAEnd    = 1 << 1 // of LZMA: its data has an end mark
	flagLarge      = 1 << 1 // of implode: a window of 8 KiB
	flagLiterals   = 1 << 2 // of implode: literals have codes
	flagStrong     = 1 << 6
	flagDescriptor = 1 << 3
	flagUTF8       = 1 << 11
)

// Header IDs of extra fields, 4.5.2 and 4.6.1.
const (
	extraZIP64       = 0x0001
	extraNTFS        = 0x000a // 4.5.5
	extraTimestamp   = 0x5455 // extended timestamp: flags, then Unix seconds
	extraUnicodePath = 0x7075 // 4.6.9
	extraUnix        = 0x000d // 4.5.7: times, user and group
	extraUnixOwner   = 0x7875 // user and group of any length
	extraRights      = 0x4453 // who may do what, on Windows
	extraAES         = 0x9901 // appendix E: version, vendor, strength, method
)

// Hosts of the version-made-by field, 4.4.2.2.
const (
	hostUnix   = 3
	hostDarwin = 19
)

// methodAES stands for "see the field", where the method really is.
const methodAES = 99

const (
	max16 = 0xffff
	max32 = 0xffffffff // stands for "see the ZIP64 field", 4.4.1.4
)

// The folder and read-only bits of the lower half of the external attributes, 4.4.15;
// in the upper half is the mode of Unix.
const (
	dosReadOnly = 0x01
	dosFolder   = 0x10
)

func identify(r io.ReaderAt, _ int64) bool {
	for _, signature := range []uint32{localSignature, endSignature, splitSignature, unsplitSignature} {
		if startsWith(r, signature) {
			return true
		}
	}
	return false
}

func identifyBehind(r io.ReaderAt, size int64) bool {
	c := newCached(r)
	defer c.release()
	_, err := findEnd(c, size, nil)
	return err == nil || fault.Of(err) == fault.Incomplete
}

var le = binary.LittleEndian

// fields reads little-endian fields one after the other. Reading past the end
// gives zeros and sets short.
type fields struct {
	b     []byte
	short bool
}

func (f *fields) take(n int) []byte {
	if len(f.b) < n {
		f.short = true
		return make([]byte, n)
	}
	head := f.b[:n]
	f.b = f.b[n:]
	return head
}

func (f *fields) uint16() uint16 { return le.Uint16(f.take(2)) }
func (f *fields) uint32() uint32 { return le.Uint32(f.take(4)) }
func (f *fields) uint64() uint64 { return le.Uint64(f.take(8)) }
