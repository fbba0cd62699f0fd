package receipt

import (
	"bytes"
	"cmp"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/choose"
	"widecrate/core/claim"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/newfile"
	"widecrate/core/report"
	"widecrate/core/stage"
	"widecrate/core/storage"
)

// A Writer appends what a run does to a receipt. Its first error stays: it is that
// of every call after it, and of kind fault.Unwritable.
type Writer struct {
	path    string
	file    *os.File
	run     string
	say     fault.Wording
	unit    *Unit        // that may have more inside
	of      string       // its source
	awaited int          // archives inside it that have not been reported
	rows    bytes.Buffer // of its files
	err     error
	sites   newfile.Sites
	sent    *sent // nil: it is appended to
}

// Append starts a run in a receipt, which is made if it is not there. Failures are
// reported in the words of a program; nil: in those of the core.
func Append(sites newfile.Sites, path string, run Run, say fault.Wording) (*Writer, error) {
	if err := Check(sites, path); err != nil {
		return nil, err
	}
	w := &Writer{path: path, sites: sites, run: strings.ToLower(rand.Text()[:12]), say: say}
	run.Kind, run.ID = runKind, w.run
	text := line(run)
	var err error
	if w.file, err = sites.OpenToAppend(path); errors.Is(err, errors.ErrUnsupported) {
		w.sent = &sent{sites: sites, path: path}
		if err = w.sent.fetch(); err == nil { // it is sent also where the run is interrupted
			w.file, w.sent.sites.Sites = w.sent.file.File, sites.Begun()
		}
	}
	if err != nil {
		return nil, err
	}
	if cutOff(w.file) { // a line of a run that was killed
		text = append([]byte("\n"), text...)
	}
	if w.write(text); w.err != nil {
		w.file.Close()
		return nil, w.err
	}
	return w, nil
}

// cutOff reports whether the last line of a file has no end, and does not get one: another
// process may just be writing it.
func cutOff(file *os.File) bool {
	const patience = 50 * time.Millisecond
	for size := int64(-1); ; time.Sleep(patience) {
		info, err := file.Stat()
		if err != nil || info.Size() == 0 {
			return false
		}
		var last [1]byte
		if _, err = file.ReadAt(last[:], info.Size()-1); err != nil || last[0] == '\n' {
			return false
		}
		if info.Size() == size {
			return true
		}
		size = info.Size()
	}
}

// write appends in one go, and while others do not: not every file system keeps the lines
// of several processes apart.
func (w *Writer) write(b []byte) {
	if w.err == nil {
		w.err = fault.Writing(w.path, claim.Together(w.file, func() error {
			_, err := w.file.Write(b)
			return err
		}))
	}
}

// private keeps others from reading a receipt with the query of an address, which may be its signature: it is needed to know
// a source again.
func (w *Writer) private(from []Part) {
	for i := range from {
		if _, rest, address := strings.Cut(from[i].Path, "://"); address && strings.Contains(rest, "?") && w.err == nil {
			w.err = fault.Writing(w.path, w.file.Chmod(0o600))
			return
		}
	}
}

// Unpacked takes note of an archive that was unpacked, or failed. Those inside it
// follow it, and count with it.
func (w *Writer) Unpacked(o *report.Unpacked) {
	if o.DryRun || o.Done {
		return
	}
	if w.unit == nil || w.of != o.Source.Path+"\x00"+o.Source.To().Into || o.Archive == o.Source.Path {
		w.flush()
		w.of = o.Source.Path + "\x00" + o.Source.To().Into
		w.awaited = 1
		w.unit = &Unit{Kind: unitKind, Run: w.run, Archive: o.Archive, Destination: o.Target, Root: o.Root}
	}
	u := w.unit
	w.awaited += o.Inside - 1
	if o.From != nil {
		u.From, u.ID = partsOf(o.From), ID(o.From, o.Asked)
		w.private(u.From)
	}
	u.Finished = time.Now().UTC()
	if o.Dates != nil {
		if u.Dates == nil {
			u.Dates = new(choose.Window)
		}
		u.Dates.Add(*o.Dates)
	}
	u.Lost += len(o.Lost)
	u.Partial = u.Partial || len(o.Lost) > 0
	if o.Err != nil && u.Failure == nil {
		u.Failure = report.FailureOf(o.Err, w.say)
	}
	for rule := choose.Kept + 1; int(rule) < len(o.LeftOut); rule++ {
		u.Partial = u.Partial || rule != choose.Clutter && o.LeftOut[rule] > 0
	}
	for name, n := range o.LeftOut.ByRule() {
		if u.LeftOut == nil {
			u.LeftOut = map[string]int{}
		}
		u.LeftOut[name] += n
	}
	if o.Swapped != "" {
		u.Swapped = o.Swapped
		w.swapped(o)
	}
	for _, dir := range o.Folders {
		u.Folders = append(u.Folders, below(u.Root, dir))
	}
	for i := range o.Placed {
		w.placed(o, &o.Placed[i])
	}
}

