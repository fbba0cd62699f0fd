package stage

import (
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"widecrate/core/archive"
	"widecrate/core/folder"
)

// Permissions and times are set here, but for the time of a file, which folder.File has when it
// is finished. Files belong to whoever runs the program.

// perm returns the permissions to make a file with; the system takes its mask
// off.
func (it *Item) perm() fs.FileMode {
	if it.HasMode {
		return it.Mode & fs.ModePerm
	}
	return 0o666
}

// masked are the permissions that a file gets here that is made with some: the system takes
// its mask off, which is only known of a file.
func (r *Root) masked(perm fs.FileMode) fs.FileMode {
	r.masking.Do(func() {
		r.mask = fs.ModePerm
		const probe = "mask"
		f, err := r.area.Make(probe, fs.ModePerm)
		if err == nil {
			err = f.Finish(time.Time{})
		}
		if info, statErr := r.area.Lstat(probe); err == nil && statErr == nil {
			r.mask = info.Mode().Perm()
		}
		_ = r.area.Remove(probe) // a probe that stays goes with the area
	})
	return perm & r.mask
}

// made is a folder that a unit makes, with the permissions and the time that the archive has.
type made struct {
	Path     string       `json:"path"` // below the root
	Mode     *fs.FileMode `json:"mode,omitempty"`
	Modified time.Time    `json:"modified,omitzero"`
}

// made lists the folders of the archive below a folder, the innermost first, of those that
// are wanted.
func (u *staging) made(top string, wanted func(at string) bool) (list []made) {
	for i := range u.items {
		it := &u.items[i]
		if it.Kind != archive.Folder || it.Path == "." {
			continue
		}
		m := made{Path: path.Join(top, it.Path), Modified: it.Modified}
		if it.HasMode {
			m.Mode = &it.Mode
		}
		if wanted(m.Path) {
			list = append(list, m)
		}
	}
	slices.SortStableFunc(list, func(a, b made) int { return strings.Compare(b.Path, a.Path) })
	return list
}

// finish gives folders their permissions and times, after all that changes them.
func finish(base *os.Root, folders []made) error {
	for _, m := range folders {
		if m.Mode != nil {
			info, err := base.Lstat(m.Path)
			if err != nil {
				return err
			}
			// Its permissions are now all those that the system's mask allows.
			if err := base.Chmod(m.Path, info.Mode().Perm()&*m.Mode); err != nil {
				return err
			}
		}
		if !m.Modified.IsZero() {
			if err := folder.SetTime(base, m.Path, m.Modified); err != nil {
				return err
			}
		}
	}
	return nil
}
