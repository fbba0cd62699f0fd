package disposal

import (
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"path/filepath"
	"slices"
	"time"

	"widecrate/core/claim"
	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/storage"
)

// taking is a journal of files that are taken away together, for the case that the run is
// killed in the middle.
type taking struct {
	Begun  time.Time
	Failed bool `json:",omitempty"` // see Route
	Files  []taken
}

// taken is a file that is to go.
type taken struct {
	Path     string // absolute
	To       string `json:",omitempty"` // where the file is moved; empty: it is removed
	Aside    string `json:",omitempty"` // where the file lies meanwhile
	Size     int64
	Modified time.Time
}

// write writes a journal into the folder of the first file.
func (t *taking) write(g *Ground, first, run string) (end func(), err error) {
	dir, _, err := g.at(first, false, false)
	if err != nil {
		return nil, err
	}
	text, err := json.Marshal(t)
	if err != nil {
		return nil, err
	}
	return claim.WriteJournal(dir, run, text)
}

// Finish finishes what runs that are surely dead were taking away from a folder with
// these names in it, and from others in which parts may lie, and reports whether there was
// something. Who may write there could have made the journal: it is only followed within
// these folders, and to the folder that To says for a file.
func (r *Route) Finish(sites storage.Sites, in string, names, others []string) (finished bool, err error) {
	for _, name := range names {
		if !claim.IsJournal(name) {
			continue
		}
		done, err := r.finishOne(sites.Begun(), in, name, others)
		if err != nil {
			return finished, err
		}
		finished = finished || done
	}
	return finished, nil
}

// largestJournal bounds what is read of one.
const largestJournal = 16 << 20

func (r *Route) finishOne(sites storage.Sites, in, name string, others []string) (finished bool, err error) {
	dir, err := sites.Open(in)
	if err != nil {
		return false, nil //nolint:nilerr // there is nothing to be found either, which is said
	}
	defer dir.Close()
	f, err := claim.OpenJournal(dir, name)
	if f == nil {
		return false, err
	}
	defer f.Close()
	var t taking
	if err := json.NewDecoder(io.LimitReader(f, largestJournal)).Decode(&t); err == nil {
		if t.Failed != r.Failed {
			return false, nil
		}
		within := []string{in}
		for _, other := range others {
			within = append(within, storage.Absolute(other))
		}
		for i := range t.Files {
			if err := r.finishFile(sites, within, &t.Files[i], t.Begun); err != nil {
				return true, err // the journal stays, for the next run
			}
		}
	} // else it was just being written: nothing was taken away
	f.Close() // not every system removes what is open
	return true, ignoreMissing(dir.Remove(name, nil))
}

func ignoreMissing(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// finishFile finishes what a journal says of one file, as far as that is what this run would do.
func (r *Route) finishFile(sites storage.Sites, within []string, one *taken, begun time.Time) error {
	in := storage.Dir(one.Path)
	if !isIn(in, one.Path) || !slices.Contains(within, in) || one.Aside != "" && !isIn(in, one.Aside) {
		return nil // what is cleaned as text may lead elsewhere, through links
	}
	target := r.To(one.Path, begun)
	switch {
	case one.To == "" && target != "": // the same bytes were there
		one.To = storage.Join(target, storage.Base(one.Path))
	case one.To != "" && (target == "" || !isIn(target, one.To) || place.IsStaging(storage.Base(one.To))):
		return nil
	}
	roots := []string{in}
	if one.To != "" {
		roots = append(roots, r.base(one.To))
	}
	g := NewGround(sites, roots)
	defer g.Close()
	return one.finish(g)
}

// isIn reports whether a path is that of something in a folder.
func isIn(folder, path string) bool {
	rel, is := storage.Inside(folder, path)
	return is && filepath.Base(rel) == rel
}

// finish takes away what is left of one file; one that is another by now stays.
func (t *taken) finish(g *Ground) error {
	if t.Aside != "" && place.IsStaging(storage.Base(t.Aside)) {
		if err := t.finishAside(g); err != nil {
			return err
		}
	}
	seen, err := t.see(g, t.Path)
	if seen == nil || !seen.ModTime().Equal(t.Modified) {
		return err
	}
	if t.To == "" {
		return g.TakeAway(seen)
	}
	// Killed between the two steps of a move, it is in both places.
	there, err := g.See(t.To)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return g.Move(seen, t.To)
	case err != nil:
		return fault.Writing(t.To, err)
	}
	if same, err := seen.equals(there); err != nil || !same {
		return err
	}
	switch {
	case t.Aside != "":
		one := &gone{Seen: seen, aside: t.Aside, same: t.To}
		if err = g.Move(seen, t.Aside); err == nil {
			err = g.letGo(one)
		}
		if errors.As(err, new(*Stays)) {
			err = nil
		}
		return err
	case sameEntry(seen, there):
		return nil
	}
	return g.TakeAway(seen)
}

// see looks at a file of that size; nil: there is none, or it lies behind a link.
func (t *taken) see(g *Ground, path string) (*Seen, error) {
	seen, err := g.See(path)
	switch {
	case Unanswered(err):
		return nil, err
	case err != nil || !seen.Mode().IsRegular() || seen.Size() != t.Size:
		return nil, nil //nolint:nilerr // what is not there is not that
	}
	return seen, nil
}

// finishAside removes what was set aside. Where its bytes are to be elsewhere and are not,
// it goes back to its place.
func (t *taken) finishAside(g *Ground) error {
	seen, err := t.see(g, t.Aside)
	if seen == nil {
		return err // the file is gone, or was never there
	}
	if t.To != "" {
		there, err := g.See(t.To)
		same := false
		if err == nil {
			same, err = seen.equals(there)
		}
		if err != nil || !same {
			return g.Move(seen, t.Path)
		}
	}
	return g.TakeAway(seen)
}
