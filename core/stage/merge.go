package stage

import (
	"encoding/json"
	"errors"
	"io/fs"
	"path"
	"slices"
	"strings"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

// journal is what a merge is about to do, written down before its first move:
// should the run be killed, the next one to the root finishes it. All of it was
// staged and checked by then.
type journal struct {
	Folders []string `json:"folders,omitempty"` // to be made, below the root
	Moves   []move   `json:"moves,omitempty"`
	Folder  string   `json:"folder,omitempty"` // to be moved out of the way and then replaced by Staged
	Staged  string   `json:"staged,omitempty"`
}

// move is the journal's line about one item.
type move struct {
	Staged string `json:"staged"`         // in the area
	Target string `json:"target"`         // below the root
	Kept   string `json:"kept,omitempty"` // where the file that it replaces is kept, in the area
	item   int
}

const (
	journalSuffix = "-journal"
	keptSuffix    = "-old"
)

func (j *journal) write(a *area, id string) error {
	text, err := json.Marshal(j)
	if err != nil {
		return err
	}
	// Under its own name it is complete, or not there.
	if err := a.WriteFile(id+"-draft", text, 0o600); err != nil {
		return err
	}
	return a.Rename(id+"-draft", id+journalSuffix)
}

func (j *journal) remove(a *area, id string) error { return a.Remove(id + journalSuffix) }

// merge moves the items to where they go, after the survey. What it did is
// taken back if a move fails.
func (u *Unit) merge(where whereabouts) error {
	j, err := u.plan(where)
	if err != nil {
		return fault.Writing(u.root.full(u.folder), err)
	}
	// A single new file appears by one rename; and in a unit that is still in
	// staging nothing shows.
	journalled := where.base == u.root.dest && (len(j.Moves) > 1 || len(j.Moves) == 1 && j.Moves[0].Kept != "")
	if journalled {
		if err := j.write(u.root.area, u.id); err != nil {
			return fault.Writing(u.root.path, err)
		}
	}
	done, err := u.perform(where, j)
	if err != nil {
		u.takeBack(where, j, done)
	}
	if journalled {
		if removed := j.remove(u.root.area, u.id); err == nil {
			err = fault.Writing(u.root.path, removed)
		}
	}
	if err != nil {
		return err
	}
	for _, m := range j.Moves {
		if m.Kept != "" {
			_ = u.root.area.Remove(m.Kept) // what stays is removed with the area, which tells of errors
		}
	}
	if where.base == u.root.dest {
		_ = u.Discard()
	}
	return nil
}

// plan lists the folders that are missing and the moves to make, one folder
// after the other.
func (u *Unit) plan(where whereabouts) (*journal, error) {
	j := &journal{}
	missing := map[string]bool{}
	var need func(dir string) error
	need = func(dir string) error {
		if _, known := missing[dir]; known || dir == "." {
			return nil
		}
		_, err := where.base.Stat(dir)
		missing[dir] = err != nil
		if err == nil {
			return nil
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if err := need(path.Dir(dir)); err != nil {
			return err
		}
		j.Folders = append(j.Folders, dir)
		return nil
	}
	for i := range u.items {
		if a := u.result[i].Action; a != Added && a != Replaced {
			continue
		}
		target := path.Join(where.folder, u.within(i))
		if u.items[i].Kind == archive.Folder {
			if err := need(target); err != nil {
				return nil, err
			}
			continue
		}
		if err := need(path.Dir(target)); err != nil {
			return nil, err
		}
		dir, name := u.stagedAt(i)
		m := move{Staged: path.Join(dir, name), Target: target, item: i}
		if u.result[i].Action == Replaced {
			m.Kept = name + keptSuffix
			if dir != "." {
				m.Kept = u.id + "-" + m.Kept
			}
		}
		j.Moves = append(j.Moves, m)
	}
	slices.SortStableFunc(j.Moves, func(a, b move) int { return strings.Compare(path.Dir(a.Target), path.Dir(b.Target)) })
	return j, nil
}

// within is the path that an item gets below the unit's folder.
func (u *Unit) within(i int) string {
	if u.folder == "." {
		return u.result[i].Path
	}
	return strings.TrimPrefix(u.result[i].Path, u.folder+"/")
}

// perform makes the moves and returns how many were made.
func (u *Unit) perform(where whereabouts, j *journal) (int, error) {
	for _, dir := range j.Folders {
		if _, err := makeFolders(where.base, dir); err != nil {
			return 0, fault.Writing(u.root.full(dir), err)
		}
	}
	hand := u.Hand()
	defer hand.Close()
	var at spot
	release := func() {
		if at.dir != nil && at.dir != where.home {
			at.dir.close()
		}
	}
	defer func() { release() }()
	for n, m := range j.Moves {
		var err error
		if dir := path.Dir(m.Target); n == 0 || dir != path.Dir(j.Moves[n-1].Target) {
			release()
			if at, err = where.spot(dir); err == nil && at.dir == nil {
				err = fs.ErrNotExist
			}
		}
		if err == nil {
			err = u.moveIn(hand, at.dir, m)
		}
		if err != nil {
			return n, fault.Writing(u.root.full(u.result[m.item].Path), err)
		}
	}
	made := map[string]bool{}
	for _, dir := range j.Folders {
		made[dir] = true
	}
	if where.base != u.root.dest {
		return len(j.Moves), nil // commitFolder does the rest
	}
	err := u.finishFolders(where.base, where.folder, func(i int) bool { return made[path.Join(where.folder, u.items[i].Path)] })
	return len(j.Moves), fault.Writing(u.root.full(u.folder), err)
}

// moveIn moves one staged item to its place. What it replaces is kept.
func (u *Unit) moveIn(hand *Hand, dir *folder, m move) error {
	from, err := hand.at(path.Dir(m.Staged))
	if err != nil {
		return err
	}
	name := path.Base(m.Target)
	if m.Kept != "" {
		if err := keep(dir, name, u.root.area.folder, m.Kept); err != nil {
			return err
		}
	}
	if err := from.move(path.Base(m.Staged), dir.handle, name, m.Kept != ""); err != nil {
		return err
	}
	u.staged[m.item].Store(false)
	return nil
}

// keep puts a file aside before it is replaced. With a second name it is never
// missing under its first; not every file system has that.
func keep(dir *folder, name string, area *folder, kept string) error {
	if dir.link(name, area.handle, kept) == nil {
		return nil
	}
	return dir.move(name, area.handle, kept, false)
}

// takeBack undoes the first moves of a merge, and the one after them as far as
// it came. It does what it can: an error in the middle of an error has nowhere
// to go, and what it cannot move back stays where it is.
func (u *Unit) takeBack(where whereabouts, j *journal, done int) {
	for n, m := range slices.Backward(j.Moves[:min(done+1, len(j.Moves))]) {
		switch {
		case m.Kept != "":
			if at, err := where.spot(path.Dir(m.Target)); err == nil && at.dir != nil {
				_ = u.root.area.move(m.Kept, at.dir.handle, path.Base(m.Target), true)
				if at.dir != where.home {
					at.dir.close()
				}
			}
		case n < done:
			_ = where.base.Remove(m.Target)
		}
	}
	removeFolders(where.base, j.Folders)
}

// finish completes the merges that a killed run had begun, by their journals,
// and returns how many. A target that appeared in the meantime stays.
func (r *Root) finish(left *folder) (int, error) {
	area, err := left.Open(".")
	if err != nil {
		return 0, err
	}
	names, err := area.Readdirnames(-1)
	area.Close()
	if err != nil {
		return 0, err
	}
	finished := 0
	for _, name := range names {
		if !strings.HasSuffix(name, journalSuffix) {
			continue
		}
		text, err := left.ReadFile(name)
		if err != nil {
			return finished, err
		}
		var j journal
		if err := json.Unmarshal(text, &j); err != nil {
			return finished, err
		}
		if err := r.finishOne(left, &j); err != nil {
			return finished, err
		}
		finished++
	}
	return finished, nil
}

func (r *Root) finishOne(left *folder, j *journal) error {
	if j.Folder != "" {
		j.Moves = append(j.Moves, move{Staged: j.Staged, Target: j.Folder})
	}
	for _, dir := range j.Folders {
		if _, err := makeFolders(r.dest, dir); err != nil {
			return err
		}
	}
	for _, m := range j.Moves {
		if _, err := left.Lstat(m.Staged); err != nil {
			if errors.Is(err, fs.ErrNotExist) {
				continue // it was moved
			}
			return err
		}
		from, err := openFolder(left.Root, path.Dir(m.Staged))
		if err != nil {
			return err
		}
		to, err := openFolder(r.dest, path.Dir(m.Target))
		if err == nil {
			err = from.move(path.Base(m.Staged), to.handle, path.Base(m.Target), m.Kept != "")
			to.close()
		}
		from.close()
		if err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	return nil
}
