package iso

import (
	"io/fs"
	"strings"
	"time"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

// extended is what the system use fields of a record say.
type extended struct {
	name     string
	link     string
	mode     uint32
	hasMode  bool
	owned    bool // by others than user and group 0
	modified time.Time
	child    uint32 // the block of the folder that the record stands for; 0: there is none
	moved    bool   // a folder that shows elsewhere
	strange  string // why its data is not read
}

func (x *extended) apply(e *archive.Entry) {
	if !x.modified.IsZero() {
		e.Modified = x.modified
	}
	if !x.hasMode {
		return
	}
	e.Mode, e.HasMode = fs.FileMode(x.mode)&fs.ModePerm, true
	if x.owned {
		e.Also |= archive.Owner
	}
	if e.Kind = archive.KindOfMode(x.mode); e.Kind == archive.Symlink {
		e.Link = x.link
	}
}

// sharing finds out by the first record of the root folder whether the image has the
// fields of Rock Ridge (SUSP 5.3), and how much of each area is somebody else's.
func (w *walker) sharing() (rockRidge bool, skip int, err error) {
	var root, self record
	if !root.parse(w.volume.root) {
		return false, 0, fault.New(fault.Damaged, "its volume descriptor has no root folder")
	}
	var b [sector]byte
	if n, _ := w.z.r.ReadAt(b[:], w.start(&root)); n < shortestRecord || !self.parse(b[:min(n, max(int(b[0]), 1))]) {
		return false, 0, fault.New(fault.Damaged, "its root folder at offset %d cannot be read", w.start(&root)).
			Advise("the image is cut off or damaged: get it again")
	}
	s := self.system
	if len(s) > xaLength && string(s[6:8]) == "XA" { // CD-ROM XA has the first bytes
		s = s[xaLength:]
	}
	if len(s) < 7 || string(s[:2]) != "SP" || s[4] != 0xbe || s[5] != 0xef {
		return false, 0, nil
	}
	return true, int(s[6]), nil
}

// xaLength is that of the record of CD-ROM XA at the start of a system use area, which SP
// then says is to be left out (SUSP 5.3).
const xaLength = 14

// mostContinued bounds how many areas the fields of one record go on in.
const mostContinued = 64

// extended reads the system use fields of a record.
func (w *walker) extended(rec *record) (x extended, err error) {
	if !w.rockRidge || len(rec.system) < w.skip {
		return x, nil
	}
	f := fields{x: &x}
	for area, n := rec.system[w.skip:], 0; area != nil; n++ {
		if n > mostContinued {
			return x, fault.New(fault.Unsafe, "the fields of record %q go on and on", rec.name)
		}
		next := f.take(area)
		if next == nil {
			break
		}
		// SUSP 5.1: block, offset and length, each in both byte orders.
		at := int64(le.Uint32(next))*w.volume.block + int64(le.Uint32(next[8:]))
		length := int64(le.Uint32(next[16:]))
		if length > sector || at+length > w.z.size {
			return x, fault.New(fault.Damaged, "the fields of record %q go on at offset %d, where there is no room for them", rec.name, at)
		}
		if w.continued += length; w.continued > w.z.size { // several records share them
			return x, fault.New(fault.Unsafe, "the fields of its records take more room than there is in the image")
		}
		area = make([]byte, length)
		if n, err := w.z.r.ReadAt(area, at); n < len(area) {
			return x, fault.Reading("", err)
		}
	}
	return x, nil
}

// fields takes system use fields: a signature of two bytes, a length, a version, and
// the data.
type fields struct {
	x         *extended
	component bool // the last component of a link goes on in the next
}

// take takes those of an area, and returns the data of the one that says where they
// go on.
func (f *fields) take(area []byte) (next []byte) {
	for len(area) >= 4 {
		length := int(area[2])
		if length < 4 || length > len(area) {
			break
		}
		signature, data := string(area[:2]), area[4:length]
		area = area[length:]
		switch {
		case signature == "ST": // 5.4: the end
			return next
		case signature == "CE" && len(data) >= 24:
			next = data
		case len(data) >= shortestField[signature]:
			f.takeOne(signature, data)
		}
	}
	return next
}

// shortestField is what the data of a field has at least, in bytes.
var shortestField = map[string]int{"NM": 1, "PX": 8, "SL": 1, "TF": 1, "CL": 4}

func (f *fields) takeOne(signature string, data []byte) {
	x := f.x
	switch signature {
	case "NM": // RRIP 4.1.4
		switch flags := data[0]; {
		case flags&2 != 0:
			x.name = "."
		case flags&4 != 0:
			x.name = ".."
		default:
			x.name += string(data[1:])
		}
	case "PX":
		x.mode, x.hasMode = le.Uint32(data), true
		x.owned = len(data) >= 28 && le.Uint32(data[16:])|le.Uint32(data[24:]) != 0
	case "SL":
		f.link(data[1:])
	case "TF":
		x.times(data)
	case "CL":
		x.child = le.Uint32(data)
	case "RE":
		x.moved = true
	case "SF":
		x.strange = "it is a sparse file"
	case "ZF":
		x.strange = "it is packed within the image"
	}
}

// link takes components of a link (RRIP 4.1.3): flags, a length, and text.
func (f *fields) link(b []byte) {
	const goesOn, current, parent, root = 1, 2, 4, 8
	for len(b) >= 2 {
		flags, length := b[0], int(b[1])
		if length > len(b)-2 {
			return
		}
		text := string(b[2 : 2+length])
		b = b[2+length:]
		switch {
		case flags&current != 0:
			text = "."
		case flags&parent != 0:
			text = ".."
		}
		switch x := f.x; {
		case flags&root != 0:
			x.link = "/"
		case x.link == "", f.component, strings.HasSuffix(x.link, "/"):
			x.link += text
		default:
			x.link += "/" + text
		}
		f.component = flags&goesOn != 0
	}
}

// times takes the time of the last change from time stamps (RRIP 4.1.6), which come
// in the order of their flags.
func (x *extended) times(data []byte) {
	const creation, modify, long = 1, 2, 128
	flags, data := data[0], data[1:]
	if flags&long != 0 { // of 17 characters; that of the record is the same
		return
	}
	if flags&creation != 0 {
		data = data[min(7, len(data)):]
	}
	if flags&modify != 0 && len(data) >= 7 {
		x.modified = recordTime([7]byte(data))
	}
}
