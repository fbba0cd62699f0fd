package rpm

import (
	"bytes"
	"crypto/md5"  //nolint:gosec // it is what old packages have
	"crypto/sha1" //nolint:gosec // as well
	"crypto/sha256"
	"crypto/sha512"
	"encoding/binary"
	"hash"
	"io"

	"widecrate/core/fault"
)

const (
	leadMagic   = "\xed\xab\xee\xdb"
	leadLength  = 96
	headerMagic = "\x8e\xad\xe8\x01"
)

// The tags that are used.
const (
	tagName            = 1000
	tagVersion         = 1001
	tagRelease         = 1002
	tagSummary         = 1004
	tagDescription     = 1005
	tagBuilt           = 1006
	tagLicense         = 1014
	tagURL             = 1020
	tagArchitecture    = 1022
	tagBeforeInstall   = 1023
	tagAfterInstall    = 1024
	tagBeforeRemoval   = 1025
	tagAfterRemoval    = 1026
	tagSizes           = 1028
	tagModes           = 1030
	tagTimes           = 1034
	tagDigests         = 1035
	tagFlags           = 1037
	tagDevices         = 1095
	tagInodes          = 1096
	tagFolderOf        = 1116
	tagNames           = 1117
	tagFolders         = 1118
	tagLargeSizes      = 5008
	tagDigestAlgorithm = 5011
)

// The types of values.
const (
	typeInt16     = 3
	typeInt32     = 4
	typeInt64     = 5
	typeText      = 6
	typeTexts     = 8
	typeTextsI18N = 9
)

// algorithm makes sums of files; the numbers are those of RFC 4880, section 9.4.
type algorithm struct {
	name string
	new  func() hash.Hash
}

const md5Algorithm = 1

var algorithms = map[int64]algorithm{
	md5Algorithm: {"MD5", md5.New}, 2: {"SHA-1", sha1.New}, 8: {"SHA-256", sha256.New},
	9: {"SHA-384", sha512.New384}, 10: {"SHA-512", sha512.New}, 11: {"SHA-224", sha256.New224},
}

// The largest header and the most tags that are believed.
const (
	largestHeader = 64 << 20
	mostTags      = 64 << 10
	mostValues    = 1 << 20 // of a tag: files of a package
)

// header is a header structure: an index of tags, and a store of their values.
type header struct {
	index []byte // 16 bytes each: tag, type, offset, count
	store []byte
	end   int64 // offset behind it
}

var be = binary.BigEndian

func readHeader(r io.ReaderAt, at, size int64) (*header, error) {
	const fixed, entry = 16, 16
	damaged := func(what string) (*header, error) {
		return nil, fault.New(fault.Damaged, "the header at offset %d: %s", at, what)
	}
	b := make([]byte, fixed)
	if n, err := r.ReadAt(b, at); n < fixed {
		if err == io.EOF {
			return damaged("it is cut off")
		}
		return nil, fault.Reading("", err)
	}
	if string(b[:4]) != headerMagic {
		return damaged("there is none")
	}
	tags, length := int64(be.Uint32(b[8:])), int64(be.Uint32(b[12:]))
	if tags > mostTags || length > largestHeader {
		return nil, fault.New(fault.Unsafe, "the header at offset %d has %d tags and %d bytes", at, tags, length)
	}
	if at+fixed+tags*entry+length > size {
		return damaged("it is cut off")
	}
	b = make([]byte, tags*entry+length)
	if n, err := r.ReadAt(b, at+fixed); n < len(b) {
		if err == io.EOF {
			return damaged("it is cut off")
		}
		return nil, fault.Reading("", err)
	}
	return &header{b[:tags*entry], b[tags*entry:], at + fixed + int64(len(b))}, nil
}

// find is the value of a tag: its type, how many there are, and the store from there.
func (h *header) find(tag uint32) (kind, count uint32, value []byte) {
	for e := h.index; len(e) > 0; e = e[16:] {
		if at := be.Uint32(e[8:]); be.Uint32(e) == tag && int64(at) <= int64(len(h.store)) {
			return be.Uint32(e[4:]), be.Uint32(e[12:]), h.store[at:]
		}
	}
	return 0, 0, nil
}

// texts are those of a tag; of one that has fewer than it says, as many as there are.
func (h *header) texts(tag uint32) (texts []string) {
	kind, count, value := h.find(tag)
	switch kind {
	case typeText:
		count = 1
	case typeTexts, typeTextsI18N:
	default:
		return nil
	}
	for range min(count, mostValues) {
		text, rest, ended := bytes.Cut(value, []byte{0})
		if !ended {
			break
		}
		texts, value = append(texts, string(text)), rest
	}
	return texts
}

func (h *header) text(tag uint32) string {
	if texts := h.texts(tag); len(texts) > 0 {
		return texts[0]
	}
	return ""
}

func (h *header) numbers(tag uint32) (numbers []int64) {
	kind, count, value := h.find(tag)
	width := map[uint32]int{typeInt16: 2, typeInt32: 4, typeInt64: 8}[kind]
	for count = min(count, mostValues); count > 0 && width > 0 && len(value) >= width; count, value = count-1, value[width:] {
		switch width {
		case 2:
			numbers = append(numbers, int64(be.Uint16(value)))
		case 4:
			numbers = append(numbers, int64(be.Uint32(value)))
		case 8:
			numbers = append(numbers, int64(be.Uint64(value)))
		}
	}
	return numbers
}

func (h *header) number(tag uint32, otherwise int64) int64 {
	if numbers := h.numbers(tag); len(numbers) > 0 {
		return numbers[0]
	}
	return otherwise
}
