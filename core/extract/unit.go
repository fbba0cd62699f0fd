package extract

import (
	"context"
	"errors"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/readahead"

	"widecrate/core/archive"
	"widecrate/core/batch"
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
	top     *unit // that of the source; itself, or around it
	target  place.Target
	root    *openRoot
	outcome Outcome
	started time.Time
	budget  *bound.Budget

	// Of an archive inside another:
	outer      *unit
	outerEntry archive.Entry
	index      int // of the entry in outer
	depth      int
	within     *source.Archive // outer's, held until this one is open
	opened     *source.Archive // where outer comes in order: it was opened as it passed by
	openErr    error
	spooled    string // a file to remove afterwards

	archive *source.Archive
	entries []archive.Entry
	kept    []int // entries, by their index in the archive
	inner   []*unit
	stage   *stage.Unit
	wanted  []int          // indices into kept of the entries whose data is needed
	shares  [][]int        // of these: indices into wanted
	second  map[int]int    // of hard links: indices into kept of the link and of what it is a second name of
	data    map[int]int    // of hard links to something that is not kept: index into kept, entry with the data
	byPath  map[string]int // entries by their cleaned paths, as far as they were
	indexed int            // looked at for hard links
	bytes   int64          // claimed size of the wanted entries
	holes   int64          // of these, what takes no room on a disk

	// Of a source, for what becomes of it afterwards:
	files   []source.File
	partial []string // why not all of it was delivered
	untaken bool
	failed  bool

	// Under the lock of the engine:
	claimed   int // shares that were handed out
	pending   int // workers that are busy with the unit
	err       error
	errAt     int // index into wanted
	isPlanned bool
	finished  bool
}

// open opens the archive, chooses its entries, and begins to stage them.
func (u *unit) open(e *engine) error {
	items, err := u.plan(e, u.taker(e))
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
	if e.DryRun {
		if err := u.sum(e, items); err != nil {
			return err
		}
	}
	if u.stage != nil {
		return u.stage.Complete(u.target.Folder, items, u.kept, e.Rules)
	}
	if u.stage, err = root.Begin(u.target.Folder, items, e.Rules); err != nil {
		return err
	}
	for k := range u.kept {
		if _, second := u.second[k]; !second && u.stage.Wanted(k) {
			u.wanted = append(u.wanted, k)
			u.bytes += max(items[k].Size, 0)
			u.holes += items[k].Holes
		}
	}
	if err := u.budget.Check(u.bytes); err != nil {
		return err
	}
	u.shares = batch.Shares(len(u.wanted), func(n int) int64 { return u.entries[u.kept[u.wanted[n]]].Size })
	return u.checkSpace(root)
}

// checkSpace holds what is about to be written against the free space.
func (u *unit) checkSpace(root *stage.Root) error {
	bytes, files := root.Free()
	switch {
	case bytes >= 0 && u.bytes-u.holes > bytes:
		return fault.At(absolute(u.target.Root), fault.New(fault.Unwritable, "%d bytes are needed there and %d are free", u.bytes-u.holes, bytes))
	case files >= 0 && int64(len(u.kept)) > files:
		return fault.At(absolute(u.target.Root), fault.New(fault.Unwritable, "%d files are to be made there and there is room for %d", len(u.kept), files))
	}
	return nil
}

