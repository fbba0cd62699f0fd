package source

import (
	"cmp"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"widecrate/core/fault"
	"widecrate/core/parts"
)

// series is a name with a number in it: the archives of such names belong
// together.
type series struct {
	pattern       string // "suite-{n}.tar"
	before, after string
	name          *regexp.Regexp
	count         int // how many there must be; 0: nothing says it
}

// countAfter is what says in a name how many there are: "day {n} of 5".
var countAfter = regexp.MustCompile(`^[ ._-]?(?i:of|von|de|di|sur|av|van)[ ._-]?(\d{1,5})\D`)

func (f *finder) readSeries() {
	for _, pattern := range f.Series {
		before, after, _ := strings.Cut(pattern, "{n}")
		anything := func(text string) string { return strings.ReplaceAll(regexp.QuoteMeta(text), `\*`, ".*") }
		name := regexp.MustCompile("^" + anything(before) + `(\d{1,6})` + anything(after) + "$")
		s := series{pattern, before, after, name, f.SeriesCount}
		if m := countAfter.FindStringSubmatch(after); m != nil && s.count == 0 {
			s.count, _ = strconv.Atoi(m[1]) // a few digits
		}
		f.series = append(f.series, s)
	}
}

// called is what the whole of a series in a folder is called.
func (s series) called(folder string) string {
	after := strings.ReplaceAll(s.after, "*", "")
	if m := countAfter.FindStringIndex(after); m != nil {
		after = after[m[1]-1:]
	}
	if name := strings.TrimRight(strings.ReplaceAll(s.before, "*", ""), " ._-("); name != "" {
		return name + after
	}
	return filepath.Base(folder) + after
}

func (f *finder) inAnySeries(name string) bool {
	return slices.ContainsFunc(f.series, func(s series) bool { return s.name.MatchString(name) })
}

// numbered is a member of a series.
type numbered struct {
	Source
	number int
}

// folder is where a source lies.
func (s Source) folder() string {
	if s.Elsewhere() {
		return s.Path[:strings.LastIndex(s.Path, "/")+1]
	}
	return filepath.Dir(s.Path)
}

// inSeries puts the members of each series together, where the first one was.
func (f *finder) inSeries() ([]Source, error) {
	if len(f.series) == 0 {
		return f.found, nil
	}
	type key struct {
		series      int
		folder, sub string
		to          To
	}
	places := map[key]int{}
	members := map[int][]numbered{} // by the place of their series
	var sources []Source
	for _, s := range f.found {
		i := slices.IndexFunc(f.series, func(of series) bool { return of.name.MatchString(s.Name()) })
		if i < 0 {
			sources = append(sources, s)
			continue
		}
		of, k := f.series[i], key{i, s.folder(), s.Sub, s.To()}
		at, known := places[k]
		if !known {
			at = len(sources)
			places[k] = at
			where := filepath.Join(k.folder, of.pattern)
			if s.Elsewhere() {
				where = k.folder + of.pattern
			}
			sources = append(sources, Source{Path: where, Sub: s.Sub, to: s.to, more: &more{called: of.called(k.folder)}})
		}
		number, _ := strconv.Atoi(of.name.FindStringSubmatch(s.Name())[1]) // a few digits
		members[at] = append(members[at], numbered{s, number})
	}
	found := map[int]bool{}
	for k, at := range places {
		found[k.series] = true
		sources[at].setMembers(members[at], f.AllowGaps, f.series[k.series])
	}
	for i, s := range f.series {
		if !found[i] {
			return nil, fault.New(fault.NoMatch, "no archive is called like the series %s", s.pattern).Advise("check the name, and the folder that is looked in")
		}
	}
	return sources, nil
}

// setMembers puts the members into the order of their numbers, which start at 0
// or 1. A gap, and a number that is there twice, is of kind fault.Incomplete.
func (s *Source) setMembers(members []numbered, allowGaps bool, of series) {
	slices.SortStableFunc(members, func(a, b numbered) int { return a.number - b.number })
	var missing []string
	m := s.rest()
	wrong := func(err error) { m.err = cmp.Or(m.err, err) }
	next := min(members[0].number, 1)
	for _, one := range members {
		m.members = append(m.members, one.Source)
		wrong(one.Err())
		if one.number < next {
			wrong(fault.At(s.Path, fault.New(fault.Incomplete, "two of the series have the number %d, %s is one of them", one.number, one.Name())))
		}
		for ; next < one.number; next++ {
			missing = append(missing, fmt.Sprintf("%s%d%s", of.before, next, of.after))
		}
		next = one.number + 1
	}
	if first := min(members[0].number, 1); of.count > 0 {
		for ; next < first+of.count; next++ {
			missing = append(missing, fmt.Sprintf("%s%d%s", of.before, next, of.after))
		}
		if next > first+of.count {
			wrong(fault.At(s.Path, fault.New(fault.Incomplete, "there are %d of the series where %d should be", len(members), of.count).
				Advise("move aside what is left of an earlier one")))
		}
	}
	if missing != nil && !allowGaps {
		wrong(fault.At(s.Path, fault.New(fault.Incomplete, "%d of the series missing: %s", len(missing), parts.Shorten(missing)).Suggest(fault.AllowGaps)))
	}
	s.more = &m
}
