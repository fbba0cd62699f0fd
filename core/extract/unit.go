package extract

import (
	"context"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"widecrate/core/archive"
	"widecrate/core/bound"
	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/format"
	"widecrate/core/place"
	"widecrate/core/source"
	"widecrate/core/stage"
)

// unit is one archive on its way.
type unit struct {
	next    *unit
	top     *unit           // that of the source; itself, or around it
	outer   *unit           // the archive that it lies in; nil: it is a source
	index   int             // in outer
	within  *source.Archive // outer's, held until this one is open
	at      string          // path in outer
	spooled string          // a file to remove afterwards
	depth   int
	target  place.Target
	root    *openRoot
	outcome Outcome
	started time.Time
	budget  *bound.Budget

	archive *source.Archive
	kept    []int // entries, by their index in the archive
	inner   []*unit
	stage   *stage.Unit
	wanted  []int // indices into kept of the entries whose data is needed
	bytes   int64 // claimed size of the wanted entries

	// Of a source, for what becomes of it afterwards:
	info    os.FileInfo
	partial []string // why not all of it was delivered
	untaken bool
	failed  bool

	// Under the lock of the engine:
	claimed   int // wanted entries that were handed out
	pending   int // workers that are busy with the unit
	err       error
	errAt     int // index into wanted
	isPlanned bool
	finished  bool
}

// open opens the archive, chooses its entries, and begins to stage them.
func (u *unit) open(e *engine) error {
	items, err := u.plan(e)
	if err != nil {
		return err
	}
	u.outcome.Target = absolute(u.target.Path())
	if len(items) == 0 {
		return nil
	}
	root, err := e.useRoot(u)
	if err != nil {
		return err
	}
	if u.stage, err = root.Begin(u.target.Folder, items, e.Rules); err != nil {
		return err
	}
	for k := range u.kept {
		if u.stage.Wanted(k) {
			u.wanted = append(u.wanted, k)
			u.bytes += max(items[k].Size, 0)
		}
	}
	if err := u.budget.Check(u.bytes); err != nil {
		return err
	}
	return u.checkSpace(root)
}

// checkSpace holds what is about to be written against the free space.
func (u *unit) checkSpace(root *stage.Root) error {
	bytes, files := root.Free()
	switch {
	case bytes >= 0 && u.bytes > bytes:
		return fault.At(absolute(u.target.Root), fault.New(fault.Unwritable, "%d bytes are needed there and %d are free", u.bytes, bytes))
	case files >= 0 && int64(len(u.kept)) > files:
		return fault.At(absolute(u.target.Root), fault.New(fault.Unwritable, "%d files are to be made there and there is room for %d", len(u.kept), files))
	}
	return nil
}

// plan opens the archive and finds what is to be kept, and where.
func (u *unit) plan(e *engine) ([]stage.Item, error) {
	u.started = time.Now()
	if err := u.openArchive(e); err != nil {
		return nil, err
	}
	entries := u.archive.Entries()
	if err := u.budget.Count(len(entries)); err != nil {
		return nil, err
	}
	var chosen []*archive.Entry
	for i := range entries {
		entry := &entries[i]
		if u.depth < e.Nested && entry.Kind == archive.File && source.IsArchiveName(path.Base(entry.Path), e.Archives) {
			u.inner = append(u.inner, &unit{top: u.top, outer: u, index: i, depth: u.depth + 1, budget: u.budget})
		} else if !u.keeps(e, entry) {
			continue
		}
		u.kept, chosen = append(u.kept, i), append(chosen, entry)
	}
	e.Selection.Consider(entries)
	stem := format.Stem(filepath.Base(u.name()))
	e.awaitTurn(u)
	paths, err := e.Placement.Paths(chosen, stem, u.outcome.Target)
	if err != nil {
		return nil, err
	}
	if e.Placement.Layout == place.Auto {
		u.unwrap(e.Placement, paths)
	}
	if err := u.placeInner(e, chosen, paths); err != nil {
		return nil, err
	}
	return u.items(e, chosen, paths)
}

// keeps judges an entry, and counts it.
func (u *unit) keeps(e *engine, entry *archive.Entry) bool {
	verdict := e.Selection.Judge(entry)
	switch {
	case verdict != choose.Kept:
	case entry.Kind > archive.Hardlink:
		verdict = choose.Special
	case e.Links == SkipLinks && (entry.Kind == archive.Symlink || entry.Kind == archive.Hardlink):
		verdict = choose.Link
	}
	if entry.Kind != archive.Folder {
		u.outcome.Entries++
		u.outcome.LeftOut[verdict]++
	}
	return verdict == choose.Kept
}

