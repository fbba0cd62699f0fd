package disposal

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"widecrate/core/blob"
	"widecrate/core/claim"
	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/storage"
)

// An Old is what stood at a path when a run decided to replace it: a file, or nothing.
type Old struct {
	path  string
	sites storage.Sites
	info  fs.FileInfo  // nil: nothing was there
	held  *os.File     // locked until it is replaced; nil: only meanwhile
	turn  *claim.Claim // a name beside the file, where a lock is not enough; nil: a lock is
}

// Look finds what stands at a path. A folder is of kind fault.Refused. What is done with it later is not interrupted.
func Look(sites storage.Sites, path string) (*Old, error) {
	o := &Old{path: path, sites: sites.Begun()}
	info, err := sites.Lstat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return o, nil
	case err != nil:
		return nil, fault.Unwritten(path, err)
	case info.IsDir():
		return nil, fault.At(path, fault.New(fault.Refused, "it is a folder"))
	}
	o.info = info
	return o, nil
}

// Hold is Look for a file that is changed: others that would change it wait until it is
// replaced, or released. What stands there then is what they look at.
func Hold(ctx context.Context, path string) (*Old, error) {
	var turn *claim.Claim
	if runtime.GOOS == "windows" { // where the lock has to go before the file is replaced
		err := again(ctx, func() (got bool, err error) {
			turn, err = claim.Take(filepath.Join(filepath.Dir(path), place.StagingPrefix+"turn-"+filepath.Base(path)))
			if _, held := errors.AsType[*claim.HeldError](err); held {
				return false, nil
			}
			return true, fault.Writing(path, err)
		})
		if err != nil {
			return nil, err
		}
	}
	var o *Old
	err := again(ctx, func() (got bool, err error) {
		o, err = hold(path)
		return o != nil, err
	})
	if err != nil {
		if turn != nil {
			turn.Release()
		}
		return nil, err
	}
	o.turn = turn
	return o, nil
}

// again tries something until it is got, or fails.
func again(ctx context.Context, try func() (got bool, err error)) error {
	const interval = 20 * time.Millisecond
	for {
		if got, err := try(); got || err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(interval):
		}
	}
}

// hold is one try; nil: somebody else has it.
func hold(path string) (*Old, error) {
	if _, err := blob.Find(path); err != nil {
		return nil, err
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, fault.Reading(path, err)
	}
	locked := claim.Lock(f)
	o, err := Look(storage.Sites{}, path)
	if err == nil && o.info != nil {
		ours, statErr := f.Stat()
		if !claim.Held(locked) && statErr == nil && os.SameFile(ours, o.info) { // without locks there, a look has to do
			o.held = f
			return o, nil
		}
	}
	f.Close()
	return nil, err
}

// Release lets others change the file.
func (o *Old) Release() {
	o.LetGo()
	if o.turn != nil {
		o.turn.Release()
		o.turn = nil
	}
}

// LetGo closes the file, which is to be replaced; others still wait where a lock on it is not enough.
func (o *Old) LetGo() {
	if o.held != nil {
		o.held.Close()
		o.held = nil
	}
}

// There reports whether there is something.
func (o *Old) There() bool { return o.info != nil }

// Path is where the file stands.
func (o *Old) Path() string { return o.path }

// Still makes sure that the file is as it was seen; anything else is of kind fault.Refused.
func (o *Old) Still() error {
	now, err := o.sites.Lstat(o.path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil // whoever took it away has left room
	case err != nil:
		return fault.Unwritten(o.path, err)
	case o.info == nil, !(blob.File{Info: o.info}).Is(now):
		return fault.At(o.path, fault.New(fault.Refused, "something else has changed it meanwhile").Advise("nothing was replaced; run it again"))
	}
	return nil
}

// Yield gives the place to a file of the same folder that has a hidden name; over: it goes over what was seen.
// Nobody else who asks here can do so between the look and the move.
func (o *Old) Yield(dir storage.Folder, hidden, name string, over bool) error {
	replace := func() error {
		if err := o.Still(); err != nil {
			return err
		}
		if o.info == nil || !over {
			return dir.Move(hidden, nil, dir, name)
		}
		return dir.MoveOver(hidden, nil, dir, name)
	}
	if runtime.GOOS == "windows" { // where no file is replaced that is open
		o.LetGo()
		return replace()
	}
	if _, locks := dir.(storage.Locker); locks && o.held == nil && o.info != nil && o.info.Mode().IsRegular() {
		if f, err := dir.OpenToRead(name); err == nil {
			defer f.Close()
			return claim.Together(f.(*os.File), replace)
		}
	}
	return replace()
}

// KeepAs keeps the file for Back under a hidden name, a second one, or where there are none
// the only one; empty: there is nothing to keep.
func (o *Old) KeepAs(dir storage.Folder, name, second, moved string) (kept string, err error) {
	if o.info == nil {
		return "", nil
	}
	if links, can := dir.(storage.Linker); can && links.Link(name, dir, second) == nil {
		return second, nil
	}
	if err := o.Still(); err != nil {
		return "", err
	}
	err = dir.Move(name, o.info, dir, moved)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	return moved, err
}

// Back puts the file back under its name, over the new one that took its place, or where none has.
func (o *Old) Back(dir storage.Folder, kept, name string, over bool) error {
	if over {
		err := dir.MoveOver(kept, nil, dir, name)
		_ = dir.Remove(kept, nil) // a second name of what is there stays where it was
		return err
	}
	err := dir.Move(kept, nil, dir, name)
	if errors.Is(err, fs.ErrExist) && strings.HasSuffix(kept, claim.OldSuffix) { // it never went
		return dir.Remove(kept, nil)
	}
	return err
}

// Gone lets go of what was kept: the new file is seen at its place. Where it is not, the old one goes back there.
func (o *Old) Gone(dir storage.Folder, kept, name string) error {
	_, err := dir.Lstat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return dir.Move(kept, nil, dir, name)
	case err != nil:
		return err
	}
	return dir.Remove(kept, nil)
}

// Remove takes the file away: a part of a set of which all other parts are new.
func (o *Old) Remove() error {
	if err := o.Still(); err != nil {
		return err
	}
	dir, err := o.sites.Open(storage.Dir(o.path))
	if err != nil {
		return fault.Writing(o.path, err)
	}
	defer dir.Close()
	return fault.Writing(o.path, asStale(o.path, dir.Remove(storage.Base(o.path), o.info)))
}