// plan opens the archive and finds what is to be kept, and where. The data of
// an archive that comes in order passes by here: take gets what is kept.
func (u *unit) plan(e *engine, take taker) ([]stage.Item, error) {
	u.started = time.Now()
	if err := u.openArchive(e); err != nil {
		return nil, err
	}
	u.outcome.Format, u.outcome.Remarks = u.archive.Format, archive.Remarks(u.archive.Reader)
	if err := u.list(e, take); err != nil {
		return nil, err
	}
	e.Selection.Consider(u.entries)
	chosen := make([]*archive.Entry, len(u.kept))
	for k, i := range u.kept {
		chosen[k] = &u.entries[i]
	}
	stem := format.Stem(filepath.Base(u.name()))
	if err := e.awaitTurn(u); err != nil {
		return nil, err
	}
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

// list goes through the entries and finds those to keep and the archives among
// them.
func (u *unit) list(e *engine, take taker) error {
	if u.archive.Reader == nil {
		return u.gather(e, take)
	}
	u.entries = u.archive.Entries()
	if err := archive.Broken(u.archive.Reader); err != nil {
		e.lose(u, "", err)
	}
	if err := u.budget.Count(len(u.entries)); err != nil {
		return err
	}
	for i := range u.entries {
		u.consider(e, i)
	}
	return nil
}

// consider judges an entry: it is kept, or opened itself, or neither.
func (u *unit) consider(e *engine, i int) (kept bool, inner *unit) {
	entry := &u.entries[i]
	if u.depth < e.Nested && entry.Kind == archive.File && source.IsArchiveName(path.Base(entry.Path), e.Archives) {
		inner = &unit{top: u.top, outer: u, index: i, depth: u.depth + 1, budget: u.budget}
		u.inner = append(u.inner, inner)
	} else if !u.keeps(e, entry) {
		return false, nil
	}
	u.kept = append(u.kept, i)
	return true, inner
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
	switch {
	case u.outer == nil:
		if u.archive, err = u.outcome.Source.Open(e.Reading); err != nil {
			return err
		}
		u.files = u.archive.Files
		u.budget = e.Limits.Budget(u.archive.Size)
	case u.opened != nil || u.openErr != nil:
		u.archive, err = u.opened, u.openErr
		u.opened = nil
	default:
		var data io.ReadCloser
		if data, err = u.within.Open(u.index); err == nil {
			u.archive, err = u.within.Inner(&u.outerEntry, u.budget.Reader(e.ctx, data), source.InMemory, func() (*os.File, error) { return u.spool(e) })
			data.Close()
		}
		u.within.Close()
		u.within = nil
	}
	return err
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
		return path.Base(u.outerEntry.Path)
	}
	return u.outcome.Source.Name()
}

// unwrap makes the single top folder of an archive its own folder.
func (u *unit) unwrap(p *place.Placement, paths []string) {
	top := p.TopFolder(u.entries, choose.IsClutter)
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
	next := 0 // of the inner ones, which are in the order of the entries
	for k, i := range u.kept {
		if next == len(u.inner) || u.inner[next].index != i {
			continue
		}
		inner := u.inner[next]
		next++
		at := paths[k]
		if at == place.Peeled {
			at = path.Base(chosen[k].Path)
		}
		var err error
		if inner.target, err = e.Placement.Inner(u.target, at, path.Base(chosen[k].Path)); err != nil {
			return fault.At(chosen[k].Path, err)
		}
		inner.outerEntry = *chosen[k]
		inner.outcome = Outcome{Archive: u.outcome.Archive + " › " + chosen[k].Path, Source: u.outcome.Source, Target: absolute(inner.target.Path())}
		inner.root = u.root
		e.needRoot(inner)
		if u.archive.Reader != nil {
			inner.within = u.archive
			u.archive.Keep()
		}
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
		item := stage.Item{Entry: *entry, Name: u.called(kept[k])}
		item.Path = paths[k]
		if entry.Kind == archive.Symlink || entry.Kind == archive.Hardlink {
			found, err := u.checkLink(e, kept[k], &item, len(items))
			if err != nil {
				return nil, fault.At(item.Name, err)
			}
			if !found {
				u.outcome.LeftOut[choose.Link]++
				u.outcome.LeftOut[choose.Kept]--
				continue
			}
		}
		items, u.kept = append(items, item), append(u.kept, kept[k])
	}
	return items, u.checkFolders(items)
}

// largestTree bounds the paths of all folders of an archive together, in bytes.
const largestTree = 256 << 20