// swapped takes note of what is kept of a folder that was swapped for a fresh one.
func (w *Writer) swapped(o *report.Unpacked) {
	err := filepath.WalkDir(o.Swapped, func(at string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		w.unit.Gone = append(w.unit.Gone, Part{Path: filepath.Join(o.Target, storage.Below(o.Swapped, at)), Was: w.was(at)})
		return nil
	})
	if err != nil && w.err == nil {
		w.err = fault.Reading(o.Swapped, err)
	}
}

// was is what is kept at a path; empty: nothing is.
func (w *Writer) was(kept string) Was {
	if kept == "" {
		return Was{}
	}
	sum, err := disposal.Proof(w.sites.Sites, kept)
	if err != nil && w.err == nil {
		w.err = fault.Reading(kept, err)
	}
	return Was{storage.Absolute(kept), sum}
}

// below is a path from a root on, with slashes.
func below(root, path string) string {
	if rel, err := filepath.Rel(root, path); err == nil {
		path = rel
	}
	return filepath.ToSlash(path)
}

// placed adds a file or link.
func (w *Writer) placed(o *report.Unpacked, p *report.Placed) {
	switch {
	case p.Action == stage.Lost:
		return
	case p.Kind == archive.Folder:
		isNew := func(dir string) bool { return dir != p.Path && storage.Below(dir, p.Path) != p.Path }
		if slices.ContainsFunc(o.Folders, isNew) || o.Swapped != "" && isNew(o.Target) {
			w.unit.Folders = append(w.unit.Folders, below(w.unit.Root, p.Path))
		}
		return
	case p.Action == stage.Skipped:
		w.unit.Skipped++
		w.unit.Partial = true
		return
	case p.Action == stage.Same:
		w.unit.Same++
	default:
		w.unit.Written++
		w.unit.Bytes = archive.Plus(w.unit.Bytes, p.Size)
	}
	f := File{Kind: fileKind, Run: w.run, Archive: o.Archive, Entry: p.Entry, Type: p.Kind.String(), Size: max(p.Size, 0), Link: p.Link, SHA256: hex.EncodeToString(p.SHA256)}
	f.Path = below(w.unit.Root, p.Path)
	f.Same, f.Replaced, f.Was = p.Action == stage.Same, p.Action == stage.Replaced, w.was(p.Kept)
	info, err := os.Lstat(p.Path)
	if err == nil {
		f.Modified = info.ModTime().UTC()
		if f.SHA256 == "" && info.Mode().IsRegular() {
			f.Size = info.Size()
			var sum []byte
			sum, err = SumOf(p.Path)
			f.SHA256 = hex.EncodeToString(sum)
		}
	}
	if err != nil && w.err == nil {
		w.err = fault.Reading(p.Path, err)
	}
	w.unit.Files++
	w.rows.Write(line(f))
}

