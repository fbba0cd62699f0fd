package stage

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"widecrate/core/claim"
	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/place"
)

// prefix starts the names of all that lies about hidden until it is complete.
const prefix = place.StagingPrefix

// ownerFile says, in each staging area, whose it is. It is locked as long as
// its run lives, and touched now and then for those on other hosts, where the
// lock may not be seen. Until it is complete it has its draft's name.
const (
	ownerFile  = "owner"
	ownerDraft = "owner-draft"
)

// owner is the content of ownerFile. An archive could bring a folder that looks
// like an area, but not one that says which file of the disk it will be itself,
// and when that was made: only an area that does is believed.
type owner struct {
	Host     string `json:"host"`
	PID      int    `json:"pid"`
	Root     string `json:"root"`     // the destination root, for people
	RootID   string `json:"root_id"`  // the identity of the root: the path may be that of another by now
	Identity string `json:"identity"` // of the area
	Key      string `json:"key"`      // which is in the journals of the area as well
}

// area is a staging area: a folder that only this run touches.
type area struct {
	*folder.Folder
	parent *os.Root
	path   string // of the folder around the area
	name   string
	key    string
	lock   *os.File
	born   time.Time   // by the clock of the file system
	made   fs.FileInfo // of the owner file
	inside fs.FileInfo // of the area itself
	stop   func()      // the heartbeat; nil: there is none yet
	keep   atomic.Bool // something in the area belongs to a user, and the area stays

	measure sync.Once    // of what follows; see nameless
	unnamed bool         // there may be files without a name
	onDisk  bool         // where a file lies matters
	room    atomic.Int64 // for files without a name
}

func openArea(dir string, root *Root) (*area, error) {
	for tries := 0; ; tries++ {
		a := &area{path: dir, name: claim.NewRun(), key: rand.Text()}
		var err error
		if a.parent, err = os.OpenRoot(dir); err != nil {
			return nil, err
		}
		if err = a.open(root); err == nil {
			a.stop = claim.Beat(a.lock)
			return a, nil
		}
		a.close()
		// Another run may have taken this one for dead while the area was empty: where a host
		// hides its processes from each other.
		if tries == attempts || !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
}

func (a *area) open(root *Root) (err error) {
	if err := a.parent.Mkdir(a.name, 0o700); err != nil {
		return err
	}
	folder.Hide(a.parent, a.name)
	if a.Folder, err = folder.Open(a.parent, a.name); err != nil {
		return err
	}
	if a.lock, err = a.OpenFile(ownerDraft, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600); err != nil {
		return err
	}
	if err := claim.Lock(a.lock); err != nil {
		return err
	}
	o := owner{PID: os.Getpid(), Root: root.path, RootID: root.identity, Key: a.key}
	if o.Host, err = os.Hostname(); err != nil {
		return err
	}
	if o.Identity, err = a.Identity(); err != nil {
		return err
	}
	text, err := json.Marshal(o)
	if err != nil {
		return err
	}
	if _, err := a.lock.WriteAt(text, 0); err != nil {
		return err
	}
	if err := a.Rename(ownerDraft, ownerFile); err != nil {
		return err
	}
	if a.made, err = a.lock.Stat(); err == nil {
		a.born = a.made.ModTime()
		a.inside, err = a.Stat(".")
	}
	return err
}

// close removes the area with all that is left in it, unless that belongs to a
// user.
func (a *area) close() error {
	if a.stop != nil {
		a.stop()
	}
	var err error
	if a.Folder != nil {
		if !a.keep.Load() {
			err = a.clear(a.Folder)
		}
		a.Folder.Close()
	}
	if a.lock != nil {
		a.lock.Close()
	}
	if !a.keep.Load() && err == nil {
		err = ignoreMissing(a.parent.Remove(a.name))
	}
	a.parent.Close()
	return err
}

// clear removes what lies in an area, its owner file last: an area that holds something
// says whose it is.
func (a *area) clear(left *folder.Folder) error {
	err := a.clearButOwner(left)
	if err == nil {
		err = ignoreMissing(left.Remove(ownerFile))
	}
	return err
}

func (a *area) clearButOwner(left *folder.Folder) error {
	names, err := left.Names()
	if err != nil {
		return err
	}
	for _, name := range names {
		if name != ownerFile {
			err = errors.Join(err, left.Clear(name))
		}
	}
	return err
}

// Reclaimed counts what dead runs had left behind.
type Reclaimed struct {
	Finished  int      // archives that were being moved into place, and now are there
	TakenBack int      // archives whose moves were being taken back, and now are
	Cleared   int      // staging areas that were removed
	Left      []string // what stays, and why, for people
}

// reclaim goes through the areas of other runs beside this one, and finishes or
// clears away those that are surely dead.
func (a *area) reclaim(r *Root) error {
	children, err := os.ReadDir(a.path)
	if err != nil {
		return err
	}
	for _, child := range children {
		if child.Name() == a.name || !child.IsDir() || !strings.HasPrefix(child.Name(), prefix) {
			continue
		}
		if err := a.reclaimOne(child.Name(), r); err != nil { // the area may be another user's
			r.Reclaimed.Left = append(r.Reclaimed.Left, fmt.Sprintf("%s is the unfinished work of another run, and stays: %v", filepath.Join(a.path, child.Name()), fault.Bare(err)))
		}
	}
	return nil
}

func (a *area) reclaimOne(name string, r *Root) error {
	left, err := folder.Open(a.parent, name)
	if err != nil {
		return ignoreMissing(err) // its run has just ended
	}
	defer left.Close()
	o, held, err := a.ownerOf(left, r, name)
	if held != nil {
		defer held.Close()
	}
	if err != nil || o == nil {
		return err
	}
	if all, err := r.finish(left, o.Key); err != nil || !all {
		if err == nil {
			r.Reclaimed.Left = append(r.Reclaimed.Left, filepath.Join(a.path, name)+" holds files that a run which was killed had replaced, and that cannot be put back")
		}
		return err
	}
	if err := a.clearButOwner(left); err != nil {
		return err
	}
	held.Close() // not every system removes what is open
	err = ignoreMissing(left.Remove(ownerFile))
	left.Close()
	if err != nil {
		return err
	}
	r.Reclaimed.Cleared++
	return ignoreMissing(a.parent.Remove(name))
}

// ownerOf returns the owner of an area whose run is gone, and holds its lock;
// nil where the run may be alive, or the area is none.
func (a *area) ownerOf(left *folder.Folder, r *Root, name string) (o *owner, held *os.File, err error) {
	inside, err := left.Stat(".")
	if err != nil {
		return nil, nil, ignoreMissing(err)
	}
	if !folder.Private(inside, a.inside) {
		return nil, nil, a.foreign(name, r)
	}
	held, err = left.OpenOurs(ownerFile, a.made)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, nil, a.clearUnowned(left, r, name)
	case errors.Is(err, folder.ErrForeign):
		return nil, nil, a.foreign(name, r)
	case err != nil:
		return nil, nil, err
	}
	if claim.Lock(held) != nil {
		held.Close()
		return nil, nil, nil
	}
	text, err := io.ReadAll(held)
	if err != nil {
		return nil, held, err
	}
	info, err := held.Stat()
	if err != nil {
		return nil, held, err
	}
	o = &owner{}
	identity, err := left.Identity()
	if err != nil {
		return nil, held, err
	}
	if json.Unmarshal(text, o) != nil || o.Key == "" || o.Identity != identity {
		return nil, held, a.foreign(name, r)
	}
	host, err := os.Hostname()
	if err != nil {
		return nil, held, err
	}
	if o.Host != host && !claim.Silent(info, a.born) || o.RootID != r.identity {
		return nil, held, nil
	}
	return o, held, nil
}

