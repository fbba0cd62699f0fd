package extract

import (
	"cmp"

	"widecrate/core/blob"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/report"
	"widecrate/core/source"
)

// unit is the unit of the i-th source. It is made when it is asked for: there may be millions.
func (r *run) unit(i int) *unit {
	if r.kept != nil && r.kept[i] != nil {
		return r.kept[i]
	}
	s := &r.Sources[i]
	target, err := r.outset(s)
	u := &unit{run: r, source: s, err: err, root: r.roots.at(target.Root)}
	u.top = u
	if r.After.Disposition != disposal.Keep || r.Failed.Disposition != disposal.Keep {
		u.after = &afterwards{root: target.Root}
	}
	if r.kept != nil {
		r.kept[i] = u
	}
	return u
}

// outset is where a source goes, as far as its name says it, and why it is not even opened; nil:
// it is.
func (r *run) outset(s *source.Source) (place.Target, error) {
	target, err := r.targetOf(s, s.Name())
	return target, cmp.Or(s.Err(), r.wrong[s], fault.At(s.Path, err))
}

func (r *run) errOf(s *source.Source) error {
	_, err := r.outset(s)
	return err
}

// fail gives a source an error, unless it has one.
func (r *run) fail(s *source.Source, err error) {
	if err != nil && r.errOf(s) == nil {
		r.wrong[s] = fault.At(s.Path, err)
	}
}

// rootOf is the destination root of a source.
func (r *run) rootOf(s *source.Source) string {
	target, _ := r.outset(s)
	return target.Root
}

func (r *run) targetOf(s *source.Source, name string) (place.Target, error) {
	return r.rulesOf(s).Placement.Target(place.Archive{Path: s.Path, Into: s.To().Into, Sub: s.Sub, Name: name})
}

// begin prepares a source to be dealt with.
func (u *unit) begin() {
	if u.dealings != nil {
		return
	}
	target, _ := u.run.targetOf(u.source, u.source.Name()) // the error is that of the unit
	u.dealings = &dealings{target: target, outcome: &report.Unpacked{Archive: u.source.Path, Source: *u.source, DryRun: u.run.DryRun}}
	o := u.outcome
	o.Source = o.Source.Failed(u.err)
	o.Target = u.run.absolute(target.Path())
	o.Asked, o.Root = o.Target+u.source.To().Own.String(), u.run.absolute(target.Root)
}

// doneEarlier reports whether a source need not be opened.
func (u *unit) doneEarlier() bool {
	if u.run.Done != nil && u.inside == nil {
		u.outcome.Done = u.isDone(u.run.Done)
	}
	return u.outcome.Done
}

// isDone asks whether a source was done earlier, and then prepares its end.
func (u *unit) isDone(done func(files []blob.File, target string, content bool) *report.Earlier) bool {
	if u.err != nil {
		return false
	}
	u.begin()
	files, err := u.outcome.Source.Files(u.run.ctx)
	if err != nil || len(files) == 0 { // the error will be reported when the source is opened
		return false
	}
	u.run.anchor(files)
	u.outcome.Earlier = done(files, u.outcome.Asked, u.run.After.Disposition == disposal.Remove)
	if u.outcome.Earlier == nil {
		return false
	}
	if u.after != nil {
		u.after.files = files
	}
	if !u.outcome.Earlier.All {
		u.partly("an earlier time")
	}
	return true
}

// rename takes the name in that a server gives, which is known only now.
func (u *unit) rename() (err error) {
	s := &u.outcome.Source
	if s.Address() == nil || s.Set() != nil || u.opened.archive.Name == s.Name() && !namedLater(u.source) {
		return nil
	}
	u.target, err = u.run.targetOf(s, u.opened.archive.Name)
	if err != nil {
		return err
	}
	u.outcome.Target = u.run.absolute(u.target.Path())
	if u.run.Placement.Layout == place.Own && u.run.folders != nil {
		return u.run.claim(u)
	}
	return nil
}