func (u *unit) openArchive(e *engine) (err error) {
	through := func(r io.Reader) io.Reader { return u.budget.Reader(e.ctx, r) }
	if u.outer != nil {
		u.archive, err = u.within.Inner(u.index, through, func() (*os.File, error) { return u.spool(e) })
		u.within.Close()
		return err
	}
	if u.archive, err = u.outcome.Source.Open(e.Reading); err != nil {
		return err
	}
	u.info = u.archive.Info
	u.budget = e.Limits.Budget(u.archive.Size)
	return nil
}

// spool makes a file for an archive inside another that is too large for
// memory.
func (u *unit) spool(e *engine) (*os.File, error) {
	if e.DryRun {
		f, err := os.CreateTemp("", "widecrate-")
		if err == nil {
			u.spooled = f.Name()
		}
		return f, fault.Writing(os.TempDir(), err)
	}
	root, err := e.useRoot(u)
	if err != nil {
		return nil, err
	}
	return root.Spool()
}

func (u *unit) name() string {
	if u.outer != nil {
		return path.Base(u.at)
	}
	return u.outcome.Source.Name()
}

// unwrap makes the single top folder of an archive its own folder.
func (u *unit) unwrap(p *place.Placement, paths []string) {
	top := p.TopFolder(u.archive.Entries(), choose.IsClutter)
	if top == "" {
		return
	}
	u.target.Folder = path.Join(path.Dir(u.target.Folder), top)
	for i, at := range paths {
		if below, found := strings.CutPrefix(at, top+"/"); found {
			paths[i] = below
		} else if at == top {
			paths[i] = "."
		}
	}
}

// placeInner gives the archives inside this one their destinations.
func (u *unit) placeInner(e *engine, chosen []*archive.Entry, paths []string) error {
	byIndex := map[int]*unit{}
	for _, inner := range u.inner {
		byIndex[inner.index] = inner
	}
	for k, i := range u.kept {
		inner := byIndex[i]
		if inner == nil {
			continue
		}
		at := paths[k]
		if at == place.Peeled {
			at = path.Base(chosen[k].Path)
		}
		var err error
		if inner.target, err = e.Placement.Inner(u.target, at, path.Base(chosen[k].Path)); err != nil {
			return err
		}
		inner.at = chosen[k].Path
		inner.outcome = Outcome{Archive: u.outcome.Archive + " › " + inner.at, Source: u.outcome.Source, Target: absolute(inner.target.Path())}
		inner.root = u.root
		e.needRoot(inner)
		inner.within = u.archive
		u.archive.Keep()
		paths[k] = place.Peeled // it is opened, not written
	}
	return nil
}

// items makes the items to stage of the chosen entries that have a path, and
// keeps note of which they are.
func (u *unit) items(e *engine, chosen []*archive.Entry, paths []string) ([]stage.Item, error) {
	var items []stage.Item
	kept := u.kept
	u.kept = nil
	for k, entry := range chosen {
		switch {
		case paths[k] == place.Peeled && entry.Kind != archive.Folder && !u.isInner(kept[k]):
			u.outcome.LeftOut[choose.Pathless]++
			u.outcome.LeftOut[choose.Kept]--
			continue
		case paths[k] == place.Peeled, paths[k] == ".":
			continue
		}
		item := stage.Item{Entry: *entry, Name: entry.Path}
		item.Path = paths[k]
		if entry.Kind == archive.Symlink {
			if err := u.checkLink(e, kept[k], &item); err != nil {
				return nil, fault.At(entry.Path, err)
			}
		}
		items, u.kept = append(items, item), append(u.kept, kept[k])
	}
	return items, nil
}

func (u *unit) isInner(i int) bool {
	for _, inner := range u.inner {
		if inner.index == i {
			return true
		}
	}
	return false
}

func (u *unit) checkLink(e *engine, i int, item *stage.Item) (err error) {
	if e.Links == RefuseLinks {
		return fault.New(fault.Refused, "it is a link, and links are refused").Advise("--links skip leaves links out, --links keep makes them")
	}
	if item.Link, err = archive.LinkTarget(u.archive, i); err != nil {
		return err
	}
	return place.CheckLink(item.Path, item.Link)
}

// A worker claims this much at a time: enough that handing out costs nothing,
// little enough that two share a small archive.
const (
	claimEntries = 64
	claimBytes   = 1 << 20
)

// claim hands out the next wanted entries: those from from up to to.
func (u *unit) claim(ctx context.Context) (from, to int) {
	if u.err != nil || ctx.Err() != nil {
		return u.claimed, u.claimed
	}
	from = u.claimed
	for size := int64(0); u.claimed < len(u.wanted) && u.claimed-from < claimEntries && size < claimBytes; u.claimed++ {
		size += u.archive.Entries()[u.kept[u.wanted[u.claimed]]].Size
	}
	return from, u.claimed
}

