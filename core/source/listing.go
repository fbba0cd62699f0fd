package source

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path"
	"slices"

	"github.com/maruel/natural"

	"widecrate/core/blob"
	"widecrate/core/parts"
	"widecrate/core/remote"
	"widecrate/core/storage"
)

// A listing is what a folder has.
type listing struct {
	path     string
	children []fs.DirEntry
	at       *remote.Address            // nil: it is on disk
	files    map[string]*remote.Address // at a server, by their names
	deeper   []remote.Info              // what a page links to further down, in natural order
	said     string                     // all that the server said
}

// list lists a folder, once what was begun there is finished.
func (f *finder) list(folder string) (l *listing, err error) {
	for begun := f.Begun; ; begun = nil { // once: what cannot be finished would be found again
		l = &listing{path: folder}
		if !remote.IsAddress(folder) {
			l.children, err = os.ReadDir(folder)
		} else if l.at, err = f.Remote.Address(folder); err == nil {
			l.at = l.at.AsFolder()
			err = l.fill(f.ctx)
		}
		if err != nil || begun == nil {
			return l, err
		}
		if changed, err := begun(f.sites(), folder, l.names()); err != nil || !changed {
			return l, err
		}
	}
}

// fill lists a folder at a server.
func (l *listing) fill(ctx context.Context) error {
	infos, err := l.at.List(ctx)
	slices.SortFunc(infos, func(a, b remote.Info) int {
		return natural.Compare(path.Join(a.Below, a.Name), path.Join(b.Below, b.Name))
	})
	l.said = fmt.Sprint(infos)
	l.files = map[string]*remote.Address{}
	for _, info := range infos {
		if info.Below != "" {
			if !info.Folder {
				l.deeper = append(l.deeper, info)
			}
			continue
		}
		info.Link = false // what it leads to is what was said
		at := l.at.Listed(info)
		if !info.Folder {
			l.files[info.Name] = at
		}
		l.children = append(l.children, fs.FileInfoToDirEntry(blob.Info{Info: info, At: at}))
	}
	return err
}

func (l *listing) names() []string {
	names := make([]string, len(l.children))
	for i, child := range l.children {
		names[i] = child.Name()
	}
	return names
}

// pathOf is that of a child.
func (l *listing) pathOf(name string) string {
	if l.at != nil {
		return l.at.Sibling(name).String()
	}
	return storage.Join(l.path, name)
}

// source is that of a child.
func (l *listing) source(name string) Source {
	if l.at != nil {
		return inList(l.files[name])
	}
	return New(l.pathOf(name), nil)
}

// set is the source of a set in the folder.
func (l *listing) set(set *parts.Set) Source {
	if l.at != nil {
		return setAt(l.files[storage.Base(set.Path())], set, true)
	}
	return OfSet(set)
}

// resolver finds files of the folder without asking again what was listed; nil: the system is asked.
func (l *listing) resolver(ctx context.Context) func(path string) (blob.File, error) {
	if l.at == nil {
		return nil
	}
	return func(path string) (blob.File, error) {
		if at := l.files[storage.Base(path)]; at != nil {
			return blob.FindAt(ctx, at)
		}
		return blob.File{Path: path, Remote: true}, nil
	}
}
