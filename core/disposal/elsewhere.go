package disposal

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"time"

	"widecrate/core/blob"
	"widecrate/core/claim"
	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/remote"
)

// takeElsewhere is Take for files at addresses: they are renamed on their server, or removed.
func (r *Route) takeElsewhere(ctx context.Context, files []blob.File, why error, dryRun bool) (t Taken) {
	to, same, err := r.destinationsElsewhere(ctx, files)
	switch {
	case err != nil:
	case to == nil:
		return Taken{Kept: LiesThere}
	case dryRun:
	default:
		err = r.goElsewhere(ctx, files, to, same, why)
	}
	if stays, ok := errors.AsType[*Stays](err); ok {
		return Taken{Kept: stays.Why}
	}
	if err != nil {
		return Taken{Err: err}
	}
	for i, f := range files {
		went := Went{From: f.Path}
		if to[i] != nil {
			went.To = to[i].String()
		}
		t.Files = append(t.Files, went)
	}
	return t
}

// addressOf is where a remote file lies.
func addressOf(f blob.File) *remote.Address { return f.Info.(blob.Info).At }

// unchangedElsewhere is Unchanged for files at addresses.
func unchangedElsewhere(ctx context.Context, files []blob.File) error {
	for _, f := range files {
		seen := f.Info.(blob.Info)
		now, err := seen.At.Now(ctx)
		why := ""
		switch {
		case errors.Is(err, remote.ErrMissing):
			why = "it is not there any more"
		case err != nil:
			return fault.At(f.Path, err)
		case !seen.Same(&now):
			why = "it changed since it was read"
		}
		if why != "" {
			return fault.At(f.Path, fault.New(fault.Refused, "%w", &Stays{why}))
		}
	}
	return nil
}

// NoteAt is Note for what was delivered at an address.
func NoteAt(ctx context.Context, at *remote.Address) (Record, error) {
	info, err := at.Now(ctx)
	if err != nil {
		return Record{}, fault.At(at.String(), fault.New(fault.Unwritable, "%w", err))
	}
	return Record{Path: at.String(), at: &seenAt{ctx, at, info}}, nil
}

// seenAt is what was seen at an address.
type seenAt struct {
	ctx  context.Context
	at   *remote.Address
	info remote.Info
}

func (s *seenAt) holds() bool {
	now, err := s.at.Now(s.ctx)
	return err == nil && s.info.Same(&now)
}

// destinationsElsewhere is Destinations for files at addresses; nil: the file is removed. same is where the same bytes
// are already.
func (r *Route) destinationsElsewhere(ctx context.Context, files []blob.File) (to, same []*remote.Address, err error) {
	if err := unchangedElsewhere(ctx, files); err != nil {
		return nil, nil, err
	}
	for n := 1; ; n++ {
		to, same = make([]*remote.Address, len(files)), make([]*remote.Address, len(files))
		free := true
		for i, f := range files {
			at := addressOf(f)
			in := r.To(f.Path, r.Begun)
			if in == "" {
				continue
			}
			dir, err := at.OnSameHost(in)
			if err != nil {
				return nil, nil, err
			}
			to[i] = dir.AsFolder().Sibling(numbered(at.Name(), n, len(files) > 1))
			if to[i].String() == at.String() {
				return nil, nil, nil
			}
			if !r.take(to[i].String()) { // several go at a time
				free = false
				break
			}
			isThere, taken, err := thereElsewhere(ctx, f, to[i])
			if err != nil {
				return nil, nil, err
			}
			if isThere {
				to[i], same[i] = nil, to[i]
			}
			if free = !taken; taken {
				break
			}
		}
		if free {
			return to, same, nil
		}
	}
}

