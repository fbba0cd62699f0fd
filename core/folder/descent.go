package folder

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
)

// ErrLink is the error of a Descent about a link on its way.
var ErrLink = errors.New("there is a link on the way")

// A Descent goes from one folder to others below it, and follows no link on the way. It keeps the last
// way open, as what is done in one folder is mostly followed by something in a folder nearby. It is not
// for several goroutines.
type Descent struct {
	base  *Folder
	names []string
	open  []*Folder // of the names
}

// Descend opens the folder at a path, through links, to go down from there.
func Descend(path string) (*Descent, error) {
	base, err := OpenPath(path)
	if err != nil {
		return nil, err
	}
	return &Descent{base: base}, nil
}

// Close lets go of all folders.
func (d *Descent) Close() {
	d.up(0)
	d.base.Close()
}

// up lets go of all but the outermost folders of the way.
func (d *Descent) up(depth int) {
	for _, f := range d.open[depth:] {
		f.Close()
	}
	d.open, d.names = d.open[:depth], d.names[:depth]
}

// To returns the folder at a path below the first one; "." is that itself. It stays open until the next
// call. Where missing, it is made with those above it if create says so. A link on the way is ErrLink;
// other errors are those of the system, with paths below the first folder.
func (d *Descent) To(rel string, create bool) (*Folder, error) {
	var names []string
	if rel != "." {
		names = strings.Split(filepath.ToSlash(rel), "/")
	}
	same := 0
	for same < min(len(names), len(d.names)) && names[same] == d.names[same] {
		same++
	}
	d.up(same)
	at := d.base
	if same > 0 {
		at = d.open[same-1]
	}
	for _, name := range names[same:] {
		next, err := at.child(name)
		if create && errors.Is(err, fs.ErrNotExist) {
			if err = at.Mkdir(name, 0o777); err == nil || errors.Is(err, fs.ErrExist) {
				if next, err = at.child(name); errors.Is(err, fs.ErrNotExist) {
					err = syscall.ENOTDIR
				}
			}
		}
		if err != nil {
			return nil, &fs.PathError{Op: "open", Path: filepath.Join(append(slices.Clone(d.names), name)...), Err: bare(err)}
		}
		d.names, d.open = append(d.names, name), append(d.open, next)
		at = next
	}
	return at, nil
}

// child opens a folder that is no link.
func (f *Folder) child(name string) (*Folder, error) {
	info, err := f.Lstat(name)
	switch {
	case err != nil:
		return nil, err
	case info.Mode()&fs.ModeSymlink != 0:
		return nil, ErrLink
	case !info.IsDir(): // nothing can be below it
		return nil, fs.ErrNotExist
	}
	_ = os.SameFile(info, info) // on Windows, which folder it is is only asked when that is compared
	next, err := Open(f.Root, name)
	if err != nil {
		return nil, err
	}
	if now, err := next.Stat("."); err != nil || !os.SameFile(info, now) { // a link took its place in between
		next.Close()
		return nil, ErrLink
	}
	return next, nil
}

func bare(err error) error {
	if in, is := errors.AsType[*fs.PathError](err); is {
		return in.Err
	}
	return err
}
