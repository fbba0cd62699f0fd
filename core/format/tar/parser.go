package tar

import (
	"errors"
	"io"
	"io/fs"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/fault"
)

// longestExtended bounds what stands before an entry: extended headers and long
// names. No system takes names of that size.
const longestExtended = 16 << 20

// member is an entry with where its data is.
type member struct {
	archive.Entry
	stored int64   // bytes of data in the archive, without padding
	list   bool    // the data was a list of names, and is no part of it
	pieces []piece // of a sparse file: what is not a hole, in order; nil: all is data
}

// piece is a run of data in a sparse file.
type piece struct{ offset, length int64 }

// parser goes from header to header.
type parser struct {
	in       blob.Front
	labels   []string // of volumes
	lists    lists
	global   map[string]string // records of global extended headers that are used
	also     archive.Facts     // which other headers of the entry say
	encoding encoding.Encoding // of names that are not UTF-8; nil: Windows-1252 is assumed
	names    *archive.Names
	behind   int64  // zeros since the end
	assumed  bool   // such names were met
	zeros    int    // blocks of them that were seen last: two are an end mark
	raw      []byte // the header blocks of the entry, with the extended ones
	before   []byte // those of them that are global
}

// extended is what extended headers say of the entry that they stand before.
type extended struct {
	records
	sparse             []string // the records of sparse format 0.0, which repeat
	longName, longLink string
	also               archive.Facts
}

// next reads the headers of the next entry, up to its data. It returns io.EOF
// at the end; a missing end mark is none of its business.
func (p *parser) next() (*member, error) {
	x := extended{records: records{global: p.global}, also: p.also}
	p.raw, p.before = p.raw[:0], p.before[:0]
	for first := true; ; first = false {
		at, from := p.in.Offset(), len(p.raw)
		b, err := p.header()
		switch {
		case (err == io.EOF || err == errNoEnd) && !first:
			return nil, damaged(at, "it is missing after an extended one")
		case err == errNoEnd:
			return nil, damaged(at, "it is missing, and so is the end mark: the archive is cut off")
		}
		if err != nil {
			return nil, err
		}
		size, err := number(b.bytes(fieldSize))
		if err != nil || size < 0 || size > archive.LargestSize {
			return nil, damaged(at, "its size is no number")
		}
		kind := b.bytes(fieldType)[0]
		switch kind {
		case typePax, typePaxOld, typeGlobal:
		case typeRest:
			return nil, notFirst(b.text(fieldName))
		case typeLongName, typeLongLink:
			if size > archive.LongestPath+blockSize {
				return nil, p.names.Take(strings.Repeat("n", archive.LongestPath+1))
			}
		default:
			m, err := p.member(b, at, size, x)
			if err != nil && !fault.Known(err) {
				err = damaged(at, "%w", err)
			}
			return m, err
		}
		data, err := p.extended(at, size)
		if err != nil {
			return nil, err
		}
		if err := p.take(kind, data, &x); err != nil {
			if !fault.Known(err) {
				err = damaged(at, "%w", err)
			}
			return nil, err
		}
		if kind == typeGlobal {
			p.before = append(p.before, p.raw[from:]...)
		}
	}
}

// take takes in the data of an extended header.
func (p *parser) take(kind byte, data []byte, x *extended) (err error) {
	switch kind {
	case typeLongName:
		x.longName = strings.TrimRight(string(data), "\x00")
	case typeLongLink:
		x.longLink = strings.TrimRight(string(data), "\x00")
	case typeGlobal:
		if p.global == nil {
			p.global = map[string]string{}
		}
		_, err = readRecords(data, p.global, noting(&p.also))
		x.global = p.global
		p.label(x.global[volumeLabel])
		if name := x.global[volumeFile]; err == nil && name != "" {
			return notFirst(name)
		}
	case typePax, typePaxOld:
		if x.own == nil {
			x.own = map[string]string{}
		}
		x.sparse, err = readRecords(data, x.own, noting(&x.also))
	}
	return err
}

// header reads blocks up to one that is a header. Zero blocks end an archive,
// but another one may follow.
func (p *parser) header() (*block, error) {
	for {
		at := p.in.Offset()
		var b block
		_, err := io.ReadFull(p.in, b[:])
		switch {
		case err == io.EOF && p.zeros > 0, fault.CutOff(err) && p.zeros > 0 && b == zeroBlock:
			return nil, io.EOF
		case err == io.EOF:
			return nil, errNoEnd
		case fault.CutOff(err):
			return nil, damaged(at, "it is cut off")
		case err != nil:
			return nil, err
		case b == zeroBlock:
			p.zeros++
			p.behind += blockSize
			if err := archive.Behind(p.behind); err != nil {
				return nil, err
			}
		case p.zeros == 1:
			return nil, damaged(at-blockSize, "it is all zeros, and more follows")
		case isSummed(b[:]):
			p.zeros, p.behind = 0, 0
			if b.bytes(fieldType)[0] == typeLabel {
				p.label(p.toUTF8(b.text(fieldName)))
				continue
			}
			p.raw = append(p.raw, b[:]...)
			return &b, nil
		case p.zeros > 1: // what is no header after an end mark is none of ours
			return nil, io.EOF
		default:
			return nil, damaged(at, "its checksum is wrong")
		}
	}
}

// errNoEnd is the error of an archive that ends without an end mark.
var errNoEnd = errors.New("there is no end mark")

