package source

import (
	"cmp"
	"errors"
	"os"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sync/errgroup"

	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/parts"
	"widecrate/core/remote"
)

// inputName is the name of standard input for people, and what its
// own folder is called after.
const inputName = "standard-input"

func (f *finder) addInput(to To) error {
	if slices.ContainsFunc(f.found, func(s Source) bool { return s.Input() != nil }) {
		return fault.New(fault.Usage, "standard input can be read once, and is named twice")
	}
	in := f.Input
	if in == nil {
		in = os.Stdin
	}
	f.add(OfInput(in).below("", to))
	return nil
}

// ofAddress is the archive at an address; err says why it cannot be used, nil if it can.
func ofAddress(a *remote.Address, err error) Source {
	return Source{Path: a.String(), more: &more{address: a, err: err}}
}

// inList is the archive at an address that was found in a folder.
func inList(a *remote.Address) Source {
	return Source{Path: a.String(), more: &more{address: a, listed: true}}
}

// addAddress adds what lies at an address: an archive, the set that it is a part
// of, or the series that is asked for.
func (f *finder) addAddress(text string, to To) error {
	address, err := f.Remote.Address(text)
	if err != nil {
		return err
	}
	switch {
	case address.IsFolder():
		return f.addFolder(address.String(), "", to)
	case f.inAnySeries(address.Name()):
		_, err := f.addSeriesAt(address, to)
		return err
	}
	set, err := f.sets.Of(address.String())
	s := ofAddress(address, err)
	if set != nil {
		s = setAt(address, set, false)
	}
	f.add(s.below("", to))
	return nil
}

// setAt is a set of which a part lies at an address.
func setAt(at *remote.Address, set *parts.Set, listed bool) Source {
	return Source{Path: set.Path(), more: &more{set: set, called: set.Name, address: at, listed: listed}}
}

// mostFolders bounds how deep folders at addresses lie in each other: a server can make them up.
const mostFolders = 64

// circle finds a folder at an address that would be looked into without end.
func (f *finder) circle(l *listing) error {
	switch {
	case l.at == nil:
	case len(f.above) >= mostFolders:
		return fault.New(fault.Unsafe, "more than %d folders lie in each other there", mostFolders)
	case len(l.children)+len(l.deeper) > 0 && slices.Contains(f.above, l.said):
		return fault.New(fault.Unsafe, "it has the same in it as a folder above it: the server leads in circles").Suggest(fault.NameFolders)
	}
	return nil
}

// askTimes finds out when what lies at addresses was modified.
func (f *finder) askTimes(sources []Source) error {
	var asking errgroup.Group
	asking.SetLimit(2 * remote.DefaultConnections)
	ask := func(s *Source) {
		if s.Err() == nil && s.Address() != nil && s.Set() == nil {
			asking.Go(func() error {
				modified, err := s.Address().Modified(f.ctx)
				if err == nil && modified.IsZero() {
					err = fault.New(fault.Unreadable, "the server does not say when it was modified, and so nobody knows whether it is still arriving")
				}
				*s = s.Failed(fault.At(s.Path, err))
				return f.ctx.Err()
			})
		}
	}
	for i := range sources {
		ask(&sources[i])
		for m := range sources[i].Members() {
			ask(&sources[i].Members()[m])
		}
	}
	err := asking.Wait()
	for i := range sources {
		for _, m := range sources[i].Members() {
			sources[i] = sources[i].Failed(cmp.Or(sources[i].Err(), m.Err()))
		}
	}
	return err
}

// missingAtEnd is how many numbers in a row have to be missing for the end of a
// series that can only be asked for.
const missingAtEnd = 2

// addSeriesAt adds the members of the series that an address is of, or of all where it is that
// of a folder, asked for by name. It reports whether there was something to ask for.
func (f *finder) addSeriesAt(at *remote.Address, to To) (asked bool, err error) {
	for _, s := range f.series {
		if !at.IsFolder() && !s.name.MatchString(at.Name()) {
			continue
		}
		if strings.Contains(s.pattern, "*") {
			return true, fault.At(at.String(), fault.New(fault.Usage, "a server cannot be asked for all names that match %s", s.pattern).Advise("name the archives, or leave the * out"))
		}
		asked = true
		if err := f.askSeries(s, at, to); err != nil {
			f.add(ofAddress(at, err).below("", to))
		}
	}
	return asked, nil
}

func (f *finder) askSeries(s series, at *remote.Address, to To) error {
	width, named := 0, 0
	if m := s.name.FindStringSubmatch(at.Name()); m != nil && !at.IsFolder() {
		named, _ = strconv.Atoi(m[1]) // a few digits
		if m[1][0] == '0' {
			width = len(m[1])
		}
	} else {
		var err error
		if width, err = f.widthOf(s, at); err != nil {
			return err
		}
	}
	for number, missing := 0, 0; number <= max(named, s.count) || missing < missingAtEnd; number++ {
		member := at.Sibling(s.member(number, width))
		there, err := f.isAt(member)
		if err != nil {
			return err
		}
		if missing++; there {
			missing = 0
			f.add(ofAddress(member, nil).below("", to))
		}
	}
	return nil
}

// isAt reports whether something lies at an address.
func (f *finder) isAt(a *remote.Address) (bool, error) {
	_, err := blob.IdentifyAt(f.ctx, a)
	if errors.Is(err, remote.ErrMissing) {
		return false, nil
	}
	return err == nil, err
}

// widthOf finds out with how many digits the first numbers of a series are written;
// 0: as many as they need.
func (f *finder) widthOf(s series, at *remote.Address) (int, error) {
	for _, width := range []int{0, 2, 3, 4} {
		for number := range 2 {
			if there, err := f.isAt(at.Sibling(s.member(number, width))); err != nil || there {
				return width, err
			}
		}
	}
	return 0, nil
}

// member is the name of the member with a number.
func (s series) member(number, width int) string {
	digits := strconv.Itoa(number)
	return s.before + strings.Repeat("0", max(width-len(digits), 0)) + digits + s.after
}