// thereElsewhere finds out what stands at an address, as there does on disk.
func thereElsewhere(ctx context.Context, f blob.File, to *remote.Address) (same, taken bool, err error) {
	there, err := to.Now(ctx)
	switch {
	case errors.Is(err, remote.ErrMissing):
		return false, false, nil
	case err != nil:
		return false, false, fault.At(to.String(), err)
	case there.Folder || there.Size != f.Size():
		return false, true, nil
	}
	var both [2]blob.File
	for i, at := range []*remote.Address{addressOf(f), to} {
		if both[i], err = blob.FindAt(ctx, at); err != nil {
			return false, false, err
		}
	}
	same, err = blob.EqualFiles(both[0], both[1])
	return same, !same, err
}

// writeReasonAt is writeReason at an address; of one that says the same, the result is nil.
func writeReasonAt(ctx context.Context, beside *remote.Address, text string) (*remote.Address, error) {
	for n := 1; ; n++ {
		at := beside.Sibling(place.Numbered(beside.Name()+reasonSuffix, n))
		there, err := blob.FindAt(ctx, at)
		if err == nil && there.Info == nil {
			if err = writeElsewhere(ctx, at, text); !errors.Is(err, remote.ErrThere) {
				return at, err
			}
			continue
		}
		if err != nil {
			return nil, err
		}
		data, err := there.Data()
		if err != nil {
			return nil, fault.At(at.String(), err)
		}
		same := givesReason(io.NewSectionReader(data, 0, data.Size()), text)
		data.Close()
		if same {
			return nil, nil
		}
	}
}

// goElsewhere lets files go, and is not interrupted: all of them, or none with an error, as far as the
// server lets them be put back. What a run that was killed leaves, FinishAt finishes.
func (r *Route) goElsewhere(ctx context.Context, files []blob.File, to, same []*remote.Address, why error) (failed error) {
	if err := ctx.Err(); err != nil {
		return err
	}
	ctx = context.WithoutCancel(ctx)
	journal, noted := taking{Begun: r.Begun, Failed: r.Failed}, len(files) > 1
	aside, prefix := make([]*remote.Address, len(files)), claim.NewFolder()
	for i, f := range files {
		one := taken{Path: f.Path, Size: f.Size(), Modified: f.Info.ModTime()}
		if same[i] != nil {
			aside[i] = addressOf(f).Sibling(claim.Hidden(prefix, i) + claim.MovedSuffix)
			one.Aside, noted = aside[i].String(), true
		}
		if to[i] != nil {
			one.To = to[i].String()
			if err := r.makeFolder(ctx, to[i].Folder()); err != nil {
				return err
			}
		}
		journal.Files = append(journal.Files, one)
	}
	if why != nil && to[0] != nil {
		reason, err := writeReasonAt(ctx, to[0], reasonText(why, r.Begun))
		if err != nil {
			return err
		}
		defer func() {
			if failed != nil && reason != nil {
				_ = reason.Remove(ctx) // the first error says what is wrong
			}
		}()
	}
	if noted {
		text, err := json.Marshal(&journal)
		if err != nil {
			return err
		}
		note := addressOf(files[0]).Sibling(prefix + claim.TakingSuffix)
		if err := writeElsewhere(ctx, note, string(text)); err != nil {
			return err
		}
		defer func() { _ = note.Remove(ctx) }() // one that stays names what is no more
	}
	for i, f := range files { // what is removed comes last: it does not come back
		if to[i] == nil {
			continue
		}
		if err := rename(ctx, addressOf(f), to[i]); err != nil {
			for done := i - 1; done >= 0; done-- {
				if to[done] != nil {
					err = errors.Join(err, rename(ctx, to[done], addressOf(files[done])))
				}
			}
			return err
		}
	}
	for i, f := range files {
		if to[i] == nil {
			if err := letGo(ctx, addressOf(f), same[i], aside[i]); err != nil {
				return fault.At(f.Path, err)
			}
		}
	}
	return nil
}

// letGo removes a file. One of which a copy is at another address is renamed first, and goes only if the copy is still
// there then: both may be one file, as servers can have several addresses for a folder.
func letGo(ctx context.Context, at, same, aside *remote.Address) error {
	if same == nil {
		return at.Remove(ctx)
	}
	if err := rename(ctx, at, aside); err != nil {
		return err
	}
	_, err := same.Now(ctx)
	if err == nil {
		return aside.Remove(ctx)
	}
	if errors.Is(err, remote.ErrMissing) {
		err = fault.New(fault.Refused, "%w", &Stays{LiesThere})
	}
	if back := rename(ctx, aside, at); back != nil {
		return back
	}
	return err
}