// checkFolders counts folders that no entry stands for where they are more than
// the entries: a few long paths may ask for millions.
func (u *unit) checkFolders(items []stage.Item) error {
	seen := map[string]bool{}
	size, last := 0, ""
	for i := range items {
		dir := path.Dir(items[i].Path)
		if dir == last {
			continue
		}
		for last = dir; dir != "." && !seen[dir]; dir = path.Dir(dir) {
			seen[dir] = true
			if size += len(dir); size > largestTree {
				return fault.New(fault.Unsafe, "its folders have paths of more than %d bytes together", largestTree)
			}
		}
	}
	return u.budget.Count(max(0, len(seen)-len(items)))
}

// called is what an entry is called where people read of it: of a series, with
// the member that it is in.
func (u *unit) called(i int) string {
	if member := u.archive.Member(i); member != "" {
		return member + " › " + u.entries[i].Path
	}
	return u.entries[i].Path
}

func (u *unit) isInner(i int) bool {
	_, found := slices.BinarySearchFunc(u.inner, i, func(inner *unit, i int) int { return inner.index - i })
	return found
}

// claim hands out the next share of the wanted entries; nil when none is left.
func (u *unit) claim(ctx context.Context) []int {
	for u.claimed < len(u.shares) && ctx.Err() == nil {
		share := u.shares[u.claimed]
		u.claimed++
		// What stands before an entry that failed is still tried, so that the
		// first one that fails is the same with any number of workers.
		if u.err == nil || share[0] < u.errAt {
			return share
		}
	}
	return nil
}

// write stages a share of the wanted entries. With an error it tells at which one.
func (u *unit) write(e *engine, share []int) (int, error) {
	hand := u.stage.Hand()
	defer hand.Close()
	for _, n := range share {
		k := u.wanted[n]
		err := hand.Write(k, func(w io.Writer) error { return u.copy(e, u.dataOf(k), w) })
		if e.Reading.Salvage && fault.Of(err) == fault.Damaged || errors.Is(err, archive.ErrUnsupported) {
			e.lose(u, u.called(u.kept[k]), err)
			err = u.stage.Lose(k)
		}
		if err != nil {
			return n, fault.At(u.called(u.kept[k]), err)
		}
		e.Progress.Entries.Add(1)
	}
	return 0, nil
}

// aheadPiece is so much of an entry as is decoded ahead at a time.
const aheadPiece = 256 << 10

// copy writes the data of an entry.
func (u *unit) copy(e *engine, i int, w io.Writer) error {
	data, err := u.archive.Open(i)
	if err != nil {
		return err
	}
	defer data.Close()
	from := io.Reader(data)
	if u.entries[i].Size >= batch.Long && u.entries[i].Holes == 0 {
		defer e.long.Add(-1)
		if int(e.long.Add(1)) < e.Workers {
			// Not all workers have a long one: it is decoded on a goroutine of
			// its own, while what came before is written.
			ahead, err := readahead.NewReaderSize(data, 4, aheadPiece)
			if err != nil {
				return err
			}
			defer ahead.Close()
			from = ahead
		}
	}
	_, err = u.pass(e, i, from, w)
	return err
}

// pass writes data of an entry until its end, or until the run is cancelled,
// within the budget.
func (u *unit) pass(e *engine, i int, data io.Reader, w io.Writer) (int64, error) {
	// What the entry promises counts before its first byte.
	if err := u.budget.Check(u.entries[i].Size); err != nil {
		return 0, err
	}
	return archive.Copy(&onward{e: e, u: u, w: w, share: u.share(i)}, data)
}

// onward counts what is written to w.
type onward struct {
	e     *engine
	u     *unit
	w     io.Writer
	share float64 // of the source for each byte
}

func (o *onward) Write(p []byte) (int, error) {
	if err := o.count(int64(len(p))); err != nil {
		return 0, err
	}
	return o.w.Write(p)
}

// WriteHole is that of archive.HoleWriter. Where w has no holes, it gets zeros.
func (o *onward) WriteHole(n int64) error {
	holes, ok := o.w.(archive.HoleWriter)
	if ok {
		if err := o.count(n); err != nil {
			return err
		}
		return holes.WriteHole(n)
	}
	for n > 0 {
		zeros := zeros[:min(n, int64(len(zeros)))]
		if _, err := o.Write(zeros); err != nil {
			return err
		}
		n -= int64(len(zeros))
	}
	return nil
}

