package revise

import (
	"context"
	"errors"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/agnivade/levenshtein"

	"widecrate/core/archive"
	"widecrate/core/bound"
	"widecrate/core/choose"
	"widecrate/core/create"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/format/zip"
	"widecrate/core/newfile"
	"widecrate/core/parts"
	"widecrate/core/place"
	"widecrate/core/report"
	"widecrate/core/source"
	"widecrate/core/walk"
)

// A Move is a new path for an entry, or for a folder with all below it.
type Move struct{ Old, New string }

// An Edit is a request to change one archive.
type Edit struct {
	Archive string
	Add     create.Options // sources, puts, texts and streams; an entry with the path of one of them is replaced
	Remove  []string       // patterns, as in choose.Rules
	Moves   []Move
	Reading archive.Options
	Limits  bound.Limits
}

// Run changes an archive: the new one takes the place of the old one when it is
// complete. Entries that stay are copied as they are packed. Errors are of kind
// fault.Usage (nothing to do, a path that is none), fault.Refused (a path is
// taken, an archive in parts), fault.NoMatch (nothing is called so), or those of
// reading and writing; with any of them the archive is as it was.
func (e Edit) Run(ctx context.Context) (*report.Edited, error) {
	started := time.Now()
	set, err := parts.Of(e.Archive, nil)
	if set == nil && err == nil {
		set = parts.OfLast(e.Archive)
	}
	if err != nil {
		return nil, err
	}
	if set != nil {
		return nil, fault.At(e.Archive, fault.New(fault.Refused, "it is in parts, which are not edited").
			Advise("join them first with widecrate parts join, and split the result again"))
	}
	named := e.Archive
	if e.Archive, err = filepath.EvalSymlinks(e.Archive); err != nil { // a link stays one
		return nil, fault.Reading(named, err)
	}
	old, err := disposal.Hold(ctx, e.Archive) // another edit of the archive waits, and sees this one
	if err != nil {
		return nil, err
	}
	defer old.Release()
	from, err := walk.Open(ctx, source.Source{Path: e.Archive}, walk.Opening{Options: e.Reading, Limits: e.Limits, Ordered: true})
	if err != nil {
		return nil, fault.At(e.Archive, err)
	}
	defer from.Close()
	f, err := create.FormatOf(e.Archive, from.Format)
	if err != nil {
		return nil, err
	}
	if f.HoldsOne {
		return nil, fault.At(e.Archive, fault.New(fault.Usage, "it is one compressed file, and holds nothing to edit"))
	}
	if z, ok := from.Directory().(*zip.Reader); ok && z.Front() > 0 {
		return nil, fault.At(e.Archive, fault.New(fault.Refused, "%d bytes stand in front of the archive in it, and would be lost", z.Front()))
	}
	e.Add.Format, e.Add.Archive = f, e.Archive
	if err := e.Add.Check(); err != nil {
		return nil, err
	}
	contents, err := create.Gather(ctx, e.Add)
	if err != nil {
		return nil, err
	}
	p, err := newPlan(e, contents.Paths())
	if err != nil {
		return nil, err
	}
	full, err := filepath.Abs(e.Archive)
	if err != nil {
		return nil, fault.Reading(e.Archive, err)
	}
	r := &report.Edited{Archive: full, Before: from.Size()}
	if err := e.write(ctx, old, from, f, contents, p, r); err != nil {
		if fault.Of(err) != fault.Unwritable { // that says where itself
			err = fault.At(e.Archive, err)
		}
		return nil, err
	}
	r.Took = report.Since(started)
	return r, nil
}

func (e Edit) write(ctx context.Context, old *disposal.Old, from *walk.Archive, f archive.Format, contents *create.Contents, p *plan, r *report.Edited) error {
	out, err := newfile.CreateOver(old)
	if err != nil {
		return err
	}
	w, err := f.NewWriter(out, e.Add.Writing)
	if err == nil {
		t := transfer{ctx: ctx, from: from, to: w, needsSize: f.NeedsSize, decide: p.decide, goes: p.goes, moves: len(e.Moves) > 0, packed: func(*archive.Entry) bool { return true },
			meter: bound.Meter{Context: ctx, Budget: from.Budget()}}
		err = t.run()
	}
	if err == nil {
		err = p.unmatched()
	}
	if err == nil {
		err = p.consistent()
	}
	var packed report.Created
	if err == nil {
		err = contents.Pack(w, &packed)
	}
	if err == nil {
		err = fault.Writing("", w.Close())
	} else if w != nil {
		w.Abort()
	}
	if err == nil {
		err = fault.Writing(e.Archive, out.Chmod(from.Files[0].Info.Mode().Perm()))
	}
	if err == nil {
		err = from.Files[0].Unchanged()
	}
	var info os.FileInfo
	if err == nil {
		info, err = out.Stat()
	}
	if err != nil {
		return errors.Join(err, out.Discard())
	}
	r.After, r.LeftOut = info.Size(), packed.LeftOut
	r.Replaced, r.Removed, r.Moved, r.Stay, r.Locked = p.replaced, p.removed, p.moved, p.stay, p.locked
	r.Spare = p.spare
	r.Added = packed.Files - p.replaced
	from.Close() // no system replaces a file that is open, but for some
	return out.Commit()
}

