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
	first := -1
	for j := i - 1; j >= 0 && first < 0; j-- {
		if cleaned, err := place.Clean(u.entries[j].Path); err == nil && cleaned == target {
			first = j
		}
	}
	if first < 0 {
		return false, fault.New(fault.Damaged, "it is a second name of %q, which does not come before it", item.Link)
	}
	item.Kind, item.Link = archive.File, ""
	item.Size = u.entries[first].Size
	u.entries[i].Size = item.Size // for those that are second names of this one
	if j := slices.Index(u.kept, first); j >= 0 {
		if u.second == nil {
			u.second = map[int]int{}
		}
		u.second[k] = j
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

// firstOf is the item that the k-th is a second name of, over others perhaps.
func (u *unit) firstOf(k int) int {
	for {
		j, second := u.second[k]
		if !second {
			return k
		}
		k = j
	}
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
	for k := range u.kept {
		j, second := u.second[k]
		if !second {
			continue
		}
		done, err := u.stage.HardLink(k, j)
		if err == nil && !done { // what it is a second name of was not needed
			hand := u.stage.Hand()
			err = hand.Write(k, func(w io.Writer) error { return u.copy(e, u.dataOf(u.firstOf(j)), w) })
			hand.Close()
		}
		if err != nil {
			return fault.At(u.called(u.kept[k]), err)
		}
	}
	return nil
}
