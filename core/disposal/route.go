package disposal

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"slices"
	"strings"
	"sync"
	"time"

	"widecrate/core/blob"
	"widecrate/core/claim"
	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/storage"
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
}

// LiesThere is why a source stays that lies where it would be moved.
const LiesThere = "it lies already where it would be moved"

// Taken is what became of the files of a source.
type Taken struct {
	Files  []Went // nil: they were kept
	Reason string // the path of the file that says why they failed; empty: there is none
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
	sites := storage.Of(ctx, files[0])
	var to, same []string
	err := Unchanged(ctx, files)
	if err == nil {
		to, same, err = r.destinations(sites, files)
	}
	if err == nil {
		err = ctx.Err()
	}
	switch {
	case err != nil:
	case to == nil:
		return Taken{Kept: LiesThere}
	case !dryRun:
		t.Reason, err = r.take(sites.Begun(), files, to, same, why)
	}
	if stays, ok := errors.AsType[*Stays](err); ok {
		return Taken{Kept: stays.Why}
	}
	if err != nil {
		return Taken{Err: err}
	}
	for i, f := range files {
		went := Went{From: f.Path, To: to[i], There: same[i], SHA256: f.SHA256}
		if same[i] != "" && why != nil {
			went.To = same[i]
		}
		t.Files = append(t.Files, went)
	}
	return t
}

// destinations are the paths that files go to together; empty where the file is removed: always, or because the same
// bytes lie there already, as same says. Where something else of that name is, all of them get a number. One that lies
// there itself stays; if all do, there are none.
func (r *Route) destinations(sites storage.Sites, files []blob.File) (to, same []string, err error) {
	for n := 1; ; n++ {
		to, same = make([]string, len(files)), make([]string, len(files))
		var claimed []string
		free, lie := true, 0
		for i, f := range files {
			in := r.To(f.Path, r.Begun)
			if in == "" {
				continue
			}
			path := storage.Join(in, numbered(storage.Base(f.Path), n, len(files) > 1))
			if storage.SameEntry(f, path) {
				to[i] = storage.Absolute(f.Path)
				lie++
				continue
			}
			isSame, isTaken := false, !r.claim(place.Key(path))
			if !isTaken {
				claimed = append(claimed, place.Key(path))
				if isSame, isTaken, err = there(sites, f, path); err != nil {
					return nil, nil, err
				}
			}
			if isSame {
				same[i] = path
			} else {
				to[i] = path
			}
			free = free && !isTaken
		}
		switch {
		case lie == len(files) && lie > 0:
			return nil, nil, nil
		case free:
			return to, same, nil
		}
		r.giveBack(claimed)
	}
}

// claim takes a place for what is moved, and reports whether it was free: several may go at a time.
func (r *Route) claim(key string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.taken == nil {
		r.taken = map[string]bool{}
	}
	was := r.taken[key]
	r.taken[key] = true
	return !was
}

// giveBack gives places back that were not taken after all.
func (r *Route) giveBack(keys []string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, key := range keys {
		delete(r.taken, key)
	}
}

// there finds out what stands at a path: the bytes of a file under another name, which
// makes room, or something else.
func there(sites storage.Sites, f blob.File, path string) (same, taken bool, err error) {
	info, err := sites.Lstat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return false, false, nil
	case err != nil:
		return false, false, fault.Unwritten(path, err)
	case !info.Mode().IsRegular() || info.Size() != f.Size():
		return false, true, nil
	}
	var both [2]blob.File
	for i, path := range []string{f.Path, path} {
		if both[i], err = sites.Find(path); err == nil && both[i].Info == nil {
			return false, true, nil
		}
		if err != nil {
			return false, false, err
		}
	}
	same, err = blob.EqualFiles(both[0], both[1])
	return same, !same, err
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
func (r *Route) ground(sites storage.Sites, files []blob.File, to, same []string) *Ground {
	var roots []string
	for i, f := range files {
		roots = append(roots, storage.Dir(storage.Absolute(f.Path)))
		for _, path := range []string{to[i], same[i]} {
			if path != "" {
				roots = append(roots, r.base(path))
			}
		}
	}
	return NewGround(sites, roots)
}