// write stages the wanted entries from up to to. With an error it tells at
// which one.
func (u *unit) write(e *engine, from, to int) (int, error) {
	hand := u.stage.Hand()
	defer hand.Close()
	for n := from; n < to; n++ {
		k := u.wanted[n]
		err := hand.Write(k, func(w io.Writer) error { return u.copy(e, u.kept[k], w) })
		if err != nil {
			return n, fault.At(u.archive.Entries()[u.kept[k]].Path, err)
		}
		e.Progress.Entries.Add(1)
	}
	return to, nil
}

// Data is written in pieces of this size, fewer system calls for most files
// than any other choice.
const piece = 256 << 10

var pieces = sync.Pool{New: func() any { return new([piece]byte) }}

// copy writes the data of an entry, until its end or until the run is
// cancelled, within the budget.
func (u *unit) copy(e *engine, i int, w io.Writer) error {
	data, err := u.archive.Open(i)
	if err != nil {
		return err
	}
	defer data.Close()
	block := pieces.Get().(*[piece]byte)
	defer pieces.Put(block)
	share := u.share(i)
	for {
		n, err := io.ReadFull(data, block[:])
		if spent := u.budget.Spend(int64(n)); spent != nil {
			return spent
		}
		if n > 0 {
			if _, err := w.Write(block[:n]); err != nil {
				return err
			}
			e.Progress.Bytes.Add(int64(n))
			e.Progress.Read.Add(int64(share * float64(n)))
		}
		switch {
		case err == io.EOF, err == io.ErrUnexpectedEOF:
			return nil
		case err != nil:
			return err
		case e.ctx.Err() != nil:
			return e.ctx.Err()
		}
	}
}

// share is how many bytes of the source each byte of an entry stands for; the
// entries of an archive inside another count with that.
func (u *unit) share(i int) float64 {
	entry := &u.archive.Entries()[i]
	if u.outer != nil || entry.Size <= 0 || entry.Packed <= 0 {
		return 0
	}
	return float64(entry.Packed) / float64(entry.Size)
}

// stream writes the data of the files to keep to w.
func (u *unit) stream(e *engine, w io.Writer) error {
	if _, err := u.plan(e); err != nil {
		return err
	}
	e.insert(u)
	for _, i := range u.kept {
		entry := &u.archive.Entries()[i]
		if entry.Kind != archive.File {
			continue
		}
		if err := u.copy(e, i, w); err != nil {
			return fault.At(entry.Path, err)
		}
		u.outcome.Bytes += entry.Size
		u.outcome.Placed = append(u.outcome.Placed, Placed{Entry: entry.Path, Kind: entry.Kind, Size: entry.Size})
	}
	return nil
}

// settle commits what was staged, or clears it away after a failure, and fills
// in the outcome.
func (u *unit) settle(e *engine) {
	err := u.err
	if e.ctx.Err() != nil {
		err = e.ctx.Err()
	}
	if u.stage != nil {
		var results []stage.Result
		if err == nil && e.DryRun {
			results, err = u.stage.Preview()
		} else if err == nil {
			results, err = u.stage.Commit()
		}
		if err == nil {
			u.fillIn(results)
		} else if discarded := u.stage.Discard(); discarded != nil {
			err = discarded
		}
	}
	if u.archive != nil {
		u.archive.Close()
	}
	if u.spooled != "" {
		os.Remove(u.spooled)
	}
	if err != u.outcome.Source.Err || u.outer != nil {
		err = fault.At(u.outcome.Archive, err)
	}
	u.outcome.Err = err
	u.outcome.Took = time.Since(u.started)
	u.notePartial()
	e.letGo(u)
	e.Progress.Archives.Add(1)
	u.archive, u.stage, u.kept, u.wanted = nil, nil, nil, nil
}

func (u *unit) fillIn(results []stage.Result) {
	entries := u.archive.Entries()
	root := absolute(u.target.Root)
	u.outcome.Placed = make([]Placed, len(u.kept))
	for k, i := range u.kept {
		entry, r := &entries[i], results[k]
		u.outcome.Placed[k] = Placed{entry.Path, filepath.Join(root, filepath.FromSlash(r.Path)), entry.Kind, entry.Size, r.Action}
		if entry.Kind == archive.File && (r.Action == stage.Added || r.Action == stage.Replaced) {
			u.outcome.Bytes += entry.Size
		}
	}
}
