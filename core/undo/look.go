package undo

import (
	"cmp"
	"encoding/hex"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/place"
	"widecrate/core/receipt"
	"widecrate/core/report"
	"widecrate/core/schedule"
	"widecrate/core/storage"
)

// sound makes sure that what a receipt says of an archive is complete, and stays within the folders that its run
// said it would write to.
func (t *taking) sound(p *receipt.Past, all []file) error {
	refuse := func(format string, args ...any) error {
		return fault.At(p.Unit.Archive, fault.New(fault.Refused, format, args...).Advise("nothing of the archive was removed"))
	}
	if !p.Complete {
		return refuse("the receipt was cut off in the middle of what it says of this archive")
	}
	if t.run.Roots == nil {
		return refuse("the receipt does not say which folders its run wrote to: it is of an earlier version")
	}
	same := 0
	for i := range all {
		f := &all[i]
		if f.Same {
			same++
		}
		if p.Unit.Parts == nil && !filepath.IsLocal(filepath.FromSlash(f.Path)) {
			return refuse("the receipt names %q, which does not lie below %s", f.Path, p.Unit.Root)
		}
	}
	if same != p.Unit.Same {
		return refuse("the receipt does not say which of its files were there before: it is of an earlier version")
	}
	return nil
}

// going is what is to be removed of an archive.
type going struct {
	here     []*disposal.Seen
	foreseen []string // in a dry run: what is there by then
}

// verdict is what is to become of a file.
type verdict struct {
	gone     *disposal.Seen // to be removed
	foreseen bool           // the same, once something else was taken back
	missing  bool
	stays    error // why not
}

// look finds out which files are still as they were delivered.
func (t *taking) look(i int, p *receipt.Past, all []file, u *report.Undone) (gone going, err error) {
	const share = 256 // so many at a time: of small ones, each is soon looked at
	verdicts := make([]verdict, len(all))
	_, err = schedule.Each(t.ctx, (len(all)+share-1)/share, schedule.Options{Workers: t.Workers}, func(n int) (struct{}, error) {
		g := t.ground()
		defer t.done(g)
		for j := n * share; j < min(len(all), (n+1)*share) && t.ctx.Err() == nil; j++ {
			verdicts[j] = t.verdict(g, i, &all[j])
		}
		return struct{}{}, t.ctx.Err()
	}, func(struct{}) {})
	for j := range verdicts {
		switch f, v := &all[j], verdicts[j]; {
		case v.gone != nil || v.foreseen:
			if v.gone != nil {
				gone.here = append(gone.here, v.gone)
			} else {
				gone.foreseen = append(gone.foreseen, f.at)
			}
			if f.Replaced && f.Kept == "" {
				u.Over++
			}
		case v.missing:
			u.Missing++
		case disposal.Unanswered(v.stays): // another time, perhaps
			return gone, v.stays
		case v.stays != nil && p.Unit.Parts != nil && len(all) > 1:
			return gone, fault.At(p.Unit.Archive, fault.New(fault.Refused, "a part of the set stays, and so do the others: %w", v.stays))
		case v.stays != nil:
			u.Stays = append(u.Stays, report.Stayed{Path: f.at, Err: stays(f.at, v.stays)})
		case f.Same:
			u.There++
		}
	}
	return gone, err
}

func (t *taking) verdict(g *disposal.Ground, i int, f *file) (v verdict) {
	switch {
	case f.Same:
		return v
	case f.Kept == "" && t.last[place.Key(f.at)] != i: // a later archive of the run replaced it
		return v
	}
	if sum, would := t.would.at(f.at); would {
		switch sum {
		case "":
			v.missing = true
		case f.SHA256:
			v.foreseen = true
		default:
			v.stays = fault.New(fault.Refused, "what comes back there is not what was delivered")
		}
		return v
	}
	if t.later[place.Key(f.at)] {
		v.stays = fault.New(fault.Refused, "a later run delivered it, too")
		return v
	}
	seen, err := g.See(f.at)
	if err == nil {
		err = f.CheckAs(t.ctx, f.at, seen)
	}
	if err != nil && seen != nil && f.Kept != "" && seen.Is(f.KeptSHA256) {
		v.missing = true // what it replaced is back: an undo was killed
		return v
	}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		v.missing = true
	case err != nil:
		v.stays = err
	default:
		v.gone = seen
	}
	return v
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

// was is something that an archive replaced, and that is to come back.
type was struct {
	receipt.Was
	at   string
	seen *disposal.Seen // where it is kept
	back bool
	err  error // why it is not back
}

