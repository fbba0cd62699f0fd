package source

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"

	"github.com/maruel/natural"
	"golang.org/x/sync/errgroup"

	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/parts"
	"widecrate/core/place"
	"widecrate/core/remote"
	"widecrate/core/storage"
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
	if f.Remote == nil {
		f.Remote = remote.New(remote.Options{})
	}
	address, err := f.Remote.Address(text)
	if err != nil {
		return err
	}
	switch {
	case address.IsFolder():
		return f.addFolderAt(address, "", to)
	case f.inAnySeries(address.Name()):
		_, err := f.addSeriesAt(address, to)
		return err
	}
	set, err := f.setAt(address)
	f.addAt(ofAddress(address, err).below("", to), set)
	return nil
}

// addAt adds what lies at an address: a set, where that is a part of one.
func (f *finder) addAt(s Source, set *parts.Set) {
	if set != nil {
		in := s.rest()
		s.Path, s.more = set.Path(), &more{set: set, called: set.Name, address: in.address, listed: in.listed}
	}
	f.add(s)
}

// mostFolders bounds how deep folders at addresses lie in each other: a server can make them up.
const mostFolders = 64

// addFolderAt adds the archives in a folder at an address, as addFolder does. Without a list of
// it, the members of a series are asked for by name.
func (f *finder) addFolderAt(at *remote.Address, sub string, to To) error {
	infos, err := f.listAt(at)
	slices.SortFunc(infos, func(a, b remote.Info) int {
		return natural.Compare(path.Join(a.Below, a.Name), path.Join(b.Below, b.Name))
	})
	has := fmt.Sprint(infos)
	switch {
	case err != nil:
	case len(f.above) >= mostFolders:
		err = fault.New(fault.Unsafe, "more than %d folders lie in each other there", mostFolders)
	case len(infos) > 0 && slices.Contains(f.above, has):
		err = fault.New(fault.Unsafe, "it has the same in it as a folder above it: the server leads in circles").Suggest(fault.NameFolders)
	}
	if err != nil {
		if errors.Is(err, remote.ErrUnlisted) {
			if asked, wrong := f.addSeriesAt(at, to); asked || wrong != nil {
				return wrong
			}
		}
		f.add(ofAddress(at, fault.At(at.String(), err)).below(sub, to))
		return nil
	}
	f.above = append(f.above, has)
	defer func() { f.above = f.above[:len(f.above)-1] }()
	l := &listedFolder{at: at, sub: sub, to: to, infos: infos, files: map[string]*remote.Address{}, sets: map[string]*parts.Set{}}
	for _, info := range infos {
		if !info.Folder && info.Below == "" {
			l.files[info.Name] = at.Listed(info)
		}
	}
	f.findSets(l)
	for i := range infos {
		if err := f.addListed(l, &infos[i]); err != nil {
			return err
		}
	}
	return nil
}

// A listedFolder is one at an address.
type listedFolder struct {
	at    *remote.Address
	sub   string
	to    To
	infos []remote.Info // in order
	files map[string]*remote.Address
	sets  map[string]*parts.Set // by the names of their parts
}

// findSets finds the sets in a folder.
func (f *finder) findSets(l *listedFolder) {
	get := func(name string) (blob.File, error) {
		if l.files[name] == nil {
			return blob.File{Path: l.at.Sibling(name).String(), Remote: true}, nil
		}
		return blob.FindAt(f.ctx, l.files[name])
	}
	for _, info := range slices.Backward(l.infos) { // the last part says how many there are
		file := l.files[info.Name]
		if file == nil || info.Below != "" || l.sets[info.Name] != nil {
			continue
		}
		set, err := parts.Ask(info.Name, get)
		if err != nil {
			f.add(ofAddress(file, err).below(l.sub, l.to))
			delete(l.files, info.Name)
		}
		if set == nil {
			continue
		}
		for _, p := range set.Parts {
			if in, is := p.Info.(blob.Info); is {
				l.sets[in.At.Name()] = set
			}
		}
	}
}

// addListed adds what is in a folder: an archive, or those in a folder below.
func (f *finder) addListed(l *listedFolder, info *remote.Info) error {
	name, file := info.Name, l.files[info.Name]
	taken := func(sub string) bool {
		return !place.IsStaging(name) && (IsArchive(path.Join(sub, name), f.Archives) || f.inAnySeries(name))
	}
	switch {
	case info.Folder:
		in := l.at.Sibling(name + "/")
		if f.Recursive && info.Below == "" && !place.IsStaging(name) && (f.Skip == nil || !f.Skip(in.String())) {
			return f.addFolderAt(in, path.Join(l.sub, name), l.to)
		}
	case info.Below != "": // a page has links further down
		if below := path.Join(l.sub, info.Below); f.Recursive && taken(below) {
			in := l.at.Listed(*info)
			f.add(inList(in).below(below, l.to))
		}
	case file == nil: // it was said what is wrong with it
	case l.sets[name] != nil:
		if f.isArchive(l.sets[name], l.sub) {
			f.addAt(inList(file).below(l.sub, l.to), l.sets[name])
		}
	case taken(l.sub):
		f.add(inList(file).below(l.sub, l.to))
	}
	return nil
}

// listAt lists a folder, once what was begun there is finished.
func (f *finder) listAt(at *remote.Address) ([]remote.Info, error) {
	infos, err := at.List(f.ctx)
	if err != nil || f.Begun == nil {
		return infos, err
	}
	var names []string
	for _, info := range infos {
		if info.Below == "" {
			names = append(names, info.Name)
		}
	}
	changed, err := f.Begun(storage.Sites{Context: f.ctx, Client: f.Remote}, strings.TrimSuffix(at.String(), "/"), names)
	if err != nil || !changed {
		return infos, err
	}
	return at.List(f.ctx)
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

// setAt is the set that what lies at an address is a part of; nil: there is none.
func (f *finder) setAt(a *remote.Address) (*parts.Set, error) {
	return parts.Ask(a.Name(), func(name string) (blob.File, error) { return blob.FindAt(f.ctx, a.Sibling(name)) })
}

// SetAt returns the set that what lies at an address is a part of. Without any, the
// error is of kind fault.Unreadable.
func SetAt(ctx context.Context, client *remote.Client, text string) (*parts.Set, error) {
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
