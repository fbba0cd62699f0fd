package disposal

import (
	"cmp"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"widecrate/core/claim"
	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/place"
)

// taking is a journal of files that are taken away together, for the case that the run is
// killed in the middle.
type taking struct {
	Begun  time.Time
	Failed bool `json:",omitempty"` // see Route
	Files  []taken
	file   *os.File // locked, as long as the run lives
	path   string   // of the journal
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
func (t *taking) write(prefix string) (err error) {
	t.path = filepath.Join(filepath.Dir(t.Files[0].Path), prefix+claim.TakingSuffix)
	t.file, err = os.OpenFile(t.path, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_ = claim.Lock(t.file) // where there are no locks, only what is old is finished by others
	text, err := json.Marshal(t)
	if err == nil {
		_, err = t.file.Write(text)
	}
	if err == nil {
		err = t.file.Sync()
	}
	if err != nil {
		t.end()
	}
	return err
}

// end removes a journal.
func (t *taking) end() {
	if t.file != nil {
		t.file.Close()
		_ = os.Remove(t.path) // one that stays names what is no more
	}
}

// clearDead removes what dead runs left in a folder.
func clearDead(path string) {
	if dir, err := folder.OpenPath(path); err == nil {
		claim.ClearDead(dir, path)
		dir.Close()
	}
}

// Finish finishes what runs that are surely dead were taking away from a folder with
// these names in it, and from others in which parts may lie, and reports whether there was
// something. Who may write there could have made the journal: it is only followed within
// these folders, and to the folder that To says for a file.
func (r *Route) Finish(dir string, names, others []string) (finished bool, err error) {
	for _, name := range names {
		prefix, is := strings.CutSuffix(name, claim.TakingSuffix)
		isPrefix, here := claim.IsPrefix(prefix)
		if !is || !isPrefix {
			continue
		}
		done, err := r.finishOne(filepath.Join(dir, name), here, others)
		if err != nil {
			return finished, err
		}
		finished = finished || done
	}
	return finished, nil
}

func (r *Route) finishOne(journal string, ours bool, others []string) (bool, error) {
	f, err := openOurs(journal)
	if err != nil {
		return false, nil // its run has just ended, or it is not one of ours
	}
	t := taking{file: f, path: journal}
	if !claim.Dead(f, ours, time.Now()) {
		f.Close()
		return false, nil
	}
	if json.NewDecoder(f).Decode(&t) != nil {
		t.end() // the journal was just being written: nothing was taken away
		return true, nil
	}
	if t.Failed != r.Failed {
		f.Close()
		return false, nil
	}
	var within []string
	for _, dir := range append([]string{filepath.Dir(journal)}, others...) {
		full, err := filepath.Abs(dir)
		if err != nil {
			f.Close()
			return true, fault.Reading(journal, err)
		}
		within = append(within, full)
	}
	for _, one := range t.Files {
		if one.Path != filepath.Clean(one.Path) || one.Aside != "" && one.Aside != filepath.Clean(one.Aside) {
			continue // what is cleaned as text may lead elsewhere, through links
		}
		if !slices.Contains(within, filepath.Dir(one.Path)) || one.Aside != "" && filepath.Dir(one.Aside) != filepath.Dir(one.Path) {
			continue
		}
		target := r.To(one.Path, t.Begun)
		switch {
		case one.To == "" && target != "": // the same bytes were there
			one.To = filepath.Join(target, filepath.Base(one.Path))
		case one.To != "" && (target == "" || filepath.Dir(one.To) != target || place.IsStaging(filepath.Base(one.To))):
			continue
		}
		g := NewGround(append(within[:len(within):len(within)], r.base(cmp.Or(one.To, one.Path))))
		err := one.finish(g)
		g.Close()
		if err != nil {
			f.Close() // the journal stays, for the next run
			return true, err
		}
	}
	t.end()
	return true, nil
}

// openOurs opens a journal that a run of the same user made; see folder.OpenOurs.
func openOurs(journal string) (*os.File, error) {
	dir, err := folder.OpenPath(filepath.Dir(journal))
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	made, err := claim.Sample(dir)
	if err != nil {
		return nil, err
	}
	return dir.OpenOurs(filepath.Base(journal), made)
}

// finish takes away what is left of one file; one that is another by now stays.
func (t *taken) finish(g *Ground) error {
	if t.Aside != "" && place.IsStaging(filepath.Base(t.Aside)) {
		if err := t.finishAside(g); err != nil {
			return err
		}
	}
	seen, err := g.See(t.Path)
	if err != nil || !seen.Mode().IsRegular() || seen.Size() != t.Size || !seen.ModTime().Equal(t.Modified) {
		return nil //nolint:nilerr // what is not there, or lies behind a link, is not that
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
	return g.TakeAway(seen)
}

// finishAside removes what was set aside. Where its bytes are to be elsewhere and are not,
// it goes back to its place.
func (t *taken) finishAside(g *Ground) error {
	seen, err := g.See(t.Aside)
	if err != nil || !seen.Mode().IsRegular() || seen.Size() != t.Size {
		return nil //nolint:nilerr // the file is gone, or was never there
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