// makeFolder makes a folder that things go to, once.
func (r *Route) makeFolder(ctx context.Context, in *remote.Address) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.made[in.String()] {
		return nil
	}
	if err := in.MakeFolder(ctx); err != nil {
		return fault.At(in.String(), err)
	}
	if r.made == nil {
		r.made = map[string]bool{}
	}
	r.made[in.String()] = true
	return nil
}

// rename renames a file to where nothing is.
func rename(ctx context.Context, from, to *remote.Address) error {
	err := from.Rename(ctx, to, false)
	if errors.Is(err, remote.ErrThere) {
		return Existing(to.String())
	}
	return fault.At(from.String(), err)
}

// writeElsewhere writes a file where nothing is.
func writeElsewhere(ctx context.Context, at *remote.Address, text string) error {
	f, err := at.Create(ctx)
	if err != nil {
		return fault.At(at.String(), err)
	}
	if _, err = io.WriteString(f, text); err == nil {
		err = f.Sync()
	}
	if closed := f.Close(); err == nil {
		err = closed
	}
	return fault.At(at.String(), err)
}

// CheckElsewhere makes sure that sources could go where they are to go: what lies at an address to
// an address on the same host, and what lies on disk to a folder there. Anything else is of kind
// fault.Usage.
func (a *After) CheckElsewhere(path string, at *remote.Address, today time.Time) error {
	if a.Disposition != Move {
		return nil
	}
	to := a.folder(path, today)
	switch {
	case at == nil && remote.IsAddress(to):
		return fault.At(path, fault.New(fault.Usage, "it lies on disk, and cannot be moved to an address").Advise("name a folder on disk to move it to"))
	case at == nil:
		return nil
	case !remote.IsAddress(to):
		return fault.At(path, fault.New(fault.Usage, "it lies at an address, and can only be moved on its server").Advise("name an address there to move it to: "+at.Folder().Sibling("done").String()+"/, for example"))
	}
	_, err := at.OnSameHost(to)
	return err
}

// DeliveredAt removes files at addresses that an earlier run delivered, after a look at all of them: they are as
// they were when they were compared with its receipt. It returns how many went; with an error that is of kind
// fault.Refused, none.
func DeliveredAt(ctx context.Context, files []blob.File) (removed int, err error) {
	if err := unchangedElsewhere(ctx, files); err != nil {
		return 0, err
	}
	for _, f := range files {
		if err := addressOf(f).Remove(ctx); err != nil {
			return removed, fault.At(f.Path, err)
		}
		removed++
	}
	return removed, nil
}

// ReturnAt is Return for a file at an address.
func ReturnAt(ctx context.Context, from, to *remote.Address, size int64, modified time.Time, dryRun bool) (returned bool, err error) {
	is := func(at *remote.Address) (there, same bool, err error) {
		now, err := at.Now(ctx)
		if errors.Is(err, remote.ErrMissing) {
			return false, false, nil
		}
		return err == nil, err == nil && now.Size == size && now.Modified.Equal(modified), err
	}
	moved, same, err := is(from)
	if err != nil {
		return false, fault.At(from.String(), err)
	}
	there, back, err := is(to)
	switch {
	case err != nil:
		return false, fault.At(to.String(), err)
	case !moved && back:
		return false, nil
	case !moved:
		return false, fault.At(from.String(), fault.New(fault.Refused, "%w", &Stays{"it is not there any more, where it was moved"}))
	case !same:
		return false, fault.At(from.String(), fault.New(fault.Refused, "%w", &Stays{"it changed since it was moved there"}))
	case there:
		return false, Existing(to.String())
	case dryRun:
		return true, nil
	}
	return true, rename(ctx, from, to)
}
