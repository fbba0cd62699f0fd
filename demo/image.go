package demo

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"maps"
	"path"
	"slices"
	"strings"
	"time"
	"unicode/utf16"
)

// An ImageFile is what lies on a disc: a file, or a link.
type ImageFile struct {
	Path     string
	Data     []byte
	Link     string
	Modified time.Time
}

// Names is how the files of an image are called beside the plain names.
type Names uint8

// The ways, which may be combined.
const (
	Joliet Names = 1 << iota
	RockRidge
)

const (
	sectorSize = 2048
	mostRecord = 255
)

// Image makes the image of a disc (ECMA-119), with names of Joliet and Rock Ridge if
// they are asked for.
func Image(files []ImageFile, names Names) []byte {
	b := &imager{folders: map[string]*imageFolder{}}
	b.folder(".")
	for i := range files {
		f := &files[i]
		in := b.folder(path.Dir(f.Path))
		in.files = append(in.files, f)
	}
	b.order = slices.SortedFunc(maps.Values(b.folders), func(x, y *imageFolder) int {
		return cmp.Or(cmp.Compare(strings.Count(x.path, "/"), strings.Count(y.path, "/")), cmp.Compare(x.path, y.path))
	})
	volumes := []*imageVolume{{rockRidge: names&RockRidge != 0}}
	if names&Joliet != 0 {
		volumes = append(volumes, &imageVolume{joliet: true})
	}
	b.next = 16 + len(volumes) + 1 + 3 // where the descriptors of another format may stand
	for _, v := range volumes {        // twice: the first time says how long everything is
		v.at, v.size = map[string]int{}, map[string]int{}
		v.data = map[*ImageFile]int{}
		for _, f := range b.order {
			v.size[f.path] = sectors(len(v.records(b, f)))
			v.at[f.path] = b.take(v.size[f.path])
		}
		v.continued = b.take(sectors(v.more.Len()))
		v.table = b.take(sectors(len(v.pathTable(b, binary.LittleEndian))))
		v.turned = b.take(sectors(len(v.pathTable(b, binary.BigEndian))))
	}
	data := map[*ImageFile]int{}
	for i := range files {
		data[&files[i]] = b.take(sectors(len(files[i].Data)))
	}
	image := make([]byte, b.next*sectorSize)
	put := func(sector int, data []byte) { copy(image[sector*sectorSize:], data) }
	for n, v := range volumes {
		v.data = data
		v.more.Reset()
		for _, f := range b.order {
			put(v.at[f.path], v.records(b, f))
		}
		put(v.continued, v.more.Bytes())
		put(v.table, v.pathTable(b, binary.LittleEndian))
		put(v.turned, v.pathTable(b, binary.BigEndian))
		put(16+n, v.descriptor(b))
	}
	put(16+len(volumes), []byte("\xffCD001\x01"))
	for i := range files {
		put(data[&files[i]], files[i].Data)
	}
	return image
}

func sectors(bytes int) int { return (bytes + sectorSize - 1) / sectorSize }

type imageFolder struct {
	path  string
	files []*ImageFile
	below []*imageFolder
}

// imager lays an image out.
type imager struct {
	folders map[string]*imageFolder
	order   []*imageFolder // those above first
	next    int            // sector
}

func (b *imager) take(sectors int) int {
	at := b.next
	b.next += sectors
	return at
}

func (b *imager) folder(at string) *imageFolder {
	f := b.folders[at]
	if f == nil {
		f = &imageFolder{path: at}
		b.folders[at] = f
		if at != "." {
			above := b.folder(path.Dir(at))
			above.below = append(above.below, f)
		}
	}
	return f
}

// imageVolume is one way in which the files are called.
type imageVolume struct {
	joliet, rockRidge bool
	at, size          map[string]int // sectors of folders
	data              map[*ImageFile]int
	continued         int // the sector that fields go on in
	more              bytes.Buffer
	table, turned     int
}

// both writes a number in both byte orders (7.3.3).
func both(n int) []byte {
	return binary.BigEndian.AppendUint32(binary.LittleEndian.AppendUint32(nil, uint32(n)), uint32(n))
}

func both16(n int) []byte {
	return binary.BigEndian.AppendUint16(binary.LittleEndian.AppendUint16(nil, uint16(n)), uint16(n))
}

// name is how something is called in the volume (7.5).
func (v *imageVolume) name(p string, folder bool) []byte {
	name := path.Base(p)
	if v.joliet {
		var b []byte
		for _, u := range utf16.Encode([]rune(name)) {
			b = binary.BigEndian.AppendUint16(b, u)
		}
		return b
	}
	name = strings.Map(func(c rune) rune {
		if c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '.' {
			return c
		}
		return '_'
	}, strings.ToUpper(name))
	if folder {
		return []byte(name[:min(len(name), 31)])
	}
	return []byte(name[:min(len(name), 28)] + ";1")
}

func stamp(t time.Time) []byte {
	t = t.UTC()
	return []byte{byte(t.Year() - 1900), byte(t.Month()), byte(t.Day()), byte(t.Hour()), byte(t.Minute()), byte(t.Second()), 0}
}