// SumOf is the SHA-256 of a file on disk.
func SumOf(path string) ([]byte, error) {
	f, _, err := folder.OpenRegular(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return blob.Sum(f)
}

// flush appends what is known of the current unit.
func (w *Writer) flush() {
	if w.unit == nil {
		return
	}
	if w.awaited > 0 && w.unit.Failure == nil { // interrupted, or halted
		w.unit.Failure = report.FailureOf(fault.New(fault.Other, "the run ended before %d of the archives inside were unpacked", w.awaited), w.say)
	}
	w.awaited = 0
	w.write(append(line(w.unit), w.rows.Bytes()...))
	w.unit = nil
	w.rows.Reset()
}

// Created takes note of an archive that was made, with what went into it.
func (w *Writer) Created(c *report.Created) {
	if c.Done {
		return
	}
	u := &Unit{ID: c.ID, Archive: c.Archive}
	for i, from := range c.From {
		if c.Entries[i].Kind == archive.Folder {
			u.Held = append(u.Held, from.Path)
		}
	}
	w.made(u, &c.Made, c.Entries, func(i int, f *File) {
		f.Source, f.SHA256 = c.From[i].Path, hex.EncodeToString(c.From[i].SHA256)
	})
}

// Converted takes note of an archive that was made of another.
func (w *Writer) Converted(c *report.Converted) {
	u := &Unit{ID: ID(c.From, c.Asked), Archive: c.Path, From: partsOf(c.From), Dates: c.Dates}
	w.private(u.From)
	switch {
	case c.Done || c.DryRun:
		return
	case c.Err != nil:
		w.flush()
		u.ID = "" // what an earlier run made of it still counts
		u.Kind, u.Archive, u.Run, u.Finished, u.Failure = unitKind, c.Archive, w.run, time.Now().UTC(), report.FailureOf(c.Err, w.say)
		w.unit = u
		w.flush()
		return
	}
	w.made(u, &c.Made, c.Entries, func(i int, f *File) {
		f.SHA256 = hex.EncodeToString(c.Sums[i])
	})
}

// Edited takes note of an archive that was changed.
func (w *Writer) Edited(e *report.Edited) {
	if e.Same || e.DryRun || e.Err != nil {
		return
	}
	made := e.Made
	made.Files, made.Packed = e.Added+e.Replaced, e.After
	w.made(&Unit{Archive: e.Archive, Edited: true}, &made, nil, nil)
}

// made appends the unit of a new archive, and a line for each file in it.
func (w *Writer) made(u *Unit, m *report.Made, entries []archive.Entry, complete func(i int, f *File)) {
	w.flush()
	u.Kind, u.Run, u.Written, u.Bytes, u.LeftOut, u.Finished = unitKind, w.run, m.Files, m.Packed, m.LeftOut.ByRule(), time.Now().UTC()
	paths := []string{u.Archive}
	if m.Parts != nil {
		paths = m.Parts
	}
	for _, path := range paths {
		part, err := w.partAt(path, m)
		if err != nil {
			w.err = err
			return
		}
		part.Replaced, part.Was = slices.Contains(m.Replaced, path), w.was(m.Kept[path])
		u.Parts = append(u.Parts, part)
	}
	if m.Sums != "" {
		list, err := w.partAt(m.Sums, m)
		if err != nil {
			w.err = err
			return
		}
		list.Was = w.was(m.Kept[m.Sums])
		u.List = &list
	}
	for _, path := range slices.Sorted(maps.Keys(m.Kept)) {
		if path != m.Sums && !slices.Contains(paths, path) {
			u.Gone = append(u.Gone, Part{Path: storage.Absolute(path), Was: w.was(m.Kept[path])})
		}
	}
	w.unit = u
	for i := range entries {
		e := &entries[i]
		if e.Kind == archive.Folder {
			continue
		}
		f := File{Kind: fileKind, Run: w.run, Archive: u.Archive, Path: e.Path, Type: e.Kind.String(), Size: max(e.Size, 0), Modified: e.Modified.UTC(), Link: e.Link}
		complete(i, &f)
		u.Files++
		w.rows.Write(line(f))
	}
	w.flush()
}

// partAt is the identity of a file of a new archive.
func (w *Writer) partAt(path string, m *report.Made) (Part, error) {
	sum, err := m.SHA256[path], error(nil)
	if sum == nil {
		sum, err = SumOf(path)
	}
	var info fs.FileInfo
	if err == nil {
		info, err = w.sites.Stat(path)
	}
	if err != nil {
		return Part{}, fault.Reading(path, err)
	}
	return Part{Path: storage.Absolute(path), Size: info.Size(), Modified: info.ModTime().UTC(), SHA256: hex.EncodeToString(sum)}, nil
}

// Undone takes note of a unit of an earlier run that was taken back.
func (w *Writer) Undone(p *Past) {
	w.write(line(Undone{undoneKind, w.run, p.Unit.Run, p.Unit.Archive, p.Unit.Destination}))
}

// Source takes note of where the files of a source were moved, or where the same lay already.
func (w *Writer) Source(d *report.Disposal) {
	if d.DryRun || d.After() == "kept" {
		return
	}
	w.flush()
	for i, f := range d.Files {
		to := cmp.Or(f.There, f.To)
		if to == "" {
			continue
		}
		there, err := w.sites.Identify(to)
		if err != nil || there.Info == nil {
			continue
		}
		m := Moved{Kind: movedKind, Run: w.run, From: storage.Absolute(f.From), To: storage.Absolute(to), Size: there.Info.Size(), Modified: there.Info.ModTime().UTC(),
			SHA256: hex.EncodeToString(f.SHA256), There: f.There != ""}
		if m.SHA256 == "" {
			m.SHA256, err = disposal.Proof(w.sites.Sites, to)
		}
		if i == 0 && d.Reason != "" && err == nil {
			m.Reason = storage.Absolute(d.Reason)
			m.ReasonSHA256, err = disposal.ReasonProof(w.sites.Sites, d.Reason)
		}
		if err != nil && w.err == nil {
			w.err = fault.Reading(to, err)
		}
		w.write(line(m))
	}
}

// Sync writes the receipt through to the disk.
func (w *Writer) Sync() error {
	w.flush()
	if w.err == nil {
		w.err = fault.Writing(w.path, w.file.Sync())
	}
	if w.err == nil && w.sent != nil {
		w.err = w.sent.send()
		w.file = w.sent.file.File
	}
	return w.err
}

// Close ends the run.
func (w *Writer) Close() error {
	err := w.Sync()
	closing := io.Closer(w.file)
	if w.sent != nil {
		closing = w.sent.file
	}
	if closed := closing.Close(); err == nil {
		err = fault.Writing(w.path, closed)
	}
	return err
}
