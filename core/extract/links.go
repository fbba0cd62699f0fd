package extract

import (
	"io"
	"slices"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/stage"
)

// checkLink finds out where a link leads, before it becomes the k-th item. It
// is false for a hard link to something whose data cannot be had.
func (u *unit) checkLink(e *engine, i int, item *stage.Item, k int) (found bool, err error) {
	if e.Links == RefuseLinks {
		return false, fault.New(fault.Refused, "it is a link, and links are refused").Advise("--links skip leaves links out, --links keep makes them")
	}
	if item.Kind == archive.Hardlink {
		return u.resolve(i, item, k)
	}
	if item.Link == "" && u.archive.Reader != nil {
		if item.Link, err = archive.LinkTarget(u.archive, i); err != nil {
			return false, err
		}
	}
	return true, place.CheckLink(item.Path, item.Link)
}

// resolve makes a file of a hard link: a second name of an item that is kept,
// or a copy of an entry that is not.
func (u *unit) resolve(i int, item *stage.Item, k int) (bool, error) {
	target, err := place.Clean(item.Link)
	if err != nil {
		return false, err
	}
	first, found := u.earlier(i, target)
	if !found {
		return false, fault.New(fault.Damaged, "it is a second name of %q, which does not come before it", item.Link)
	}
	item.Kind, item.Link = archive.File, ""
	item.Size = u.entries[first].Size
	u.entries[i].Size = item.Size // for those that are second names of this one
	if j, kept := slices.BinarySearch(u.kept, first); kept {
		if u.second == nil {
			u.second = map[int]int{}
		}
		u.second[k] = u.firstOf(j)
		return true, nil
	}
	if u.archive.Reader == nil || u.entries[first].Kind != archive.File {
		return false, nil
	}
	if u.data == nil {
		u.data = map[int]int{}
	}
	u.data[k] = first
	return true, nil
}

// earlier finds the last entry before i with a path. It is asked with rising i.
func (u *unit) earlier(i int, path string) (entry int, found bool) {
	if u.byPath == nil {
		u.byPath = map[string]int{}
	}
	for ; u.indexed < i; u.indexed++ {
		if cleaned, err := place.Clean(u.entries[u.indexed].Path); err == nil {
			u.byPath[cleaned] = u.indexed
		}
	}
	entry, found = u.byPath[path]
	return entry, found
}

// firstOf is the item that the k-th is a second name of, or itself.
func (u *unit) firstOf(k int) int {
	if j, second := u.second[k]; second {
		return j
	}
	return k
}

// dataOf is the entry with the data of the k-th item.
func (u *unit) dataOf(k int) int {
	if i, other := u.data[k]; other {
		return i
	}
	return u.kept[k]
}

// linkSeconds stages hard links, after the items that they are second names of.
func (u *unit) linkSeconds(e *engine) error {
	copies := map[int]int{} // of what was not needed itself: the first of its second names
	for k := range u.kept {
		j, second := u.second[k]
		if !second {
			continue
		}
		if e.ctx.Err() != nil {
			return e.ctx.Err()
		}
		first, copied := copies[j]
		if !copied {
			first = j
		}
		done, err := u.stage.HardLink(k, first)
		if err == nil && !done {
			hand := u.stage.Hand()
			err = hand.Write(k, func(w io.Writer) error { return u.copy(e, u.dataOf(j), w) })
			hand.Close()
			copies[j] = k
		}
		if err != nil {
			return fault.At(u.called(u.kept[k]), err)
		}
	}
	return nil
}