var zeros [64 << 10]byte

// count takes note of what is about to be written.
func (o *onward) count(n int64) error {
	if err := o.u.budget.Spend(n); err != nil {
		return err
	}
	if err := o.e.ctx.Err(); err != nil {
		return err
	}
	o.e.Progress.Bytes.Add(n)
	o.e.Progress.Read.Add(int64(o.share * float64(n)))
	return nil
}

// share is how many bytes of the source each byte of an entry stands for; the
// entries of an archive inside another count with that.
func (u *unit) share(i int) float64 {
	entry := &u.entries[i]
	if u.outer != nil || entry.Size <= 0 || entry.Packed <= 0 {
		return 0
	}
	return float64(entry.Packed) / float64(entry.Size)
}

// stream writes the data of the files to keep to w.
func (u *unit) stream(e *engine, w io.Writer) error {
	note := func(entry *archive.Entry) {
		u.outcome.Bytes += max(entry.Size, 0)
		u.outcome.Placed = append(u.outcome.Placed, Placed{Entry: entry.Path, Kind: entry.Kind, Size: entry.Size})
	}
	_, err := u.plan(e, func(i int, data io.Reader) error {
		size, err := u.pass(e, i, data, w)
		u.entries[i].Size = size
		note(&u.entries[i])
		return err
	})
	if err != nil {
		return err
	}
	e.insert(u)
	if u.archive.Reader == nil {
		return nil
	}
	for _, i := range u.kept {
		entry := &u.entries[i]
		if entry.Kind != archive.File {
			continue
		}
		if err := u.copy(e, i, w); err != nil {
			return fault.At(u.called(i), err)
		}
		note(entry)
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
		} else if err == nil && u.allLost() {
			err = u.stage.Discard() // no folder for nothing
		} else if err == nil {
			if err = u.linkSeconds(e); err == nil {
				results, err = u.stage.Commit()
			}
		}
		slices.SortStableFunc(u.outcome.Lost, func(a, b Lost) int { return strings.Compare(a.Entry, b.Entry) })
		if err == nil && results != nil {
			u.fillIn(results)
		} else if discarded := u.stage.Discard(); discarded != nil {
			err = discarded
		}
	}
	u.close()
	if err != u.outcome.Source.Err || u.outer != nil {
		err = fault.At(u.outcome.Archive, err)
	}
	u.outcome.Err = err
	u.outcome.Took = time.Since(u.started)
	u.notePartial()
	e.letGo(u)
	e.Progress.Archives.Add(1)
	u.archive, u.entries, u.stage, u.kept, u.wanted, u.shares = nil, nil, nil, nil, nil, nil
}

// close lets go of the archive, and of the one around it where it was not opened.
func (u *unit) close() {
	for _, a := range []*source.Archive{u.archive, u.opened, u.within} {
		if a != nil {
			a.Close()
		}
	}
	u.archive, u.opened, u.within = nil, nil, nil
	if u.spooled != "" {
		os.Remove(u.spooled)
	}
}

// allLost reports whether all that was kept could not be had.
func (u *unit) allLost() bool {
	lost := u.outcome.LostEntries()
	return lost > 0 && lost == len(u.wanted)
}

func (u *unit) fillIn(results []stage.Result) {
	entries := u.entries
	root := absolute(u.target.Root)
	u.outcome.Placed = make([]Placed, len(u.kept))
	for k, i := range u.kept {
		entry, r := &entries[i], results[k]
		u.outcome.Placed[k] = Placed{entry.Path, filepath.Join(root, filepath.FromSlash(r.Path)), entry.Kind, entry.Size, r.Action, entry.HasCRC32, u.archive.Member(i)}
		if entry.Kind == archive.File && (r.Action == stage.Added || r.Action == stage.Replaced) {
			u.outcome.Bytes += entry.Size
		}
	}
}
