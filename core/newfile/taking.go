package newfile

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"widecrate/core/claim"
	"widecrate/core/fault"
	"widecrate/core/place"
)

// takingSuffix ends the names of journals: what is to be taken away together, should the
// run be killed in the middle.
const takingSuffix = "-taking"

// taking is such a journal.
type taking struct {
	Files []taken
	file  *os.File // locked, as long as the run lives
}

// taken is a file that is to go.
type taken struct {
	Path     string // absolute
	To       string `json:",omitempty"` // where it is moved; empty: it is removed
	Aside    string `json:",omitempty"` // where it lies meanwhile
	Size     int64
	Modified time.Time
}

// write writes a journal into the folder of the first file.
func (t *taking) write(prefix string) (err error) {
	t.file, err = os.OpenFile(filepath.Join(filepath.Dir(t.Files[0].Path), prefix+takingSuffix), os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
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
		_ = os.Remove(t.file.Name()) // one that stays names what is no more
	}
}

// FinishTaking finishes what runs that are surely dead were taking away from a folder
// with these names in it, and reports whether there was something. Who may write there
// could have made the journal: it is only followed within the folder, and to the folder
// that into says for a file; empty: it is removed.
func FinishTaking(dir string, names []string, into func(path string) string) (finished bool, err error) {
	for _, name := range names {
		prefix, is := strings.CutSuffix(name, takingSuffix)
		if !is || !hiddenName().MatchString(prefix+"-0") {
			continue
		}
		done, err := finishOne(filepath.Join(dir, name), strings.HasPrefix(name, place.StagingPrefix+hostTag()), into)
		if err != nil {
			return finished, err
		}
		finished = finished || done
	}
	return finished, nil
}

func finishOne(journal string, ours bool, into func(path string) string) (bool, error) {
	f, err := os.OpenFile(journal, os.O_RDWR, 0)
	if err != nil {
		return false, nil // its run has just ended
	}
	t := taking{file: f}
	info, err := f.Stat()
	if err != nil || claim.Lock(f) != nil || !ours && time.Since(info.ModTime()) < claim.Silence {
		f.Close()
		return false, nil
	}
	if json.NewDecoder(f).Decode(&t) != nil {
		t.end() // it was just being written: nothing was taken away
		return true, nil
	}
	dir, err := filepath.Abs(filepath.Dir(journal))
	if err != nil {
		f.Close()
		return true, fault.Reading(journal, err)
	}
	for _, one := range t.Files {
		if filepath.Dir(one.Path) != dir || one.Aside != "" && filepath.Dir(one.Aside) != dir {
			continue
		}
		target := into(one.Path)
		if one.To == "" && target != "" || one.To != "" && (target == "" || filepath.Dir(one.To) != target || place.IsStaging(filepath.Base(one.To))) {
			continue
		}
		if err := one.finish(); err != nil {
			f.Close() // the journal stays, for the next run
			return true, err
		}
	}
	t.end()
	return true, nil
}

// finish takes away what is left of one file; one that is another by now stays.
func (t *taken) finish() error {
	if t.Aside != "" && place.IsStaging(filepath.Base(t.Aside)) {
		if err := os.Remove(t.Aside); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fault.Writing(t.Path, err)
		}
	}
	info, err := os.Lstat(t.Path)
	if err != nil || !info.Mode().IsRegular() || info.Size() != t.Size || !info.ModTime().Equal(t.Modified) {
		return nil
	}
	if t.To != "" {
		// Killed between the two steps of a move, it is in both places.
		if there, err := os.Lstat(t.To); err != nil || there.Size() != t.Size || !there.ModTime().Equal(t.Modified) {
			return Move(t.Path, t.To)
		}
	}
	return fault.Writing(t.Path, remove(t.Path))
}
