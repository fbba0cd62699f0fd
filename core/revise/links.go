package revise

import (
	"maps"
	"slices"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/walk"
)

// passed is where an entry is in the new archive, and what its data is called in the old one.
type passed struct{ to, data string }

// leadsThen makes sure that a link leads somewhere in the new archive.
func (t *transfer) leadsThen(e *walk.Entry, path string) (err error) {
	is := *e.Entry
	if is.Kind == archive.Symlink && path != "" && t.moves {
		is.Link, err = e.Target()
	}
	if err == nil {
		_, err = t.leads(&is, path)
	}
	return fault.At(e.Path, err)
}

// cleaned is a path as links lead to it.
func cleaned(stored string) string {
	if clean, err := place.Clean(stored); err == nil {
		return clean
	}
	return stored
}

// leads is the target of an entry in the new archive, and notes where it is for hard links
// to it; empty for one to what was left out.
func (t *transfer) leads(e *archive.Entry, path string) (string, error) {
	at := cleaned(e.Path)
	switch e.Kind {
	case archive.Folder:
		delete(t.passed, at)
	case archive.Hardlink:
		first, known := t.passed[cleaned(e.Link)]
		if !known {
			return "", fault.New(fault.Damaged, "it is a second name of %q, which is no file before it", e.Link)
		}
		if first.to == "" { // what the link leads to is added at the end, and the link as well
			path = ""
		}
		t.passed[at] = passed{path, first.data}
		if first.to != "" && cleaned(e.Link) == first.to { // spelt as it was
			return e.Link, nil
		}
		return first.to, nil
	default:
		if t.passed != nil {
			t.passed[at] = passed{path, at}
		}
	}
	if e.Kind == archive.Symlink && path != "" {
		return t.relink(e.Path, path, e.Link)
	}
	return e.Link, nil
}

// relink is the target of a symbolic link that gets a path. One that would only now lead out
// of the archive is of kind fault.Refused.
func (t *transfer) relink(from, path, target string) (string, error) {
	link := place.Relink(cleaned(from), path, target, t.goes)
	if path != from && place.CheckLink(path, link) != nil && place.CheckLink(cleaned(from), target) == nil {
		return "", fault.At(from, fault.New(fault.Refused, "it is a link to %q, which would lead out of the new archive", target).Suggest(fault.PeelLess))
	}
	return link, nil
}

// copiesOfLinks adds hard links to a format that has none as files of their own, in
// a second pass where the first came in order.
func (t *transfer) copiesOfLinks(again func() (*walk.Archive, error)) error {
	if len(t.notes.links) == 0 {
		return nil
	}
	wanted := map[string][]string{}
	for _, path := range slices.Sorted(maps.Keys(t.notes.links)) {
		wanted[t.notes.links[path]] = append(wanted[t.notes.links[path]], path)
	}
	a, err := again()
	if err != nil {
		return err
	}
	defer a.Close()
	for e, err := range a.Walk(t.ctx) {
		if err != nil {
			return err
		}
		at := cleaned(e.Path)
		paths := wanted[at]
		if paths == nil || e.Kind == archive.Folder || e.Kind == archive.Hardlink {
			continue
		}
		delete(wanted, at)
		switch e.Kind {
		case archive.File:
			if err = t.spend(e.Size, len(paths)); err == nil {
				err = t.addAs(*e.Entry, paths, t.meter.Reader(e))
			}
			t.notes.repacked += len(paths)
		case archive.Symlink:
			err = t.addLinks(*e.Entry, paths)
		}
		if err != nil {
			return fault.At(e.Path, err)
		}
		if len(wanted) == 0 {
			break
		}
	}
	for target := range wanted {
		return fault.New(fault.Damaged, "a hard link points to %q, which is not in it", target)
	}
	return nil
}

// spend takes what is written once more for each path off the budget.
func (t *transfer) spend(size int64, copies int) error {
	for range copies - 1 {
		if err := t.from.Budget().Spend(max(size, 0)); err != nil {
			return err
		}
	}
	return nil
}

// addLinks adds a symbolic link at several paths.
func (t *transfer) addLinks(e archive.Entry, paths []string) error {
	from, link := e.Path, e.Link
	for _, path := range paths {
		var err error
		if e.Link, err = t.relink(from, path, link); err != nil {
			return err
		}
		if err := t.add(e, path, nil); err != nil {
			return err
		}
	}
	return nil
}