// plan decides what becomes of each entry.
type plan struct {
	edit   Edit
	remove *choose.Selection
	added  map[string]archive.Kind
	moves  []*move
	paths  map[string]bool // all that are taken; true: by a move
	gone   map[string]bool // what was removed or replaced, for links to it
	kinds  map[string]archive.Kind

	replaced, removed, moved, stay, locked int

	spare []string // patterns that removed nothing, beside other changes
}

type move struct {
	Move
	used    bool
	nearest string
	apart   int
}

func newPlan(e Edit, added map[string]archive.Kind) (*plan, error) {
	p := &plan{edit: e, added: added, paths: map[string]bool{}, gone: map[string]bool{}, kinds: map[string]archive.Kind{}}
	var err error
	if p.remove, err = choose.New(choose.Rules{Drop: e.Remove}); err != nil {
		return nil, err
	}
	for _, m := range e.Moves {
		cleaned := Move{path.Clean(m.Old), ""}
		if cleaned.New, err = place.Clean(m.New); err != nil || cleaned.New == "." {
			return nil, fault.New(fault.Usage, "%q cannot be a path in an archive", m.New)
		}
		p.moves = append(p.moves, &move{Move: cleaned})
	}
	if len(added) == 0 && len(e.Remove) == 0 && len(e.Moves) == 0 {
		return nil, fault.New(fault.Usage, "there is nothing to change: name what to add, remove or move")
	}
	return p, nil
}

// goes is where what has a path now will be, unless something new has that path then.
func (p *plan) goes(at string) string {
	if _, added := p.added[at]; added {
		return at
	}
	for _, m := range p.moves {
		if to, moves := m.of(at); moves {
			return to
		}
	}
	return at
}

// decide says which path an entry gets; empty: it goes.
func (p *plan) decide(_ int, e *archive.Entry) (string, error) {
	at := cleaned(e.Path)
	if e.Encrypted {
		p.locked++
	}
	count := 1
	if e.Kind == archive.Folder {
		count = 0
	}
	if p.remove.Judge(e) == choose.Dropped {
		p.removed += count
		p.gone[at] = true
		return "", nil
	}
	to := p.moveOf(at)
	if e.Kind == archive.Hardlink {
		if p.gone[cleaned(e.Link)] {
			return "", fault.At(e.Path, fault.New(fault.Refused, "it is a second name of %s, which would go", e.Link).
				Advise("remove both, or unpack and pack again"))
		}
	}
	if kind, added := p.added[to]; added {
		if kind != archive.Folder && e.Kind == archive.Folder {
			return "", fault.New(fault.Refused, "%s is a folder in the archive, and a file would take its place", to)
		}
		p.replaced += count
		p.gone[at] = true
		return "", nil
	}
	if byMove, taken := p.paths[to]; taken && (byMove || to != at) {
		return "", fault.New(fault.Refused, "two entries would have the path %s", to).Advise("remove one of them, or choose another path")
	}
	p.paths[to] = to != at
	p.kinds[to] = e.Kind
	if to == at {
		p.stay += count
		return e.Path, nil
	}
	p.moved += count
	return to, nil
}

// of is what becomes of a path, if it is moved.
func (m *move) of(at string) (to string, moves bool) {
	if at == m.Old {
		return m.New, true
	}
	below, moves := strings.CutPrefix(at, m.Old+"/")
	return m.New + "/" + below, moves
}

// moveOf is the path that an entry has after the moves.
func (p *plan) moveOf(at string) string {
	for _, m := range p.moves {
		if to, moves := m.of(at); moves {
			m.used = true
			return to
		}
		if apart := levenshtein.ComputeDistance(m.Old, at); !m.used && len(p.paths) < 20_000 && (m.nearest == "" || apart < m.apart) {
			m.nearest, m.apart = at, apart
		}
	}
	return at
}

// consistent refuses that something which was added or moved would have to be a folder for
// something else, or lie below what is none: nobody could unpack that.
func (p *plan) consistent() error {
	for at, kind := range p.added {
		p.kinds[at] = kind
	}
	isNew := func(at string) bool {
		_, added := p.added[at]
		return added || p.paths[at]
	}
	for _, at := range slices.Sorted(maps.Keys(p.kinds)) {
		for above := path.Dir(at); above != "."; above = path.Dir(above) {
			if kind, there := p.kinds[above]; there && kind != archive.Folder && (isNew(at) || isNew(above)) {
				return fault.New(fault.Refused, "%s would have to be a folder for %s", above, at).Advise("choose another path, or remove one of them")
			}
		}
	}
	return nil
}

// changes counts what is done beside what matched nothing.
func (p *plan) changes() int { return len(p.added) + p.removed + p.moved }

// unmatched is an error about what matched nothing.
func (p *plan) unmatched() error {
	for _, rule := range p.remove.Unmatched() {
		if p.changes() > 0 {
			p.spare = append(p.spare, rule.Text)
			continue
		}
		return fault.New(fault.NoMatch, "nothing in it matches %q", rule.Text).Advise("widecrate inspect shows what is inside")
	}
	for _, m := range p.moves {
		if !m.used {
			err := fault.New(fault.NoMatch, "nothing in it has the path %q", m.Old)
			if m.nearest != "" && 2*m.apart <= len(m.Old) {
				return err.Advise("the nearest is \"" + m.nearest + "\"")
			}
			return err
		}
	}
	return nil
}
