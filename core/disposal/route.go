package disposal

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"widecrate/core/blob"
	"widecrate/core/claim"
	"widecrate/core/fault"
	"widecrate/core/place"
)

// A Route says where sources go.
type Route struct {
	// To is the folder that a file is moved to in a run that began at that time; empty: it
	// is removed.
	To func(path string, begun time.Time) string

	Base   string    // the folder that is named for To, before what varies: no link below it is followed; empty: that of To
	Begun  time.Time // this run
	Failed bool      // it is that of sources that failed: what others took away is none of its business

	mu    sync.Mutex
	taken map[string]bool // by what was moved
	made  map[string]bool // folders at addresses
}

// LiesThere is why a source stays that lies where it would be moved.
const LiesThere = "it lies already where it would be moved"

// Taken is what became of the files of a source.
type Taken struct {
	Files  []Went // nil: they were kept
	Reason string // the path of the file on disk that says why they failed; empty: there is none
	Kept   string // why they were kept; empty: they went, or Err says why not
	Err    error
}

// Went is where a file was, and where it is now.
type Went struct {
	From, To string // To is empty where the file was removed
	There    string // where the same bytes lay already, so that it was removed instead of moved
	SHA256   []byte // where it is known
}

// Take lets the files of a source go where the route says, all of them or none, with the
// reason beside them where there is one, or finds out in a dry run where they would go.
func (r *Route) Take(ctx context.Context, files []blob.File, why error, dryRun bool) (t Taken) {
	if files[0].Remote {
		return r.takeElsewhere(ctx, files, why, dryRun)
	}
	err := Unchanged(files)
	var all []string
	if err == nil {
		all, err = r.Destinations(files)
	}
	switch {
	case err != nil:
	case all == nil:
		return Taken{Kept: LiesThere}
	case dryRun:
	case why != nil:
		t.Reason, err = r.withReason(files, all, why)
	default:
		err = r.Sources(files, all)
	}
	if stays, ok := errors.AsType[*Stays](err); ok {
		return Taken{Kept: stays.Why}
	}
	if err != nil {
		return Taken{Err: err}
	}
	for i, f := range files {
		went := Went{From: f.Path, To: all[i], SHA256: f.SHA256}
		if in := r.To(f.Path, r.Begun); went.To == "" && in != "" { // the same bytes are there
			if went.There = filepath.Join(in, filepath.Base(f.Path)); why != nil {
				went.To = went.There
			}
		}
		t.Files = append(t.Files, went)
	}
	return t
}

// Destinations are the paths that files go to together, each empty where the file is
// removed: always, or because the same bytes are there already. Where something else of
// that name is, all of them get a number. One that lies there already stays; if all do, there
// are none.
func (r *Route) Destinations(files []blob.File) ([]string, error) {
	to := make([]string, len(files))
	for n := 1; ; n++ {
		free, lie := true, 0
		for i, f := range files {
			in := r.To(f.Path, r.Begun)
			if in == "" {
				continue
			}
			to[i] = filepath.Join(in, numbered(filepath.Base(f.Path), n, len(files) > 1))
			if SameEntry(f, to[i]) {
				to[i] = place.Absolute(f.Path)
				lie++
				continue
			}
			same, taken, err := r.there(f, to[i])
			if err != nil {
				return nil, err
			}
			if same {
				to[i] = ""
			}
			free = free && !taken
		}
		if lie == len(files) {
			return nil, nil
		}
		if free {
			break
		}
	}
	for _, path := range to {
		if path != "" {
			r.take(place.Key(path))
		}
	}
	return to, nil
}

// take notes that a place is taken by what was moved, and reports whether it was free.
func (r *Route) take(key string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.taken == nil {
		r.taken = map[string]bool{}
	}
	was := r.taken[key]
	r.taken[key] = true
	return !was
}

// there finds out what stands at a path: the bytes of a file under another name, which
// makes room, or something else.
func (r *Route) there(f blob.File, path string) (same, taken bool, err error) {
	info, err := os.Lstat(path)
	switch {
	case r.taken[place.Key(path)]:
		return false, true, nil
	case errors.Is(err, fs.ErrNotExist):
		return false, false, nil
	case err != nil:
		return false, false, fault.Writing(path, err)
	case !info.Mode().IsRegular():
		return false, true, nil
	}
	same, err = blob.EqualFiles(f, blob.File{Path: path, Info: info})
	return same, !same, err
}

