package stage

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"widecrate/core/archive"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/place"
)

// journal is what a merge is about to do, or about to take back, written down
// before its first move: should the run be killed, the next one to the root
// finishes the merge. All items were staged and checked by then.
type journal struct {
	Key     string   `json:"key"` // of the area
	Back    bool     `json:"back,omitempty"`
	Folders []string `json:"folders,omitempty"` // to be made, below the root
	Finish  []made   `json:"finish,omitempty"`  // what they get after all moves
	Moves   []move   `json:"moves,omitempty"`
}

// move is the journal's line about one item, or about a whole folder.
type move struct {
	Staged string `json:"staged"`         // in the area
	Target string `json:"target"`         // below the root
	Kept   string `json:"kept,omitempty"` // where the replaced file is kept, in the area
	Mark   string `json:"mark,omitempty"` // of what was moved, where it is taken back
	item   int
}

const (
	journalSuffix = "-journal"
	keptSuffix    = "-old"
)

func (j *journal) write(a *area, id string) error {
	j.Key = a.key
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

// valid reports whether all that a journal names lies in its area and root.
func (j *journal) valid() bool {
	inside := func(target string) bool {
		cleaned, err := place.Clean(target)
		return err == nil && cleaned == target
	}
	for _, m := range j.Moves {
		if !inside(m.Target) || !fs.ValidPath(m.Staged) || m.Kept != "" && !fs.ValidPath(m.Kept) {
			return false
		}
	}
	return !slices.ContainsFunc(j.Folders, func(dir string) bool { return !inside(dir) }) &&
		!slices.ContainsFunc(j.Finish, func(m made) bool { return !inside(m.Path) })
}

// move moves the items to where they go, after the survey. What it did is
// taken back if a move fails.
func (u *staging) move(where ground) error {
	j, err := u.plan(where)
	if err != nil {
		return fault.Writing(u.site.full(u.folder), err)
	}
	area := u.root.area
	if where.base == u.site.dest {
		if err := u.keepReplaced(j); err != nil {
			return err
		}
	}
	// A single new file appears at once; and in a unit that is still in staging
	// nothing shows.
	journalled := where.base == u.site.dest && (len(j.Moves) > 1 || len(j.Moves) == 1 && j.Moves[0].Kept != "")
	if journalled {
		if j.Back, err = u.markLoose(j); err != nil {
			return fault.Writing(u.site.path, err)
		}
		if err := j.write(area, u.id); err != nil {
			return fault.Writing(u.site.path, err)
		}
	}
	done, err := u.perform(where, j)
	if err != nil {
		u.keeper.Back()
		if back := u.takeBack(where, j, done, journalled); back != nil {
			return back
		}
	}
	if journalled {
		if removed := j.remove(area, u.id); err == nil {
			err = fault.Writing(u.site.path, removed)
		}
	}
	if err != nil {
		return err
	}
	if where.base == u.site.dest {
		u.anew = j.Folders
	}
	u.keeper.Settled()
	j.letGo(area.Folder, where)
	return nil
}

// letGo lets go of the files that were replaced. What stays of them is removed with the
// area, which reports errors.
func (j *journal) letGo(area *folder.Folder, where ground) {
	var at slot
	last := ""
	for _, m := range j.Moves {
		if m.Kept == "" {
			continue
		}
		if dir := path.Dir(m.Target); at.dir == nil || dir != last {
			where.release(at)
			last = dir
			var err error
			if at, err = where.slot(dir); err != nil || at.dir == nil {
				continue
			}
		}
		_ = disposal.Replaced(area, m.Kept, at.dir, path.Base(m.Target))
	}
	where.release(at)
}

// takeBack undoes the first moves of a merge, and the one after them as far as
// it came, after noting in the journal that this is the direction now. It is nil
// if all is as it was before; otherwise it says where the files are that were
// replaced, and the area stays.
func (u *staging) takeBack(where ground, j *journal, done int, journalled bool) error {
	area := u.root.area
	begun := done
	if done < len(j.Moves) {
		if _, untouched := u.loose.files[u.number(j.Moves[done].item)]; !untouched {
			begun++
		}
	}
	j.Moves = j.Moves[:begun]
	j.Back = true
	if journalled {
		for n := range j.Moves[:done] {
			m := &j.Moves[n]
			if at, err := where.slot(path.Dir(m.Target)); err == nil && at.dir != nil {
				m.Mark = mark(at.dir, path.Base(m.Target))
				where.release(at)
			}
		}
		_ = j.write(area, u.id) // on a full disk: were it killed now, the next run would finish the merge
	}
	failed := j.undo(area.Folder, where)
	for n := range j.Moves {
		u.staged[j.Moves[n].item].Store(true)
	}
	if failed == nil {
		return nil
	}
	area.keep.Store(true)
	return fault.At(u.site.full(u.folder), fault.New(fault.Unwritable, "what was moved there could not be taken back: %w", errors.Join(failed...)).
		Advise("the files that were replaced are in "+filepath.Join(area.path, area.name)+"; the next run to this folder tries to put them back"))
}

// plan lists the folders that are missing and the moves to make, one folder
// after the other.
func (u *staging) plan(where ground) (*journal, error) {
	j := &journal{}
	replaces := false
	missing := map[string]bool{}
	var need func(dir string) error
	need = func(dir string) error {
		if _, known := missing[dir]; known || dir == "." {
			return nil
		}
		above := path.Dir(dir)
		if err := need(above); err != nil {
			return err
		}
		if !missing[above] { // else it is missing for certain
			_, err := where.base.Stat(dir)
			if err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
			missing[dir] = err != nil
		} else {
			missing[dir] = true
		}
		if missing[dir] {
			j.Folders = append(j.Folders, dir)
		}
		return nil
	}
	for i := range u.items {
		if a := u.result[i].Action; a != Added && a != Replaced {
			continue
		}
		target := below(where.folder, u.within(i))
		if u.items[i].Kind == archive.Folder {
			if err := need(target); err != nil {
				return nil, err
			}
			continue
		}
		if err := need(path.Dir(target)); err != nil {
			return nil, err
		}
		dir, name := u.at(i)
		m := move{Staged: below(dir, name), Target: target, item: i}
		if u.result[i].Action == Replaced {
			replaces = true
			m.Kept = flatName(u.id, u.number(i)) + keptSuffix
		}
		j.Moves = append(j.Moves, m)
	}
	for i := 0; i < len(u.items) && replaces; i++ { // what a killed run has begun to replace is replaced by the next
		if err := u.settle(i); err != nil {
			return nil, err
		}
	}
	slices.Sort(j.Folders)
	j.Finish = u.made(where.folder, func(at string) bool { return missing[at] })
	slices.SortStableFunc(j.Moves, func(a, b move) int { return strings.Compare(path.Dir(a.Target), path.Dir(b.Target)) })
	return j, nil
}

// perform makes the moves and returns how many were made.
func (u *staging) perform(where ground, j *journal) (int, error) {
	if err := makeAll(where.base, ".", j.Folders); err != nil {
		return 0, fault.Writing(u.site.full(u.folder), err)
	}
	w := u.Writer()
	defer w.Close()
	var at slot
	defer func() { where.release(at) }()
	for n, m := range j.Moves {
		var err error
		if dir := path.Dir(m.Target); n == 0 || dir != path.Dir(j.Moves[n-1].Target) {
			where.release(at)
			if at, err = where.slot(dir); err == nil && at.dir == nil {
				err = fs.ErrNotExist
			}
		}
		if err == nil {
			err = u.moveIn(w, at.dir, m)
		}
		if err != nil {
			return n, fault.Writing(u.site.full(u.result[m.item].Path), err)
		}
	}
	if where.base != u.site.dest {
		return len(j.Moves), nil // commitFolder does the rest
	}
	err := finish(where.base, j.Finish)
	return len(j.Moves), fault.Writing(u.site.full(u.folder), err)
}

// moveIn moves one staged item to its place. What it replaces is kept.
func (u *staging) moveIn(w *Writer, dir *folder.Folder, m move) error {
	loose, err := u.loose.nameIn(u.number(m.item), dir, path.Base(m.Target))
	if err != nil {
		return err
	}
	if !loose {
		from, err := w.at(path.Dir(m.Staged))
		if err != nil {
			return err
		}
		if err := m.do(u.root.area.Folder, from, dir); err != nil {
			return err
		}
	}
	u.staged[m.item].Store(false)
	return nil
}

// do makes a move, or what is left of one: from the folder of the staged item to another. Something that appeared at its target in the meantime is an error
// that is fs.ErrExist.
func (m *move) do(area, from, to *folder.Folder) error {
	staged, name := path.Base(m.Staged), path.Base(m.Target)
	if m.Kept == "" {
		return from.MoveTo(staged, to.Handle, name, false)
	}
	there, err := keep(to, name, area, m.Kept)
	if err != nil {
		return err
	}
	return from.MoveTo(staged, to.Handle, name, there)
}

// keep gives a file a second name in the area, so that it is never missing under
// its first, and reports whether it still has that: not every file system has
// second names, and folders have none.
func keep(dir *folder.Folder, name string, area *folder.Folder, kept string) (there bool, err error) {
	if _, err := area.Lstat(kept); err == nil { // by a run that was killed
		return sameFile(dir, name, area, kept), nil
	}
	if err := dir.Movable(name); err != nil {
		return false, err
	}
	if dir.LinkTo(name, area.Handle, kept) == nil {
		return true, nil
	}
	return false, ignoreMissing(dir.MoveTo(name, area.Handle, kept, false))
}

func sameFile(a *folder.Folder, name string, b *folder.Folder, other string) bool {
	x, errX := a.Lstat(name)
	y, errY := b.Lstat(other)
	return errX == nil && errY == nil && os.SameFile(x, y)
}

// undo takes back moves, the last one first, and the folders that were made for
// them. What is done already is not done again.
func (j *journal) undo(area *folder.Folder, where ground) (failed []error) {
	for _, m := range slices.Backward(j.Moves) {
		at, err := where.slot(path.Dir(m.Target))
		if err == nil && at.dir != nil {
			var from *folder.Folder
			if from, err = folder.Open(area.Root, path.Dir(m.Staged)); err == nil {
				err = m.undo(area, from, at.dir)
				from.Close()
			}
			where.release(at)
		} else if _, kept := area.Lstat(m.Kept); m.Kept != "" && kept == nil {
			err = errors.Join(err, fs.ErrNotExist)
		}
		if err != nil {
			failed = append(failed, fmt.Errorf("%s: %w", m.Target, err))
		}
	}
	folder.RemoveBelow(where.base, j.Folders)
	return failed
}

// undo takes back one move.
func (m *move) undo(area, from, to *folder.Folder) error {
	staged, name := path.Base(m.Staged), path.Base(m.Target)
	_, err := from.Lstat(staged)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	there := true
	if err != nil && (m.Mark == "" || mark(to, name) == m.Mark) { // the file was moved, and nobody has touched it since
		if there, err = keep(to, name, from, staged); err != nil {
			return err
		}
	}
	kept := m.Kept != ""
	if kept {
		_, err = area.Lstat(m.Kept)
		kept = err == nil
		if ignoreMissing(err) != nil {
			return err
		}
	}
	if !kept { // the move replaced nothing
		if there && sameFile(to, name, from, staged) {
			return to.Remove(name)
		}
		return nil
	}
	if sameFile(to, name, area, m.Kept) {
		_ = area.Remove(m.Kept) // no more than a second name, which goes with the area, should it stay
		return nil
	}
	return area.MoveTo(m.Kept, to.Handle, name, sameFile(to, name, from, staged))
}

// finish completes the merges of a killed run by their journals, or takes back those that
// the run was taking back. It is false where something has to stay.
func (r *Root) finish(left *folder.Folder, key string) (bool, error) {
	names, err := left.Names()
	if err != nil {
		return false, err
	}
	all := true
	for _, name := range names {
		if !strings.HasSuffix(name, journalSuffix) {
			continue
		}
		text, err := r.area.journal(left, name)
		if err != nil {
			return false, err
		}
		var j journal
		if json.Unmarshal(text, &j) != nil || j.Key != key || !j.valid() {
			all = false
			continue
		}
		switch {
		case j.Back && len(j.undo(left, ground{base: r.dest, home: r.home})) > 0:
			all = false
			continue
		case j.Back:
			r.Reclaimed.TakenBack++
		default:
			if err := r.redo(left, &j); err != nil {
				return false, err
			}
			r.Reclaimed.Finished++
		}
		// What is done is not done again, should something else stay.
		if err := left.Remove(name); err != nil {
			return false, err
		}
	}
	return all, nil
}

// redo makes the moves that are left. A target that appeared in the meantime
// stays.
func (r *Root) redo(left *folder.Folder, j *journal) error {
	if err := makeAll(r.dest, ".", j.Folders); err != nil {
		return err
	}
	for _, m := range j.Moves {
		if _, err := left.Lstat(m.Staged); err != nil {
			if errors.Is(err, fs.ErrNotExist) {
				continue // the item was moved
			}
			return err
		}
		from, err := folder.Open(left.Root, path.Dir(m.Staged))
		if err != nil {
			return err
		}
		to, err := folder.Open(r.dest, path.Dir(m.Target))
		if err == nil {
			err = m.do(left, from, to)
			to.Close()
		}
		from.Close()
		if err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	return ignoreMissing(finish(r.dest, j.Finish))
}