// record is a directory record (9.1) with its system use fields.
func (v *imageVolume) record(name []byte, sector, size int, modified time.Time, folder bool, fields [][]byte) []byte {
	flags := byte(0)
	if folder {
		flags = 2
	}
	b := slices.Concat([]byte{0, 0}, both(sector), both(size), stamp(modified), []byte{flags, 0, 0}, both16(1), []byte{byte(len(name))}, name)
	if len(name)%2 == 0 {
		b = append(b, 0)
	}
	const goesOn = 28 // the length of the field CE
	for i, f := range fields {
		room := mostRecord - 1 - len(b)
		if i+1 < len(fields) {
			room -= goesOn
		}
		if len(f) <= room {
			b = append(b, f...)
			continue
		}
		rest := slices.Concat(fields[i:]...)
		if left := sectorSize - v.more.Len()%sectorSize; len(rest) > left {
			v.more.Write(make([]byte, left))
		}
		at := v.more.Len()
		v.more.Write(rest)
		b = slices.Concat(b, []byte{'C', 'E', goesOn, 1}, both(v.continued+at/sectorSize), both(at%sectorSize), both(len(rest)))
		break
	}
	b = append(b, make([]byte, len(b)%2)...)
	b[0] = byte(len(b))
	return b
}

// fields are those of Rock Ridge: mode, time, name, and link.
func (v *imageVolume) fields(name string, mode int, modified time.Time, link string) [][]byte {
	if !v.rockRidge {
		return nil
	}
	field := func(signature string, data []byte) []byte {
		return slices.Concat([]byte(signature), []byte{byte(4 + len(data)), 1}, data)
	}
	fields := [][]byte{
		field("PX", slices.Concat(both(mode), both(1), both(0), both(0))),
		field("TF", append([]byte{2}, stamp(modified)...)),
	}
	const piece = 200
	for len(name) > 0 {
		n, flags := min(piece, len(name)), byte(0)
		if n < len(name) {
			flags = 1
		}
		fields = append(fields, field("NM", append([]byte{flags}, name[:n]...)))
		name = name[n:]
	}
	if link != "" {
		text := []byte{0}
		if strings.HasPrefix(link, "/") {
			text, link = append(text, 8, 0), link[1:]
		}
		for c := range strings.SplitSeq(link, "/") {
			if c == ".." {
				text = append(text, 4, 0)
			} else {
				text = append(append(text, 0, byte(len(c))), c...)
			}
		}
		fields = append(fields, field("SL", text))
	}
	return fields
}

const (
	folderMode = 0o040755
	fileMode   = 0o100644
	linkMode   = 0o120777
)

// records are those of a folder; none lies across a border of sectors.
func (v *imageVolume) records(b *imager, f *imageFolder) []byte {
	var out []byte
	add := func(record []byte) {
		if left := sectorSize - len(out)%sectorSize; len(record) > left {
			out = append(out, make([]byte, left)...)
		}
		out = append(out, record...)
	}
	itself := v.fields("", folderMode, surveyed, "")
	if v.rockRidge && f.path == "." {
		itself = append([][]byte{{'S', 'P', 7, 1, 0xbe, 0xef, 0}}, itself...)
	}
	above := path.Dir(f.path)
	add(v.record([]byte{0}, v.at[f.path], v.size[f.path]*sectorSize, surveyed, true, itself))
	add(v.record([]byte{1}, v.at[above], v.size[above]*sectorSize, surveyed, true, v.fields("", folderMode, surveyed, "")))
	records := map[string][]byte{} // in the order of their names (9.3)
	for _, below := range f.below {
		name := v.name(below.path, true)
		records[string(name)] = v.record(name, v.at[below.path], v.size[below.path]*sectorSize, surveyed, true,
			v.fields(path.Base(below.path), folderMode, surveyed, ""))
	}
	for _, file := range f.files {
		mode := fileMode
		if file.Link != "" {
			mode = linkMode
		}
		name := v.name(file.Path, false)
		records[string(name)] = v.record(name, v.data[file], len(file.Data), file.Modified, false, v.fields(path.Base(file.Path), mode, file.Modified, file.Link))
	}
	for _, name := range slices.Sorted(maps.Keys(records)) {
		add(records[name])
	}
	return append(out, make([]byte, sectors(len(out))*sectorSize-len(out))...)
}

// pathTable lists the folders (9.4).
func (v *imageVolume) pathTable(b *imager, order binary.AppendByteOrder) (out []byte) {
	number := map[string]int{}
	for i, f := range b.order {
		number[f.path] = i + 1
		name := []byte{0}
		if f.path != "." {
			name = v.name(f.path, true)
		}
		out = append(out, byte(len(name)), 0)
		out = order.AppendUint32(out, uint32(v.at[f.path]))
		out = order.AppendUint16(out, uint16(max(1, number[path.Dir(f.path)])))
		out = append(append(out, name...), make([]byte, len(name)%2)...)
	}
	return out
}

// descriptor is that of the volume (8.4, 8.5).
func (v *imageVolume) descriptor(b *imager) []byte {
	d := bytes.Repeat([]byte{' '}, sectorSize)
	set := func(at int, data ...byte) { copy(d[at-1:], data) } // positions as the standard counts them
	set(1, []byte("\x01CD001\x01\x00")...)
	clear(d[72:80])
	clear(d[88:120])
	if v.joliet {
		set(1, 2)
		set(89, []byte("%/E")...)
	}
	set(41, []byte("TIDEWATCH")...)
	set(81, both(b.next)...)
	set(121, both16(1)...)
	set(125, both16(1)...)
	set(129, both16(sectorSize)...)
	set(133, both(len(v.pathTable(b, binary.LittleEndian)))...)
	set(141, binary.LittleEndian.AppendUint32(nil, uint32(v.table))...)
	set(145, 0, 0, 0, 0)
	set(149, binary.BigEndian.AppendUint32(nil, uint32(v.turned))...)
	set(153, 0, 0, 0, 0)
	set(157, v.record([]byte{0}, v.at["."], v.size["."]*sectorSize, surveyed, true, nil)...)
	set(882, 1, 0)
	clear(d[883:])
	return d
}