// base is the folder below which a file goes to a path.
func (r *Route) base(to string) string {
	if r.Base != "" {
		if _, is := storage.Inside(r.Base, to); is {
			return r.Base
		}
	}
	return storage.Dir(to)
}

// take takes the files of a source away, to where destinations says: all of them, or none with an error, as far as the
// place lets them be put back. One that is not as it was read is of kind fault.Refused. The reason is there before
// them: an archive without one would be a riddle. What a run that was killed leaves, Finish finishes.
func (r *Route) take(sites storage.Sites, files []blob.File, to, same []string, why error) (reason string, err error) {
	g := r.ground(sites, files, to, same)
	defer g.Close()
	run := claim.NewRun()
	journal := taking{Begun: r.Begun, Failed: r.Failed}
	var going []*gone
	for i, f := range files {
		path := storage.Absolute(f.Path)
		if to[i] == path { // it lies there
			continue
		}
		s, err := g.See(path)
		if err != nil || !f.Is(s.FileInfo) {
			return "", fault.At(f.Path, fault.New(fault.Refused, "%w", &Stays{"it changed since it was read"}))
		}
		one := &gone{Seen: s, to: to[i], same: same[i]}
		if to[i] == "" { // removed when all are out of the way
			one.aside = storage.Join(storage.Dir(path), claim.Hidden(run, i+1)+claim.MovedSuffix)
		}
		going = append(going, one)
		journal.Files = append(journal.Files, taken{Path: path, To: to[i], Aside: one.aside, Size: f.Info.Size(), Modified: f.Info.ModTime()})
	}
	if dir, _, err := g.at(going[0].Path, false, false); err == nil {
		claim.ClearDead(dir)
	}
	if why != nil && going[0].to != "" { // else the same lies there already
		written, unwritten := writeReason(g, going[0].to, why, r.Begun)
		if unwritten != nil {
			return "", unwritten
		}
		if written != nil {
			reason = written.Path
			defer func() {
				if err != nil {
					_ = g.TakeAway(written) // the first error says what is wrong
				}
			}()
		}
	}
	err = g.takeTogether(going, &journal, run)
	return reason, err
}

// gone is a file that is to go.
type gone struct {
	*Seen
	to, aside string // where it is moved; where it lies before it is removed
	same      string // where the same bytes lie; empty: it is removed whatever is elsewhere
}

// takeTogether lets files go: all of them, or none with an error.
func (g *Ground) takeTogether(going []*gone, journal *taking, run string) error {
	first := going[0]
	if len(going) == 1 && first.to == "" && first.same == "" {
		return g.TakeAway(first.Seen)
	}
	if len(going) > 1 || first.same != "" {
		end, err := journal.write(g, first.Path, run)
		if err != nil {
			return fault.Writing(first.Path, err)
		}
		defer end()
	}
	for i, one := range going {
		err := g.Move(one.Seen, cmp.Or(one.to, one.aside))
		if err == nil {
			continue
		}
		for _, done := range slices.Backward(going[:i]) {
			err = errors.Join(err, g.back(done))
		}
		return err
	}
	var failed error
	for _, one := range going {
		if one.to == "" {
			failed = errors.Join(failed, g.letGo(one))
		}
	}
	return failed
}

// back moves a file back to where it was.
func (g *Ground) back(one *gone) error {
	s, err := g.See(cmp.Or(one.to, one.aside))
	if err == nil {
		err = g.Move(s, one.Path)
	}
	return fault.Writing(one.Path, err)
}

// letGo removes a file that was set aside. One of which the same is to lie elsewhere goes only if that is still there
// now: both may have been one file, as places can have several paths for a folder.
func (g *Ground) letGo(one *gone) error {
	if one.same != "" {
		switch _, err := g.See(one.same); {
		case errors.Is(err, fs.ErrNotExist):
			return errors.Join(g.back(one), fault.At(one.Path, fault.New(fault.Refused, "%w", &Stays{LiesThere})))
		case err != nil:
			return errors.Join(g.back(one), err)
		}
	}
	s, err := g.See(one.aside)
	if err == nil {
		err = g.TakeAway(s)
	}
	return fault.Writing(one.Path, err)
}
