package tar

import (
	"fmt"
	"io"
	"regexp"
	"slices"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

// What the extensions record of an archive in several volumes, each of which may be a file, and
// of incremental ones: with types of entries of their own, or in extended headers.
const (
	volumePrefix = "GNU.volume."
	volumeLabel  = volumePrefix + "label"
	volumeFile   = volumePrefix + "filename" // of which this volume starts with the rest
	folderList   = "GNU.dumpdir"
)

// longestGlobal bounds what is read of a global header at the start of a volume.
const longestGlobal = 1 << 20

// later matches the label of a volume that is not the first.
var later = regexp.MustCompile(` Volume ([2-9]|[1-9][0-9]+)$`)

// continues is that of archive.Format: the headers of a volume say what it is called, and what
// file it starts with the rest of.
func continues(r io.ReaderAt) (headers int64) {
	goesOn, rest := false, false
	for {
		var b block
		if _, err := r.ReadAt(b[:], headers); err != nil || !isSummed(b[:]) {
			return 0
		}
		size, err := number(b.bytes(fieldSize))
		if err != nil || size < 0 || size > longestGlobal {
			size = longestGlobal + 1 // only of what may have it
		}
		switch kind := b.bytes(fieldType)[0]; {
		case kind == typeLabel:
			goesOn = goesOn || later.MatchString(b.text(fieldName))
			headers += blockSize
		case kind == typeRest || rest && kind != typePax && kind != typeGlobal:
			return headers + blockSize
		case kind == typeGlobal && size <= longestGlobal:
			data, records := make([]byte, size), map[string]string{}
			if _, err := r.ReadAt(data, headers+blockSize); err != nil {
				return 0
			}
			if _, err := readRecords(data, records, used); err != nil {
				return 0
			}
			goesOn = goesOn || later.MatchString(records[volumeLabel])
			rest = rest || records[volumeFile] != ""
			headers += blockSize + size + padding(size)
		case rest && size <= longestGlobal: // of the header of the rest
			headers += blockSize + size + padding(size)
		case goesOn: // between two entries
			return headers
		default:
			return 0
		}
	}
}

// notFirst is the error of a volume whose first file begins in the one before.
func notFirst(name string) error {
	return fault.New(fault.Incomplete, "it starts with the rest of %q, which begins in another volume", name).Suggest(fault.AllVolumes)
}

// label notes what a volume is called.
func (p *parser) label(name string) {
	if name != "" && !slices.Contains(p.labels, name) && len(p.labels) < mostLabels {
		p.labels = append(p.labels, name)
	}
}

const mostLabels = 100

// lists are those of folders in an incremental archive: names, each behind a letter.
type lists struct{ here, elsewhere int }

func (l *lists) count(list string) {
	for len(list) > 0 {
		switch list[0] {
		case 'Y':
			l.here++
		case 'N':
			l.elsewhere++
		}
		end := 1
		for end < len(list) && list[end-1] != 0 {
			end++
		}
		list = list[end:]
	}
}

// readList reads the list of a folder, which is no data of it.
func (p *parser) readList(m *member) error {
	if m.stored > longestExtended {
		return fault.New(fault.Unsafe, "the list of the folder %q has %d bytes", m.Path, m.stored)
	}
	data := make([]byte, m.stored)
	at := p.in.Offset()
	if _, err := io.ReadFull(p.in, data); err != nil {
		return cutOff(at, err)
	}
	p.lists.count(string(data))
	m.list, m.stored = true, 0
	return cutOff(at, p.in.Skip(padding(int64(len(data)))))
}

// Remarks say what was assumed of names, and what the archive is part of.
func (p *parser) Remarks() (list []archive.Remark) {
	if p.assumed {
		list = append(list, archive.Remark{Text: "names that are not UTF-8 were taken for Windows-1252", Hint: fault.NameEncoding, Reported: true})
	}
	for _, label := range p.labels {
		list = append(list, archive.Remark{Text: "label: " + label})
	}
	if all := p.lists.here + p.lists.elsewhere; all > 0 {
		list = append(list, archive.Remark{Reported: true, Text: "an incremental backup: what was removed before it was made is not taken away"},
			archive.Remark{Text: fmt.Sprintf("of %d names in its folders, %d are only in earlier archives", all, p.lists.elsewhere)})
	}
	return list
}
