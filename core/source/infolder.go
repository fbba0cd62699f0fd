package source

import (
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"

	"github.com/maruel/natural"

	"widecrate/core/fault"
	"widecrate/core/parts"
	"widecrate/core/place"
	"widecrate/core/remote"
	"widecrate/core/storage"
)

// addFolder adds the archives in a folder, sets and files in natural order, and then those in the folders below. Its
// error is about the request itself. Where a server does not list it, the members of a series are asked for by name.
func (f *finder) addFolder(folder, sub string, to To) error {
	l, err := f.list(folder)
	if err == nil {
		err = f.circle(l)
	}
	if errors.Is(err, remote.ErrUnlisted) {
		if asked, wrong := f.addSeriesAt(l.at, to); asked || wrong != nil {
			return wrong
		}
	}
	var sets []*parts.Set
	if err == nil {
		lookup := parts.Lookup{Sites: f.sites(), More: f.PartsIn, Resolve: l.resolver(f.ctx)}
		sets, _, err = lookup.In(l.path, l.names())
	}
	if err != nil {
		f.add(New(folder, fault.Reading(folder, err)).below(sub, to))
		return nil
	}
	var found []Source
	isPart := map[string]bool{}
	for _, set := range sets {
		for _, p := range set.Parts {
			isPart[p.Path] = true
		}
		if f.isArchive(set, sub) {
			found = append(found, l.set(set).below(sub, to))
		}
	}
	for _, child := range l.children {
		switch file := l.pathOf(child.Name()); {
		case isPart[file] || !isFile(file, child):
		case f.isCalled(path.Join(sub, child.Name())):
			found = append(found, l.source(child.Name()).below(sub, to))
		default:
			f.other(file, sub, to)
		}
	}
	slices.SortStableFunc(found, func(a, b Source) int { return natural.Compare(storage.Base(a.Path), storage.Base(b.Path)) })
	for _, s := range found {
		f.add(s)
	}
	if !f.Recursive {
		return nil
	}
	if l.at != nil {
		f.above = append(f.above, l.said)
		defer func() { f.above = f.above[:len(f.above)-1] }()
	}
	return f.addBelow(l, sub, to)
}

// isFile reports whether a child of a folder is a file. Of a link, what it points at counts.
func isFile(path string, child fs.DirEntry) bool {
	if child.Type()&fs.ModeSymlink == 0 {
		return child.Type().IsRegular()
	}
	info, err := os.Stat(path)
	return err == nil && info.Mode().IsRegular()
}

// OtherExtensions stands for those beyond the first hundred that a count by extension has.
const OtherExtensions = "*"

const mostExtensions = 100

// other counts a file that is not taken, or says so.
func (f *finder) other(file, sub string, to To) {
	switch name := storage.Base(file); {
	case place.IsStaging(name) || parts.IsList(name):
	case f.RefuseOthers:
		why := fault.New(fault.Damaged, "%s is not called like an archive", file)
		if len(f.Archives) > 0 {
			why = fault.New(fault.Damaged, "%s matches no pattern for archives", file)
		}
		f.add(New(file, why.Suggest(fault.TakeOrLeave)).below(sub, to))
	default:
		ext := filepath.Ext(name)
		if _, known := f.others[ext]; !known && len(f.others) >= mostExtensions {
			ext = OtherExtensions
		}
		f.others[ext]++
	}
}

// isCalled reports whether what has that path below a folder is called like an archive that is asked for.
func (f *finder) isCalled(below string) bool {
	name := path.Base(below)
	return !place.IsStaging(name) && (IsArchive(below, f.Archives) || f.inAnySeries(name))
}

// addBelow looks into the folders of a folder, in natural order.
func (f *finder) addBelow(l *listing, sub string, to To) error {
	var folders []string
	for _, child := range l.children {
		if child.IsDir() && !place.IsStaging(child.Name()) && (f.Skip == nil || !f.Skip(l.pathOf(child.Name()))) {
			folders = append(folders, child.Name())
		}
	}
	slices.SortFunc(folders, natural.Compare)
	for _, name := range folders {
		below := name
		if sub != "" {
			below = sub + "/" + name
		}
		if err := f.addFolder(l.pathOf(name), below, to); err != nil {
			return err
		}
	}
	for _, info := range l.deeper {
		below, at := path.Join(sub, info.Below), l.at.Listed(info)
		if f.isCalled(path.Join(below, info.Name)) {
			f.add(inList(at).below(below, to))
		} else {
			f.other(at.String(), below, to)
		}
	}
	return nil
}
