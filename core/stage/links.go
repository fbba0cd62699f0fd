package stage

import (
	"path"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/folder"
)

// linkAll stages the symbolic links, after all else: nothing is ever written through
// one.
func (u *staging) linkAll() error {
	w := u.Writer()
	defer w.Close()
	for i := range u.items {
		if u.items[i].Kind == archive.Symlink && u.result[i].Action != Skipped {
			err := w.link(i)
			if folder.NoLinks(err) {
				return fault.At(u.site.full(u.result[i].Path), fault.New(fault.Unwritable, "no symbolic link can be made there: %w", fault.Bare(err)).Suggest(fault.SkipLinks))
			}
			if err != nil {
				return fault.Writing(u.site.full(u.result[i].Path), err)
			}
		}
	}
	return nil
}

// leadsToFolder reports whether a link leads to a folder, where that matters: one of
// the unit, or one that is there.
func (u *staging) leadsToFolder(i int) bool {
	if !folder.TypedLinks {
		return false
	}
	if u.folders == nil {
		u.folders = map[string]bool{".": true}
		for k := range u.items {
			dir := u.items[k].Path
			if u.items[k].Kind != archive.Folder {
				dir = path.Dir(dir)
			}
			for ; !u.folders[u.site.fold(dir)]; dir = path.Dir(dir) {
				u.folders[u.site.fold(dir)] = true
			}
		}
	}
	target := path.Join(path.Dir(u.items[i].Path), u.items[i].Link)
	if !u.folders[u.site.fold(target)] {
		there, err := u.site.dest.Stat(path.Join(u.folder, target))
		if err != nil || !there.IsDir() {
			return false
		}
	}
	u.folders[u.site.fold(u.items[i].Path)] = true // for links to this one
	return true
}
