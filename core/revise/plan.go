package revise

import (
	"maps"
	"path"
	"slices"
	"strings"

	"github.com/agnivade/levenshtein"

	"widecrate/core/archive"
	"widecrate/core/choose"
	"widecrate/core/fault"
)

// plan decides what becomes of each entry.
type plan struct {
	edit   *Edit
	remove *choose.Selection
	added  map[string]archive.Kind
	moves  []*move
	paths  map[string]bool // all that are taken; true: by a move
	gone   map[string]bool // what was removed or replaced, for links to it
	kinds  map[string]archive.Kind

	was map[string]replaced // what is replaced, by its path

	replaced, removed, moved, stay, locked int // folders do not count

	changed bool // something goes or moves
}

type move struct {
	Move
	done    bool // now, or before
	nearest string
	apart   int
}

func newPlan(e *Edit, moves []Move, added map[string]archive.Kind) (*plan, error) {
	p := &plan{edit: e, added: added, paths: map[string]bool{}, gone: map[string]bool{}, kinds: map[string]archive.Kind{}, was: map[string]replaced{}}
	for _, m := range moves {
		p.moves = append(p.moves, &move{Move: m})
	}
	var err error
	p.remove, err = choose.New(choose.Rules{Drop: e.Remove})
	return p, err
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
		p.changed = true
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
		if exactly := func(m *move) bool { return m.Old == at }; to != at && kind != archive.Folder && slices.ContainsFunc(p.moves, exactly) {
			return "", fault.New(fault.Refused, "%s would move to %s, which is added as well", at, to).Advise("choose another path for one of them, or remove the first")
		}
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
	p.changed = true
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
			m.done = true
			return to
		}
		if at == m.New || strings.HasPrefix(at, m.New+"/") {
			m.done = true
		}
		if apart := levenshtein.ComputeDistance(m.Old, at); !m.done && len(p.paths) < 20_000 && (m.nearest == "" || apart < m.apart) {
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
