package verify

import (
	"context"
	"path"

	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/report"
	"widecrate/core/schedule"
	"widecrate/core/source"
)

// A Pair is two things to compare; one that has none beside it has "" there.
type Pair struct{ A, B string }

// ByName and ByStem are what archives of two folders are said to belong together by.
func ByName(s source.Source) string { return s.Name() }

// ByStem is the name without its extension: a ZIP belongs to a tar.
func ByStem(s source.Source) string { return place.Stem(s.Name()) }

// Match finds the archives in two folders, and which belong together: those in the same
// folder below for which by is the same. Several on one side are of kind fault.Refused; a
// folder that holds none, of kind fault.NoMatch.
func Match(ctx context.Context, a, b source.Request, by func(source.Source) string) (pairs []Pair, err error) {
	var sides [2][]source.Source
	at := [2]map[string]string{{}, {}}
	for i, r := range []source.Request{a, b} {
		if sides[i], err = source.Find(ctx, r); err != nil {
			return nil, err
		}
		if len(sides[i]) == 0 {
			return nil, fault.At(r.Names[0], fault.New(fault.NoMatch, "there is no archive in it"))
		}
		for _, s := range sides[i] {
			if s.Err() != nil && s.Path == r.Names[0] { // the folder itself
				return nil, s.Err()
			}
			key := path.Join(s.Sub, by(s))
			if first, twice := at[i][key]; twice {
				return nil, fault.New(fault.Refused, "%s and %s would both be compared as %s", first, s.Path, key).Advise("choose among them, or pair them one by one in a list")
			}
			at[i][key] = s.Path
		}
	}
	for _, s := range sides[0] {
		pairs = append(pairs, Pair{s.Path, at[1][path.Join(s.Sub, by(s))]})
	}
	for _, s := range sides[1] {
		if at[0][path.Join(s.Sub, by(s))] == "" {
			pairs = append(pairs, Pair{"", s.Path})
		}
	}
	return pairs, nil
}

// CompareEach compares pairs, several at a time, and reports a *report.Compared for each, in
// order, and a *report.NotTaken for each after a halt. One that fails does not stop the others.
func CompareEach(ctx context.Context, c Comparison, pairs []Pair, o schedule.Options, tell report.Sink) error {
	left, err := schedule.Each(ctx, len(pairs), o, func(i int) (*report.Compared, error) {
		one := c
		one.A, one.B = pairs[i].A, pairs[i].B
		if one.A == "" || one.B == "" {
			return &report.Compared{A: one.A, B: one.B}, nil
		}
		var r *report.Compared
		err := fault.Guard(func() (err error) {
			r, err = Compare(ctx, one)
			return err
		})
		if err != nil {
			r = &report.Compared{A: one.A, B: one.B, Err: err}
		}
		return r, err
	}, func(r *report.Compared) { tell(r) })
	if err == nil {
		tell.Left(left, func(i int) string { return pairs[i].A })
	}
	return err
}
