package stage

import (
	"fmt"
	"io/fs"
	"sync"
	"time"

	"widecrate/core/folder"
)

// loose are files of a unit that are staged without a name: the one that they get
// in the end is their first. That costs half of what a file under a number costs
// that is moved, and nothing is left of them when the run dies. They are kept open,
// and therefore only so many of them: the others are staged under their numbers.
type loose struct {
	mu    sync.Mutex
	files map[int]folder.Unnamed // by number
	area  *area
}

// nameless reports whether the file system has files without names, and finds out
// how many may be open.
func (a *area) nameless() bool {
	a.measure.Do(func() {
		most := a.UnnamedRoom()
		a.room.Store(int64(most))
		a.unnamed, a.onDisk = most > 0, a.OnDisk()
	})
	return a.unnamed
}

// make makes the staged file of a number.
func (l *loose) make(id string, number int, it *Item) (folder.File, error) {
	area := l.area
	if !area.nameless() || area.room.Add(-1) < 0 {
		if area.unnamed {
			area.room.Add(1)
		}
		return area.Make(flatName(id, number), it.perm())
	}
	f, err := area.MakeUnnamed(it.perm())
	if err != nil {
		area.room.Add(1)
		return nil, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.files == nil {
		l.files = map[int]folder.Unnamed{}
	}
	l.files[number] = f
	return f, nil
}

// drop lets go of the file of a number, and reports whether it is one of these.
func (l *loose) drop(number int) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	f, is := l.files[number]
	if is {
		_ = f.Close() // the file was finished, or is not wanted
		delete(l.files, number)
		l.area.room.Add(1)
	}
	return is
}

func (l *loose) dropAll() {
	for number := range l.files {
		l.drop(number)
	}
}

// nameIn gives the file of a number its name, and reports whether it is one of
// these.
func (l *loose) nameIn(number int, to *folder.Folder, name string) (is bool, err error) {
	f, is := l.files[number]
	if !is {
		return false, nil
	}
	if err := f.NameIn(to.Handle, name); err != nil {
		return true, err
	}
	l.drop(number)
	return true, nil
}

// settle puts the staged file of an item under its number, should it have no name.
func (u *staging) settle(i int) error {
	_, err := u.loose.nameIn(u.number(i), u.root.area.Folder, flatName(u.id, u.number(i)))
	return err
}

// markLoose notes in the journal of a merge what is staged, because it may lose
// that with the run: then the merge has to be taken back. It is false where that
// is not so.
func (u *staging) markLoose(j *journal) (bool, error) {
	if len(u.loose.files) == 0 {
		return false, nil
	}
	for n := range j.Moves {
		m := &j.Moves[n]
		f, is := u.loose.files[u.number(m.item)]
		if !is {
			m.Mark = mark(u.root.area.Folder, m.Staged)
			continue
		}
		size, modified, err := f.Stat()
		if err != nil {
			return false, err
		}
		m.Mark = markOf(0, size, modified)
	}
	return true, nil
}

// mark tells a file from another that took its name, and from itself after a change.
func mark(dir *folder.Folder, name string) string {
	info, err := dir.Lstat(name)
	if err != nil {
		return ""
	}
	return markOf(info.Mode().Type(), info.Size(), info.ModTime())
}

func markOf(kind fs.FileMode, size int64, modified time.Time) string {
	return fmt.Sprint(kind, size, modified.UnixNano())
}
