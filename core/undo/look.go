package undo

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/receipt"
	"widecrate/core/remote"
	"widecrate/core/report"
	"widecrate/core/schedule"
)

// verdict is what is to become of a file.
type verdict struct {
	gone    *blob.File // to be removed
	missing bool
	stays   error // why not
}

// look finds out which files are still as they were delivered.
func (t *taking) look(i int, p *receipt.Past, all []file, u *report.Undone) (gone []blob.File, err error) {
	ways := ways{root: p.Unit.Root}
	const share = 256 // so many at a time: of small ones, each is soon looked at
	verdicts := make([]verdict, len(all))
	_, err = schedule.Each(t.ctx, (len(all)+share-1)/share, schedule.Options{Workers: t.Workers}, func(n int) (struct{}, error) {
		for j := n * share; j < min(len(all), (n+1)*share); j++ {
			verdicts[j] = t.verdict(i, &all[j], &ways)
		}
		return struct{}{}, t.ctx.Err()
	}, func(struct{}) {})
	for j := range verdicts {
		switch f, v := &all[j], verdicts[j]; {
		case v.gone != nil:
			if gone = append(gone, *v.gone); f.Replaced && f.Kept == "" {
				u.Over++
			}
		case v.missing:
			u.Missing++
		case remote.IsAddress(f.at) && fault.Of(v.stays) == fault.Unreadable: // another time, perhaps
			return nil, v.stays
		case v.stays != nil:
			u.Stays = append(u.Stays, report.Stayed{Path: f.at, Err: stays(f.at, v.stays)})
		case f.Same:
			u.There++
		}
	}
	return gone, err
}

func (t *taking) verdict(i int, f *file, ways *ways) (v verdict) {
	switch {
	case f.Same:
		return v
	case f.Kept == "" && t.last[place.Key(f.at)] != i: // a later archive of the run replaced it
		return v
	}
	if back, would := t.wouldBe(f.at); would {
		if v.missing = !back; back {
			v.gone = &blob.File{Path: f.at}
		}
		return v
	}
	if t.later[place.Key(f.at)] {
		v.stays = fault.New(fault.Refused, "a later run delivered it, too")
		return v
	}
	there, err := t.Sites.Identify(f.at)
	if err == nil && there.Info == nil {
		err = fs.ErrNotExist
	}
	if err == nil && !there.Remote {
		err = ways.plain(filepath.Dir(f.at))
	}
	if err == nil {
		err = t.Receipts.CheckFile(t.ctx, &f.File, f.at)
	}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		v.missing = true
	case err != nil && f.Kept != "" && !remote.IsAddress(f.Kept) && missing(f.Kept):
		v.missing = true // what it replaced is back: an undo was killed
	case err != nil:
		v.stays = err
	default:
		v.gone = &there
	}
	return v
}

func missing(path string) bool {
	_, err := os.Lstat(path)
	return errors.Is(err, fs.ErrNotExist)
}

// stays is why a file is not removed.
func stays(path string, err error) error {
	e, is := errors.AsType[*fault.Error](err)
	if is && e.Kind == fault.Damaged {
		return fault.At(path, fault.New(fault.Refused, "%w", e.Err).Advise("it stays; remove it yourself if nobody needs it"))
	}
	if !is || e.Where == "" {
		return fault.At(path, err)
	}
	return err
}

// sources makes sure that what an archive came from is there: what was delivered may else be all
// that there is.
func (t *taking) sources(p *receipt.Past) error {
	gone := func(path, what string) error {
		return fault.At(p.Unit.Archive, fault.New(fault.Refused, "%s, which it came from, is not there as it was: %s may be all that there is", path, what).
			Advise("nothing of it was removed; put that back, or remove it yourself"))
	}
	for _, from := range p.Unit.From {
		if t.stuck[place.Key(from.Path)] {
			return fault.At(p.Unit.Archive, fault.New(fault.Unwritable, "%s, which it came from, could not be moved back", from.Path).Advise("nothing of it was removed; run it again when that is possible"))
		}
		if t.returned[place.Key(from.Path)] {
			continue
		}
		if remote.IsAddress(from.Path) {
			there, err := t.Sites.Identify(from.Path)
			if err != nil {
				return err
			}
			if there.Info == nil || !from.Is(there) {
				return gone(from.Path, "what was delivered")
			}
			continue
		}
		info, err := os.Stat(from.Path)
		if err != nil || info.Size() != from.Size || !info.ModTime().Equal(from.Modified) {
			return gone(from.Path, "what was delivered")
		}
	}
	switch {
	case p.Unit.Edited && p.Unit.Parts[0].Kept == "":
		return fault.At(p.Unit.Archive, fault.New(fault.Refused, "it was changed, and how it was before was not kept").Suggest(fault.KeepReplaced))
	case p.Unit.Parts == nil || p.Unit.From != nil || p.Unit.Edited:
		return nil
	}
	rows, err := p.Files()
	for i := range rows {
		if rows[i].Source == "" {
			continue
		}
		if info, statErr := os.Lstat(rows[i].Source); err == nil && (statErr != nil || rows[i].Type == archive.File.String() && info.Mode().IsRegular() && info.Size() != rows[i].Size) {
			return gone(rows[i].Source, "the archive")
		}
	}
	return err
}

// ways are the folders below a root, each with what is wrong with the way there.
type ways struct {
	root  string
	mu    sync.Mutex
	found map[string]error
}

// plain makes sure that no folder on the way has become a link.
func (w *ways) plain(dir string) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if err, looked := w.found[dir]; looked {
		return err
	}
	var err error
	if w.root != "" && len(dir) > len(w.root) && strings.HasPrefix(dir, w.root) {
		info, statErr := os.Lstat(dir)
		switch {
		case statErr != nil:
			err = fault.Reading(dir, statErr)
		case info.Mode()&fs.ModeSymlink != 0:
			err = fault.New(fault.Refused, "the folder %s is a link now", dir)
		default:
			w.mu.Unlock()
			err = w.plain(filepath.Dir(dir))
			w.mu.Lock()
		}
	}
	if w.found == nil {
		w.found = map[string]error{}
	}
	w.found[dir] = err
	return err
}