// SameEntry reports whether a path is a file's own, however it is written, or that of a
// link that leads to it. Another name of the same file is not.
func SameEntry(f blob.File, path string) bool {
	there, err := os.Stat(path)
	if err != nil || !os.SameFile(there, f.Info) {
		return false
	}
	if link, err := os.Lstat(path); err != nil || link.Mode()&fs.ModeSymlink != 0 {
		return err == nil
	}
	a, errA := os.Stat(filepath.Dir(f.Path))
	b, errB := os.Stat(filepath.Dir(path))
	return errA == nil && errB == nil && os.SameFile(a, b) && strings.EqualFold(filepath.Base(f.Path), filepath.Base(path))
}

// numbered is place.Numbered, but for the parts of a set, which keep what comes after the
// name of the whole.
func numbered(name string, n int, part bool) string {
	stem := name
	if part {
		stem, _, _ = strings.Cut(name, ".")
	}
	return place.Numbered(stem, n) + name[len(stem):]
}

// ground is where files go from, and to.
func (r *Route) ground(files []blob.File, to []string) *Ground {
	var roots []string
	for i, f := range files {
		roots = append(roots, filepath.Dir(place.Absolute(f.Path)))
		if to[i] != "" {
			roots = append(roots, r.base(to[i]))
		}
	}
	return NewGround(roots)
}

// base is the folder below which a file goes to a path.
func (r *Route) base(to string) string {
	if r.Base != "" && place.Below(r.Base, to) != to {
		return r.Base
	}
	return filepath.Dir(to)
}

// Sources takes the files of a source away, to where Destinations says: all of them, or
// none with an error, as far as the system lets them be put back. One that is not as it was
// read is of kind fault.Refused. What a run that was killed leaves, Finish finishes.
func (r *Route) Sources(files []blob.File, to []string) error {
	if err := Unchanged(files); err != nil {
		return err
	}
	g := r.ground(files, to)
	defer g.Close()
	first, prefix := files[0].Path, claim.NewPrefix()
	clearDead(filepath.Dir(first))
	journal := taking{Begun: r.Begun, Failed: r.Failed}
	var seen []*Seen
	var aside []string
	for i, f := range files {
		path := place.Absolute(f.Path)
		if to[i] == path { // it lies there
			continue
		}
		s, err := g.See(path)
		if err != nil || !f.Is(s.FileInfo) {
			return fault.At(f.Path, fault.New(fault.Refused, "%w", &Stays{"it changed since it was read"}))
		}
		one := taken{Path: path, To: to[i], Size: f.Info.Size(), Modified: f.Info.ModTime()}
		if to[i] == "" { // removed when all are out of the way
			one.Aside = filepath.Join(filepath.Dir(path), claim.Hidden(prefix, i+1))
		}
		seen, aside = append(seen, s), append(aside, cmp.Or(one.Aside, one.To))
		journal.Files = append(journal.Files, one)
	}
	if len(seen) == 1 && journal.Files[0].To == "" {
		return g.TakeAway(seen[0])
	}
	if len(seen) > 1 {
		if err := journal.write(prefix); err != nil {
			return fault.Writing(first, err)
		}
		defer journal.end()
	}
	back := func(done int) error {
		s, err := g.See(aside[done])
		if err == nil {
			err = g.Move(s, seen[done].Path)
		}
		return fault.Writing(seen[done].Path, err)
	}
	for i, s := range seen {
		err := g.Move(s, aside[i])
		if err == nil {
			continue
		}
		for done := i - 1; done >= 0; done-- {
			err = errors.Join(err, back(done))
		}
		return err
	}
	var failed error
	for _, one := range journal.Files {
		if one.To == "" {
			s, err := g.See(one.Aside)
			if err == nil {
				err = g.TakeAway(s)
			}
			failed = errors.Join(failed, err)
		}
	}
	return fault.Writing(first, failed)
}
