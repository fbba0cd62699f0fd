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
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/place"
)

// A Root is a destination root with its staging area.
type Root struct {
	path     string
	dest     *os.Root
	home     *folder.Folder // the root itself
	there    fs.FileInfo    // it, when it was opened
	identity string
	area     *area
	made     []string // folders made on the way to the root, outermost first
	folds    bool     // the file system takes names for equal that differ in letter case
	units    atomic.Int64

	room room

	masking sync.Once
	mask    fs.FileMode // permissions that the system lets new files have

	merging sync.Mutex
	gate    *os.File // what is locked while a merge goes on, where that is the root itself

	// Reclaimed is what was left there by runs that were killed.
	Reclaimed Reclaimed

	preview bool
	planned map[string]archive.Entry // what a preview would have put there
}

// Open opens the destination root, makes it if it is missing, and makes a
// staging area in it, or in the folder staging if that is not empty. What dead
// runs left in there is finished or cleared away first. Errors are of kind
// fault.Unwritable.
func Open(path, staging string) (*Root, error) {
	for tries := 1; ; tries++ {
		r := &Root{path: path}
		err := r.open(staging)
		if err == nil {
			return r, nil
		}
		r.Close()
		// Who made a folder on the way removes it when nothing has come of its own: until
		// something of this root lies in it, that may happen at any time.
		if !errors.Is(err, fs.ErrNotExist) || tries == 100 {
			return nil, fault.Writing(path, err)
		}
	}
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
			_ = r.home.Remove(name) // it is in nobody's way
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

// Preview opens a root that is only looked at: units of it can be begun and
// judged, and nothing is made or changed. A root that is missing is empty.
func Preview(path string) (*Root, error) {
	r := &Root{path: path, preview: true, planned: map[string]archive.Entry{}}
	r.folds = foldsCase(path, os.Lstat)
	dest, err := os.OpenRoot(path)
	if errors.Is(err, fs.ErrNotExist) {
		return r, nil
	}
	if err != nil {
		return nil, fault.Writing(path, err)
	}
	r.dest = dest
	return r, nil
}

// foldsCase finds out without writing whether the file system of a folder takes
// names for equal that differ in letter case: by the first name on the way to it
// that has letters. Where there is none, it is as is usual on the system.
func foldsCase(path string, lstat func(string) (fs.FileInfo, error)) bool {
	for dir := path; filepath.Dir(dir) != dir; dir = filepath.Dir(dir) {
		name := filepath.Base(dir)
		other := strings.ToUpper(name)
		if other == name {
			other = strings.ToLower(name)
		}
		there, err := lstat(dir)
		if other == name || err != nil {
			continue
		}
		twin, err := lstat(filepath.Join(filepath.Dir(dir), other))
		return err == nil && os.SameFile(there, twin)
	}
	return place.Folds
}

// Close removes the staging area with all that was not committed, and the root
// too if it was made by Open and nothing is in it.
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
		_ = os.Remove(dir) // where something is in it, it stays
	}
	return fault.Writing(r.path, err)
}

// makeFolders makes a folder below dest and those above it, and returns those
// that it made, outermost first, even with an error.
func makeFolders(dest *os.Root, dir string) ([]string, error) {
	if dir == "." || dir == "" {
		return nil, nil
	}
	err := dest.Mkdir(dir, 0o777)
	switch {
	case err == nil:
		return []string{dir}, nil
	case errors.Is(err, fs.ErrExist):
		return nil, nil
	case !errors.Is(err, fs.ErrNotExist):
		return nil, err
	}
	made, err := makeFolders(dest, path.Dir(dir))
	if err != nil {
		return made, err
	}
	if err := dest.Mkdir(dir, 0o777); err != nil {
		return made, err
	}
	return append(made, dir), nil
}

// removeFolders removes folders that were made, as far as they are empty.
func removeFolders(dest *os.Root, made []string) {
	for _, dir := range slices.Backward(made) {
		_ = dest.Remove(dir)
	}
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

// masked are the permissions that a file gets here that is made with some: the system takes
// its mask off, which is only known of a file.
func (r *Root) masked(perm fs.FileMode) fs.FileMode {
	r.masking.Do(func() {
		r.mask = fs.ModePerm
		if r.area == nil { // a preview makes nothing
			return
		}
		const probe = "mask"
		f, err := r.area.Make(probe, fs.ModePerm)
		if err == nil {
			err = f.Finish(time.Time{})
		}
		if info, statErr := r.area.Lstat(probe); err == nil && statErr == nil {
			r.mask = info.Mode().Perm()
		}
		_ = r.area.Remove(probe) // should it stay, it goes with the area
	})
	return perm & r.mask
}

// full is the path of something below the root, for people.
func (r *Root) full(rel string) string { return filepath.Join(r.path, filepath.FromSlash(rel)) }

// fold returns what two paths must share to be the same on this file system.
func (r *Root) fold(path string) string {
	if r.folds {
		return strings.ToLower(path)
	}
	return path
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

// Area is the path of the staging area, for data that is needed for a while. What
// is left in it goes with it.
func (r *Root) Area() string { return filepath.Join(r.area.path, r.area.name) }

// room is what Free knows, for a moment: with thousands of small archives,
// asking for each would cost more than it says.
type room struct {
	mu           sync.Mutex
	asked        time.Time
	bytes, files int64
}

// Free returns how much room the file system of the root has: bytes, and files;
// -1 where it does not say.
func (r *Root) Free() (bytes, files int64) {
	r.room.mu.Lock()
	defer r.room.mu.Unlock()
	if now := time.Now(); now.Sub(r.room.asked) > 50*time.Millisecond {
		r.room.asked = now
		r.room.bytes, r.room.files = r.free()
	}
	return r.room.bytes, r.room.files
}
