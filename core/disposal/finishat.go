package disposal

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"strings"
	"time"

	"widecrate/core/blob"
	"widecrate/core/claim"
	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/remote"
)

// FinishAt gives what source.Request needs to finish, in folders at addresses, what killed runs
// were removing or moving; nil where sources stay.
func FinishAt(after, failed *After, today time.Time) func(ctx context.Context, folder *remote.Address, there []remote.Info) (bool, error) {
	var routes []*Route
	for _, a := range []*After{after, failed} {
		if a.Disposition != Keep {
			routes = append(routes, a.Route(today, a == failed))
		}
	}
	if routes == nil {
		return nil
	}
	return func(ctx context.Context, folder *remote.Address, there []remote.Info) (finished bool, err error) {
		for _, info := range there {
			name, is := strings.CutSuffix(info.Name, claim.TakingSuffix)
			if !is || !claim.IsGone(name) && time.Since(info.Modified) < claim.Silence {
				continue
			}
			journal := folder.Listed(info)
			for _, r := range routes {
				done, err := r.finishAt(ctx, journal)
				if err != nil {
					return finished, fault.At(journal.String(), err)
				}
				finished = finished || done
			}
		}
		return finished, nil
	}
}

// largestJournal bounds what is read of one.
const largestJournal = 16 << 20

// finishAt finishes what a journal says, within its folder and the one that To says.
func (r *Route) finishAt(ctx context.Context, journal *remote.Address) (bool, error) {
	f, err := blob.FindAt(ctx, journal)
	if err != nil || f.Info == nil || f.Size() > largestJournal {
		return false, err // its run has just ended
	}
	data, err := f.Data()
	if err != nil {
		return false, err
	}
	defer data.Close()
	var t taking
	if json.NewDecoder(io.NewSectionReader(data, 0, data.Size())).Decode(&t) != nil {
		return true, journal.Remove(ctx) // it was just being written: nothing was taken away
	}
	if t.Failed != r.Failed {
		return false, nil
	}
	for _, one := range t.Files {
		from, err := journal.OnSameHost(one.Path)
		if err != nil || from.Folder().String() != journal.Folder().String() || !from.IsPlain() {
			continue
		}
		if err := r.finishFile(ctx, from, one, t.Begun); err != nil {
			return false, err // the journal stays, for the next run
		}
	}
	return true, journal.Remove(ctx)
}

// asideAt is where a journal says that a file lies meanwhile: under a hidden name in its folder, or nowhere.
func asideAt(from *remote.Address, path string) (aside *remote.Address, is bool) {
	if path == "" {
		return nil, false
	}
	aside, err := from.OnSameHost(path)
	return aside, err == nil && aside.IsPlain() && aside.Folder().String() == from.Folder().String() && place.IsStaging(aside.Name())
}

// finishFile takes away one file; one that is another by now, or would go elsewhere, stays.
func (r *Route) finishFile(ctx context.Context, from *remote.Address, one taken, begun time.Time) error {
	now, err := from.Now(ctx)
	aside, at := asideAt(from, one.Aside)
	if errors.Is(err, remote.ErrMissing) && at { // it may lie there
		if err := rename(ctx, aside, from); err != nil && !errors.Is(err, remote.ErrMissing) {
			return err
		}
		now, err = from.Now(ctx)
	}
	if errors.Is(err, remote.ErrMissing) {
		return nil
	}
	if err != nil || now.Size != one.Size || !now.Modified.Equal(one.Modified) {
		return err
	}
	in := r.To(one.Path, begun)
	if in == "" && one.To == "" {
		return from.Remove(ctx)
	}
	dir, err := from.OnSameHost(in)
	if err != nil {
		return nil //nolint:nilerr // this run moves to another place
	}
	f := blob.File{Path: one.Path, Info: blob.Info{Info: now, At: from}, Remote: true}
	if one.To == "" { // the same bytes were there
		there := dir.AsFolder().Sibling(from.Name())
		same, _, err := thereElsewhere(ctx, f, there)
		if err != nil || !same || !at {
			return err
		}
		if err := letGo(ctx, from, there, aside); !errors.As(err, new(*Stays)) {
			return err
		}
		return nil
	}
	to, err := from.OnSameHost(one.To)
	if err != nil || to.Folder().String() != dir.AsFolder().String() || place.IsStaging(to.Name()) || !to.IsPlain() {
		return nil //nolint:nilerr // it is not where this run moves to
	}
	return rename(ctx, from, to)
}
