//go:build linux

// Command folding is a file system for tests that takes names for equal which differ in letter
// case, and that has neither symbolic nor hard links: as those of memory cards and of other
// systems do. It shows a folder at another place until that is unmounted.
//
//	go run ./e2e/folding FOLDER PLACE
package main

import (
	"log"
	"os"
	"path"
	"strings"
	"time"

	"github.com/hanwen/go-fuse/v2/fuse"
	"github.com/hanwen/go-fuse/v2/fuse/nodefs"
	"github.com/hanwen/go-fuse/v2/fuse/pathfs"
)

// folding is the file system. Paths come as they were asked for, and go to the folder as they
// are spelled there.
type folding struct {
	pathfs.FileSystem
	folder string
}

// spelled is a path as it is in the folder; where the last name is not there, it stays.
func (f *folding) spelled(asked string) string {
	if asked == "" {
		return ""
	}
	dir, name := f.spelled(strings.Trim(path.Dir("/"+asked), "/")), path.Base(asked)
	if _, err := os.Lstat(path.Join(f.folder, dir, name)); err == nil {
		return path.Join(dir, name)
	}
	children, _ := os.ReadDir(path.Join(f.folder, dir))
	for _, child := range children {
		if strings.EqualFold(child.Name(), name) {
			return path.Join(dir, child.Name())
		}
	}
	return path.Join(dir, name)
}

func (f *folding) GetAttr(name string, c *fuse.Context) (*fuse.Attr, fuse.Status) {
	return f.FileSystem.GetAttr(f.spelled(name), c)
}

func (f *folding) OpenDir(name string, c *fuse.Context) ([]fuse.DirEntry, fuse.Status) {
	return f.FileSystem.OpenDir(f.spelled(name), c)
}

func (f *folding) Open(name string, flags uint32, c *fuse.Context) (nodefs.File, fuse.Status) {
	return f.FileSystem.Open(f.spelled(name), flags, c)
}

func (f *folding) Create(name string, flags, mode uint32, c *fuse.Context) (nodefs.File, fuse.Status) {
	return f.FileSystem.Create(f.spelled(name), flags, mode, c)
}

func (f *folding) Mkdir(name string, mode uint32, c *fuse.Context) fuse.Status {
	return f.FileSystem.Mkdir(f.spelled(name), mode, c)
}

func (f *folding) Unlink(name string, c *fuse.Context) fuse.Status {
	return f.FileSystem.Unlink(f.spelled(name), c)
}

func (f *folding) Rmdir(name string, c *fuse.Context) fuse.Status {
	return f.FileSystem.Rmdir(f.spelled(name), c)
}

func (f *folding) Rename(from, to string, c *fuse.Context) fuse.Status {
	was, becomes := f.spelled(from), f.spelled(to)
	if was == becomes || !strings.EqualFold(path.Base(becomes), path.Base(to)) {
		becomes = path.Join(path.Dir(becomes), path.Base(to)) // only the case changes
	}
	return f.FileSystem.Rename(was, becomes, c)
}

func (f *folding) Chmod(name string, mode uint32, c *fuse.Context) fuse.Status {
	return f.FileSystem.Chmod(f.spelled(name), mode, c)
}

func (f *folding) Truncate(name string, size uint64, c *fuse.Context) fuse.Status {
	return f.FileSystem.Truncate(f.spelled(name), size, c)
}

func (f *folding) Utimens(name string, accessed, modified *time.Time, c *fuse.Context) fuse.Status {
	return f.FileSystem.Utimens(f.spelled(name), accessed, modified, c)
}

func (f *folding) Access(name string, mode uint32, c *fuse.Context) fuse.Status {
	return f.FileSystem.Access(f.spelled(name), mode, c)
}

func (f *folding) Symlink(string, string, *fuse.Context) fuse.Status { return fuse.EPERM }
func (f *folding) Link(string, string, *fuse.Context) fuse.Status    { return fuse.EPERM }
func (f *folding) Readlink(string, *fuse.Context) (string, fuse.Status) {
	return "", fuse.EINVAL
}

func main() {
	if len(os.Args) != 3 {
		log.Fatal("usage: folding FOLDER PLACE")
	}
	nodes := pathfs.NewPathNodeFs(&folding{pathfs.NewLoopbackFileSystem(os.Args[1]), os.Args[1]}, nil)
	connector := nodefs.NewFileSystemConnector(nodes.Root(), &nodefs.Options{})
	server, err := fuse.NewServer(connector.RawFS(), os.Args[2], &fuse.MountOptions{DirectMount: true, FsName: "folding"})
	if err != nil {
		log.Fatal(err)
	}
	server.Serve()
}