// isAlive reports whether an area, at a path below base, is that of a run that lives.
func isAlive(base *os.Root, at string) bool {
	f, err := base.OpenFile(path.Join(at, ownerFile), os.O_RDWR, 0)
	if err != nil {
		return false
	}
	defer f.Close()
	info, statErr := f.Stat()
	if statErr != nil || !info.Mode().IsRegular() { // what is none of a run could be a pipe
		return false
	}
	if claim.Held(claim.Lock(f)) {
		return true
	}
	host, err := os.Hostname()
	var o owner
	return err == nil && json.NewDecoder(f).Decode(&o) == nil && o.Host != host && !claim.Silent(info, time.Now())
}

// clearUnowned removes an area that is just being made, or removed, if its run is gone, or
// that is so for long. It has nothing in it but an owner's draft.
func (a *area) clearUnowned(left *folder.Folder, r *Root, name string) error {
	info, err := left.Stat(".")
	if err != nil || !claim.IsGone(name) && !claim.Silent(info, a.born) {
		return ignoreMissing(err)
	}
	names, err := left.Names()
	if err != nil {
		return ignoreMissing(err)
	}
	if len(names) > 1 || len(names) == 1 && names[0] != ownerDraft {
		return a.foreign(name, r)
	}
	for _, draft := range names {
		if err := left.Remove(draft); err != nil {
			return ignoreMissing(err)
		}
	}
	r.Reclaimed.Cleared++
	return ignoreMissing(a.parent.Remove(name))
}

// foreign notes a folder that is called like an area and is none.
func (a *area) foreign(name string, r *Root) error {
	r.Reclaimed.Left = append(r.Reclaimed.Left, filepath.Join(a.path, name)+" looks like the unfinished work of a run, but no run of this user made it there: it is left alone")
	return nil
}

func ignoreMissing(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// journal reads a journal in the area of a dead run.
func (a *area) journal(left *folder.Folder, name string) ([]byte, error) {
	file, err := left.OpenOurs(name, a.made)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return io.ReadAll(file)
}
