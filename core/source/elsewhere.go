package source

import (
	"context"
	"errors"
	"os"
	"slices"
	"strconv"
	"strings"

	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/parts"
	"widecrate/core/web"
)

// inputName is the name of standard input for people, and what its
// own folder is called after.
const inputName = "standard-input"

func (f *finder) addInput(to To) error {
	if slices.ContainsFunc(f.found, func(s Source) bool { return s.Input != nil }) {
		return fault.New(fault.Usage, "standard input can be read once, and is named twice")
	}
	in := f.Input
	if in == nil {
		in = os.Stdin
	}
	f.add(Source{Path: inputName, To: to, Input: in})
	return nil
}

// addAddress adds what lies at an address: an archive, the set that it is a part
// of, or the series that is asked for.
func (f *finder) addAddress(text string, to To) error {
	if f.Web == nil {
		var err error
		if f.Web, err = web.New(web.Options{}); err != nil {
			return err
		}
	}
	address, err := f.Web.Address(text)
	if err != nil {
		return err
	}
	if f.inAnySeries(address.Name()) || address.IsFolder() {
		return f.addSeriesAt(address, to)
	}
	s := Source{Path: text, To: to, Address: address}
	set, err := f.setAt(address)
	switch {
	case err != nil:
		s.Err = err
	case set != nil:
		if f.seen[set.Path()+to.key()] != "" {
			return nil
		}
		s = fromSet(set, "", to)
		s.Address = address
	}
	f.add(s)
	return nil
}

// setAt is the set that what lies at an address is a part of; nil: there is none.
func (f *finder) setAt(a *web.Address) (*parts.Set, error) {
	return parts.Ask(a.Name(), func(name string) (blob.File, error) { return blob.FindAt(f.ctx, a.Sibling(name)) })
}

// SetAt returns the set that what lies at an address is a part of. Without any, the
// error is of kind fault.Unreadable.
func SetAt(ctx context.Context, client *web.Client, text string) (*parts.Set, error) {
	a, err := client.Address(text)
	if err != nil {
		return nil, err
	}
	f := finder{ctx: ctx}
	set, err := f.setAt(a)
	if set == nil && err == nil {
		set, err = parts.AskLast(a.Name(), func(name string) (blob.File, error) { return blob.FindAt(ctx, a.Sibling(name)) })
	}
	if set == nil && err == nil {
		err = fault.At(text, fault.New(fault.Unreadable, "it is part of no set"))
	}
	return set, err
}

// missingAtEnd is how many numbers in a row have to be missing for the end of a
// series that can only be asked for.
const missingAtEnd = 2

// addSeriesAt asks for the members of the series, in the folder of an address. How
// numbers are written says the one that was named, or the first that is there.
func (f *finder) addSeriesAt(at *web.Address, to To) error {
	asked := false
	for _, s := range f.series {
		if !at.IsFolder() && !s.name.MatchString(at.Name()) {
			continue
		}
		if strings.Contains(s.pattern, "*") {
			return fault.At(at.String(), fault.New(fault.Usage, "a server cannot be asked for all names that match %s", s.pattern).Advise("name the archives, or leave the * out"))
		}
		asked = true
		if err := f.askSeries(s, at, to); err != nil {
			f.add(Source{Path: at.String(), To: to, Address: at, Err: err})
		}
	}
	if !asked {
		f.add(Source{Path: at.String(), To: to, Address: at,
			Err: fault.At(at.String(), fault.New(fault.Unreadable, "it is a folder, and a server cannot be asked for what is in it").Advise("name the archives, or a series of them"))})
	}
	return nil
}

func (f *finder) askSeries(s series, at *web.Address, to To) error {
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
			f.add(Source{Path: member.String(), To: to, Address: member})
		}
	}
	return nil
}

// isAt reports whether something lies at an address.
func (f *finder) isAt(a *web.Address) (bool, error) {
	_, err := blob.IdentifyAt(f.ctx, a)
	if errors.Is(err, web.ErrMissing) {
		return false, nil
	}
	return err == nil, err
}

// widthOf finds out with how many digits the first numbers of a series are written;
// 0: as many as they need.
func (f *finder) widthOf(s series, at *web.Address) (int, error) {
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
