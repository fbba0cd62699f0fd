// Package stage puts files where they belong, whole or not at all. What an
// archive brings is first written to a hidden staging folder on the same file
// system, and moved into place when all of it is there and nothing stands in
// its way. Every file is reached through a handle on the root, so that nothing
// can be made outside it. Which files, and where, is the caller's decision.
package stage

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"widecrate/core/fault"
	"widecrate/core/folder"
)

// A Root is a destination root with its staging area.
type Root struct {
	site
	there    fs.FileInfo // the root, when it was opened
	identity string
	area     *area
	made     []string // folders made on the way to the root, outermost first
	units    atomic.Int64
	space    space

	masking sync.Once
	mask    fs.FileMode // permissions that the system lets new files have

	merging sync.Mutex
	gate    *os.File // what is locked while a merge goes on, where that is the root itself

	// Reclaimed is what was left there by runs that were killed.
	Reclaimed Reclaimed
}

// Open opens the destination root, makes it if it is missing, and makes a
// staging area in it, or in the folder staging if that is not empty. What dead
// runs left in there is finished or cleared away first. Errors are of kind
// fault.Unwritable.
func Open(path, staging string) (*Root, error) {
	var r *Root
	err := folder.Again(func() error {
		r = &Root{site: site{path: path}}
		err := r.open(staging)
		if err != nil {
			r.Close()
		}
		return err
	})
	if err != nil {
		return nil, fault.Writing(path, err)
	}
	return r, nil
}

func (r *Root) open(staging string) error {
	if err := r.makeRoot(r.path); err != nil {
		return err
	}
	var err error
	if r.dest, err = os.OpenRoot(r.path); err != nil {
		return err
	}
	if r.home, err = folder.Open(r.dest, "."); err != nil {
		return err
	}
	if r.identity, err = r.home.Identity(); err == nil {
		r.there, err = r.home.Stat(".")
	}
	if err != nil {
		return err
	}
	if staging == "" {
		staging = r.path
	} else if err := r.makeRoot(staging); err != nil {
		return err
	}
	if r.area, err = openArea(staging, r); err != nil {
		return err
	}
	if err := r.area.reclaim(r); err != nil {
		return err
	}
	_, err = os.Lstat(filepath.Join(staging, strings.ToUpper(r.area.name)))
	r.folds = err == nil
	return r.checkSameFileSystem(staging)
}

// checkSameFileSystem makes sure that files can be moved from staging to the
// root.
func (r *Root) checkSameFileSystem(staging string) error {
	if staging == r.path {
		return nil
	}
	const probe = "probe"
	probes := prefix + probe + "-"
	if err := r.clearProbes(probes); err != nil {
		return err
	}
	f, err := r.area.Make(probe, 0o600)
	if err != nil {
		return err
	}
	if err := f.Finish(time.Time{}); err != nil {
		return err
	}
	name := probes + r.area.name
	if err := r.area.MoveTo(probe, r.home.Handle, name, false); err != nil {
		return fault.At(staging, fault.New(fault.Unwritable, "files cannot be moved from there to %s: %w", r.path, err).
			Suggest(fault.StageNearby))
	}
	return r.home.Remove(name)
}

// clearProbes removes those of runs that could not, whose areas are gone.
func (r *Root) clearProbes(probes string) error {
	names, err := r.home.Names()
	if err != nil {
		return err
	}
	for _, name := range names {
		of, is := strings.CutPrefix(name, probes)
		if !is {
			continue
		}
		if _, err := r.area.parent.Lstat(of); errors.Is(err, fs.ErrNotExist) {
			_ = r.home.Remove(name) // the probe is in nobody's way
		}
	}
	return nil
}

// makeRoot makes a folder and those above it, and remembers which it made.
func (r *Root) makeRoot(path string) error {
	made, err := folder.MakeAll(path)
	r.made = append(r.made, made...)
	return err
}

// Close removes the staging area with all that was not committed, and a root that
// Open made and that is empty.
func (r *Root) Close() error {
	var err error
	if r.area != nil {
		err = r.area.close()
	}
	if r.home != nil {
		r.home.Close()
	}
	if r.gate != nil {
		r.gate.Close()
	}
	if r.dest != nil {
		r.dest.Close()
	}
	for _, dir := range slices.Backward(r.made) {
		_ = os.Remove(dir) // a folder that is not empty stays
	}
	return fault.Writing(r.path, err)
}

// still makes sure that the path of the root leads to it: it could have been swapped for
// another folder, with all that was put into it.
func (r *Root) still() error {
	now, err := os.Stat(r.path)
	if err == nil && !os.SameFile(now, r.there) {
		err = fault.New(fault.Unwritable, "the folder there is another than when the run began").Advise("what was put into it is gone with it; run it again")
	}
	return fault.Writing(r.path, err)
}

// patience bounds how long a merge waits for that of another run: one that was
// stopped must not stop all others.
const patience = time.Minute

// hold keeps other merges away from the root, those of other runs as well, as far
// as its file system can tell them. Without that, too, nothing is lost: a merge
// looks again where something appeared.
func (r *Root) hold() (release func(), err error) {
	r.merging.Lock()
	open, err := tryHold(r)
	for pause, began := time.Millisecond, time.Now(); errors.Is(err, errHeld) && time.Since(began) < patience; pause = min(2*pause, 50*time.Millisecond) {
		time.Sleep(pause)
		open, err = tryHold(r)
	}
	switch {
	case err == nil:
		return func() {
			open()
			r.merging.Unlock()
		}, nil
	case errors.Is(err, errHeld), errors.Is(err, errors.ErrUnsupported):
		return r.merging.Unlock, nil
	}
	r.merging.Unlock()
	return nil, err
}

// errHeld is the error of tryHold while another run holds the root.
var errHeld = errors.New("another run is putting files there")

func (r *Root) nextUnit() string { return strconv.FormatInt(r.units.Add(1), 36) }

// Area is the path of the staging area, for data that is needed for a while, and at most
// until the area is closed.
func (r *Root) Area() string { return filepath.Join(r.area.path, r.area.name) }

// space is what Free knows, for a moment: with thousands of small archives,
// asking for each would cost more than it says.
type space struct {
	mu           sync.Mutex
	asked        time.Time
	bytes, files int64
}

// Free returns how much room the file system of the root has: bytes, and files;
// -1 where it does not say.
func (r *Root) Free() (bytes, files int64) {
	r.space.mu.Lock()
	defer r.space.mu.Unlock()
	if now := time.Now(); now.Sub(r.space.asked) > 50*time.Millisecond {
		r.space.asked = now
		r.space.bytes, r.space.files = r.free()
	}
	return r.space.bytes, r.space.files
}
