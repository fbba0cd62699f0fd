//go:build linux

// Command odd is a file system for tests that is odd, as those of memory cards and of other systems
// are: it takes names for equal which differ in letter case, has no links, rounds times, or has only
// short names. It shows a folder at another place until that is unmounted.
//
//	go run -C e2e/heavy ./odd [-fold] [-linkless] [-round 2s] [-longest 143] FOLDER PLACE
package main

import (
	"flag"
	"log"
	"os"
	"path"
	"strings"
	"syscall"
	"time"

	"github.com/hanwen/go-fuse/v2/fuse"
	"github.com/hanwen/go-fuse/v2/fuse/nodefs"
	"github.com/hanwen/go-fuse/v2/fuse/pathfs"
)

// odd is the file system. Paths come as they were asked for, and go to the folder as they
// are spelled there.
type odd struct {
	pathfs.FileSystem
	folder   string
	fold     bool
	linkless bool
	round    time.Duration
	longest  int // bytes of a name
}

// spelled is a path as it is in the folder; where the last name is not there, it stays.
func (f *odd) spelled(asked string) string {
	if asked == "" || !f.fold {
		return asked
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

func (f *odd) GetAttr(name string, c *fuse.Context) (*fuse.Attr, fuse.Status) {
	return f.FileSystem.GetAttr(f.spelled(name), c)
}

func (f *odd) OpenDir(name string, c *fuse.Context) ([]fuse.DirEntry, fuse.Status) {
	return f.FileSystem.OpenDir(f.spelled(name), c)
}

func (f *odd) Open(name string, flags uint32, c *fuse.Context) (nodefs.File, fuse.Status) {
	return f.FileSystem.Open(f.spelled(name), flags, c)
}

func (f *odd) Create(name string, flags, mode uint32, c *fuse.Context) (nodefs.File, fuse.Status) {
	if f.tooLong(name) {
		return nil, fuse.Status(syscall.ENAMETOOLONG)
	}
	return f.FileSystem.Create(f.spelled(name), flags, mode, c)
}

func (f *odd) Mkdir(name string, mode uint32, c *fuse.Context) fuse.Status {
	if f.tooLong(name) {
		return fuse.Status(syscall.ENAMETOOLONG)
	}
	return f.FileSystem.Mkdir(f.spelled(name), mode, c)
}

func (f *odd) Unlink(name string, c *fuse.Context) fuse.Status {
	return f.FileSystem.Unlink(f.spelled(name), c)
}

func (f *odd) Rmdir(name string, c *fuse.Context) fuse.Status {
	return f.FileSystem.Rmdir(f.spelled(name), c)
}

func (f *odd) Rename(from, to string, c *fuse.Context) fuse.Status {
	if f.tooLong(to) {
		return fuse.Status(syscall.ENAMETOOLONG)
	}
	was, becomes := f.spelled(from), f.spelled(to)
	if was == becomes || !strings.EqualFold(path.Base(becomes), path.Base(to)) {
		becomes = path.Join(path.Dir(becomes), path.Base(to)) // only the case changes
	}
	return f.FileSystem.Rename(was, becomes, c)
}

func (f *odd) Chmod(name string, mode uint32, c *fuse.Context) fuse.Status {
	return f.FileSystem.Chmod(f.spelled(name), mode, c)
}

func (f *odd) Truncate(name string, size uint64, c *fuse.Context) fuse.Status {
	return f.FileSystem.Truncate(f.spelled(name), size, c)
}

func (f *odd) Utimens(name string, accessed, modified *time.Time, c *fuse.Context) fuse.Status {
	return f.FileSystem.Utimens(f.spelled(name), f.rounded(accessed), f.rounded(modified), c)
}

func (f *odd) Access(name string, mode uint32, c *fuse.Context) fuse.Status {
	return f.FileSystem.Access(f.spelled(name), mode, c)
}

func (f *odd) Symlink(value, name string, c *fuse.Context) fuse.Status {
	switch {
	case f.linkless:
		return fuse.EPERM
	case f.tooLong(name):
		return fuse.Status(syscall.ENAMETOOLONG)
	}
	return f.FileSystem.Symlink(value, f.spelled(name), c)
}

func (f *odd) Link(from, to string, c *fuse.Context) fuse.Status {
	switch {
	case f.linkless:
		return fuse.EPERM
	case f.tooLong(to):
		return fuse.Status(syscall.ENAMETOOLONG)
	}
	return f.FileSystem.Link(f.spelled(from), f.spelled(to), c)
}

func (f *odd) Readlink(name string, c *fuse.Context) (string, fuse.Status) {
	return f.FileSystem.Readlink(f.spelled(name), c)
}

func (f *odd) tooLong(name string) bool { return len(path.Base(name)) > f.longest }

func (f *odd) rounded(t *time.Time) *time.Time {
	if t == nil || f.round == 0 {
		return t
	}
	down := t.Truncate(f.round)
	return &down
}

func main() {
	f := &odd{}
	flag.BoolVar(&f.fold, "fold", false, "letter case does not count in names")
	flag.BoolVar(&f.linkless, "linkless", false, "there are neither symbolic nor hard links")
	flag.DurationVar(&f.round, "round", 0, "what times are rounded down to")
	flag.IntVar(&f.longest, "longest", 255, "bytes that a name may have")
	if flag.Parse(); flag.NArg() != 2 {
		log.Fatal("usage: odd [-fold] [-linkless] [-round 2s] [-longest 143] FOLDER PLACE")
	}
	f.folder = flag.Arg(0)
	f.FileSystem = pathfs.NewLoopbackFileSystem(f.folder)
	connector := nodefs.NewFileSystemConnector(pathfs.NewPathNodeFs(f, &pathfs.PathNodeFsOptions{ClientInodes: !f.linkless}).Root(), &nodefs.Options{})
	server, err := fuse.NewServer(connector.RawFS(), flag.Arg(1), &fuse.MountOptions{DirectMount: true, AllowOther: true, FsName: "odd"})
	if err != nil {
		log.Fatal(err)
	}
	server.Serve()
}
