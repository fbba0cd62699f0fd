package disposal

import (
	"context"
	"errors"

	"widecrate/core/fault"
	"widecrate/core/remote"
)

// An OldAt is an Old at an address.
type OldAt struct {
	ctx  context.Context
	at   *remote.Address
	seen *remote.Info // nil: nothing was there
}

// LookAt finds what stands at an address. A folder is of kind fault.Refused.
func LookAt(ctx context.Context, at *remote.Address) (*OldAt, error) {
	info, err := at.Now(ctx)
	ctx = context.WithoutCancel(ctx) // what is begun with it is not left in the middle
	switch {
	case errors.Is(err, remote.ErrMissing):
		return &OldAt{ctx: ctx, at: at}, nil
	case err != nil:
		return nil, Unwritable(at, err)
	case info.Folder:
		return nil, fault.At(at.String(), fault.New(fault.Refused, "it is a folder"))
	}
	return &OldAt{ctx, at, &info}, nil
}

// Unwritable is an error about an address that was to be written to.
func Unwritable(at *remote.Address, err error) error {
	if e, is := errors.AsType[*fault.Error](err); is && e.Kind == fault.Unreadable {
		failed := fault.New(fault.Unwritable, "%w", e.Err)
		failed.Do, failed.Hint = e.Do, e.Hint
		err = failed
	}
	return fault.At(at.String(), err)
}

// There reports whether there is something.
func (o *OldAt) There() bool { return o.seen != nil }

// Path is its address.
func (o *OldAt) Path() string { return o.at.String() }

// Still makes sure that the file is as it was seen; anything else is of kind fault.Refused.
func (o *OldAt) Still() error {
	now, err := o.at.Now(o.ctx)
	switch {
	case errors.Is(err, remote.ErrMissing):
		return nil // whoever took it away has left room
	case err != nil:
		return Unwritable(o.at, err)
	case o.seen == nil || !o.seen.Same(&now):
		return fault.At(o.at.String(), fault.New(fault.Refused, "something else has changed it meanwhile").Advise("nothing was replaced; run it again"))
	}
	return nil
}

// PutAside makes room for a new file that appears together with others.
func (o *OldAt) PutAside(to *remote.Address) error {
	return Unwritable(o.at, o.at.Rename(o.ctx, to, false))
}

// Back puts the file back under its name.
func (o *OldAt) Back(from *remote.Address) error {
	return Unwritable(from, from.Rename(o.ctx, o.at, false))
}

// Gone lets go of what was put aside: the new file is seen at its place. Where it is not, the old
// one goes back there.
func (o *OldAt) Gone(from *remote.Address) error {
	if _, err := o.at.Now(o.ctx); errors.Is(err, remote.ErrMissing) {
		return o.Back(from)
	}
	return Unwritable(from, from.Remove(o.ctx))
}

// Remove takes the file away: a part of a set of which all other parts are new.
func (o *OldAt) Remove() error {
	if err := o.Still(); err != nil {
		return err
	}
	return Unwritable(o.at, o.at.Remove(o.ctx))
}