// kept are those, by their places, each seen where it is kept. One that is neither there nor back is of kind
// fault.Refused: what replaced it may be all that there is.
func (t *taking) kept(g *disposal.Ground, p *receipt.Past, all []file, u *report.Undone) (map[string]*was, error) {
	stay := map[string]bool{}
	for _, s := range u.Stays {
		stay[s.Path] = true
	}
	kept := map[string]*was{}
	take := func(at string, of receipt.Was) error {
		if of.Kept == "" || stay[at] {
			return nil
		}
		seen, err := g.See(of.Kept)
		if errors.Is(err, fs.ErrNotExist) {
			if there, missing := g.See(at); missing == nil && there.Is(of.KeptSHA256) {
				return nil // it is back
			}
		}
		if err == nil && !seen.Is(of.KeptSHA256) {
			err = errors.New("it is not what was kept there")
		}
		if err != nil {
			return fault.At(p.Unit.Archive, fault.New(fault.Refused, "what was at %s before cannot come back: %s: %w", at, of.Kept, fault.Bare(err)).
				Advise("nothing of the archive was removed; put that back, or remove the archive's files yourself"))
		}
		kept[place.Key(at)] = &was{Was: of, at: at, seen: seen}
		return nil
	}
	for i := range all {
		if err := take(all[i].at, all[i].Was); err != nil {
			return nil, err
		}
	}
	for _, part := range p.Unit.Gone {
		if err := take(part.Path, part.Was); err != nil {
			return nil, err
		}
	}
	return kept, nil
}

// sources makes sure that what an archive came from is there, by its content: what was delivered may else
// be all that there is.
func (t *taking) sources(p *receipt.Past) error {
	u := &p.Unit
	what := "what was delivered"
	if u.Parts != nil && u.From == nil {
		what = "the archive"
	}
	gone := func(path string) error {
		return fault.At(u.Archive, fault.New(fault.Refused, "%s, which it came from, is not there as it was: %s may be all that there is", path, what).
			Advise("nothing of it was removed; put that back, or remove it yourself"))
	}
	nowhere := func() error {
		return fault.At(u.Archive, fault.New(fault.Refused, "it came from standard input, or from no file: %s may be all that there is", what).
			Advise("nothing of it was removed; remove it yourself"))
	}
	for _, from := range u.From {
		if t.stuck[place.Key(from.Path)] {
			return fault.At(u.Archive, fault.New(fault.Unwritable, "%s, which it came from, could not be moved back", from.Path).Advise("nothing of it was removed; run it again when that is possible"))
		}
		switch is, err := t.isThere(&from); {
		case err != nil:
			return err
		case !is:
			return gone(from.Path)
		}
	}
	switch {
	case u.Edited && u.Parts[0].Kept == "":
		return fault.At(u.Archive, fault.New(fault.Refused, "it was changed, and how it was before was not kept").Suggest(fault.KeepReplaced))
	case u.From != nil || u.Edited:
		return nil
	case u.Parts == nil:
		if u.Files > 0 {
			return nowhere()
		}
		return nil
	}
	for _, dir := range u.Held {
		if info, err := os.Stat(dir); err != nil || !info.IsDir() {
			return gone(dir)
		}
	}
	rows, err := p.Files()
	for i := range rows {
		row := &rows[i]
		switch {
		case row.Source == "":
			return nowhere()
		case row.Type == archive.Symlink.String():
			if to, err := os.Readlink(row.Source); err != nil || filepath.ToSlash(to) != row.Link {
				return gone(row.Source)
			}
			continue
		}
		if is, err := t.isThere(&receipt.Part{Path: row.Source, Size: row.Size, SHA256: row.SHA256}); !is {
			return cmp.Or(err, gone(row.Source))
		}
	}
	return err
}

// isThere reports whether a file with that content is at its path, or in a dry run would be by then. A server that does
// not say is of kind fault.Unreadable.
func (t *taking) isThere(part *receipt.Part) (bool, error) {
	if would, known := t.would.at(part.Path); known {
		return part.SHA256 != "" && would == part.SHA256 || would == asMoved, nil
	}
	there, err := t.Sites.Identify(part.Path)
	switch {
	case disposal.Unanswered(err):
		return false, err
	case err != nil || there.Info == nil:
		return false, nil
	case storage.IsFar(there.Info):
		return part.Is(there), nil
	}
	f, info, err := folder.OpenRegular(part.Path)
	if err != nil {
		return false, nil //nolint:nilerr // what cannot be read is no evidence
	}
	defer f.Close()
	if info.Size() != part.Size || part.SHA256 == "" {
		return false, nil
	}
	is, err := blob.Sum(f)
	return err == nil && hex.EncodeToString(is) == part.SHA256, nil
}