// extended reads the data of a header that belongs to the next entry.
func (p *parser) extended(at, size int64) ([]byte, error) {
	if size > longestExtended {
		return nil, fault.New(fault.Unsafe, "an extended header at offset %d has %d bytes", at, size)
	}
	data := make([]byte, size)
	if _, err := io.ReadFull(p.in, data); err != nil {
		return nil, cutOff(at, err)
	}
	p.raw = append(append(p.raw, data...), zeroBlock[:padding(size)]...)
	return data, cutOff(at, p.in.Skip(padding(size)))
}

func cutOff(at int64, err error) error {
	if fault.CutOff(err) {
		return damaged(at, "what follows it is cut off")
	}
	return err
}

// member puts together what the headers of an entry say.
func (p *parser) member(b *block, at, size int64, x extended) (*member, error) {
	m := &member{stored: size}
	e := &m.Entry
	e.Offset = at
	mode, err := number(b.bytes(fieldMode))
	if err != nil {
		return nil, errors.New("its mode is no number")
	}
	e.Mode, e.HasMode, e.Method = fs.FileMode(mode)&fs.ModePerm, true, "store"
	e.SetID, e.Also = mode&archive.ModeSetID != 0, x.also
	for _, f := range []field{fieldUID, fieldGID} {
		if id, err := number(b.bytes(f)); err == nil && id != 0 {
			e.Also |= archive.Owner
		}
	}
	seconds, err := number(b.bytes(fieldModified))
	if err != nil {
		return nil, errors.New("its time is no number")
	}
	e.Modified = time.Unix(seconds, 0)
	magic := string(b.bytes(fieldMagic))
	e.Path = b.text(fieldName)
	if prefix := b.text(fieldPrefix); strings.HasPrefix(magic, magicUstar) && prefix != "" {
		e.Path = prefix + "/" + e.Path
	}
	e.Path, e.Link = p.toUTF8(first(x.longName, e.Path)), p.toUTF8(first(x.longLink, b.text(fieldLink)))
	if err := m.apply(x.records); err != nil {
		return nil, err
	}
	if list, has := x.get(folderList); has {
		p.lists.count(list)
	}
	if p.encoding != nil { // records are in UTF-8, or in something that only the user knows
		e.Path, e.Link = p.toUTF8(e.Path), p.toUTF8(e.Link)
	}
	kind := b.bytes(fieldType)[0]
	e.Kind = kindOf(kind, e.Path)
	if e.Kind != archive.File && e.Kind != archive.Other && kind != typeListing {
		m.stored = 0 // whatever the size says, nothing follows
	}
	if e.Kind != archive.Symlink && e.Kind != archive.Hardlink {
		e.Link = ""
	}
	e.Path = trimFolder(e.Path, e.Kind)
	if err := p.names.Take(e.Path, e.Link); err != nil {
		return nil, err
	}
	e.Size, e.Packed = m.stored, m.stored+padding(m.stored)
	if e.Kind == archive.Folder {
		e.Size, e.Packed = 0, 0
	}
	switch {
	case kind == typeListing:
		return m, p.readList(m)
	case kind == typeSparse:
		return m, p.oldSparse(m, b, at)
	case e.Kind == archive.File:
		return m, p.paxSparse(m, x.records, x.sparse)
	}
	return m, nil
}

func first(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// toUTF8 leaves UTF-8 as it is, and takes other names for the encoding given, or
// for the most common of the old ones.
func (p *parser) toUTF8(name string) string {
	if utf8.ValidString(name) {
		return name
	}
	if p.encoding != nil {
		if decoded, err := p.encoding.NewDecoder().String(name); err == nil {
			return decoded
		}
	}
	p.assumed = true
	decoded, err := charmap.Windows1252.NewDecoder().String(name)
	if err != nil { // a table of 256 characters decodes everything
		panic(err)
	}
	return decoded
}

// data is how many of the stored bytes are its data: of a folder, none.
func (m *member) data() int64 {
	if m.Kind == archive.Folder {
		return 0
	}
	return m.stored
}

func trimFolder(path string, kind archive.Kind) string {
	if kind == archive.Folder && strings.Trim(path, "/") != "" {
		return strings.TrimRight(path, "/")
	}
	return path
}

func kindOf(kind byte, path string) archive.Kind {
	switch kind {
	case typeFile, typeOldFile, typeReserved, typeSparse:
		if strings.HasSuffix(path, "/") && kind == typeOldFile { // the oldest format had no type for folders
			return archive.Folder
		}
		return archive.File
	case typeHardlink:
		return archive.Hardlink
	case typeSymlink:
		return archive.Symlink
	case typeCharacter, typeBlock:
		return archive.Device
	case typeFolder, typeListing:
		return archive.Folder
	case typePipe:
		return archive.Pipe
	}
	return archive.Other
}

// apply puts extended records over the fields of the header.
func (m *member) apply(records records) error {
	if v, ok := records.get(recordPath); ok && v != "" {
		m.Path = v
	}
	if v, ok := records.get(sparseName); ok && v != "" {
		m.Path = v
	}
	if v, ok := records.get(recordLink); ok {
		m.Link = v
	}
	if v, ok := records.get(recordSize); ok {
		size, err := strconv.ParseInt(v, 10, 64)
		if err != nil || size < 0 || size > archive.LargestSize {
			return errors.New("its size record is no size")
		}
		m.stored = size
	}
	if v, ok := records.get(recordModified); ok {
		t, err := parseTime(v)
		if err != nil {
			return errors.New("its time record is no number")
		}
		m.Modified = t
	}
	return nil
}
