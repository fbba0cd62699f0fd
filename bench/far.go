//go:build linux

package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"
)

// far is a file system that is far away: every call that reaches it takes a round
// trip. Like most of that kind it has no files without names.
type far struct {
	fuse.RawFileSystem
	delay time.Duration
	trips atomic.Int64
}

func (f *far) trip() {
	f.trips.Add(1)
	time.Sleep(f.delay)
}

func (f *far) Tmpfile(<-chan struct{}, *fuse.CreateIn, *fuse.CreateOut) fuse.Status {
	return fuse.ENOSYS
}

func (f *far) Lookup(c <-chan struct{}, h *fuse.InHeader, name string, out *fuse.EntryOut) fuse.Status {
	f.trip()
	return f.RawFileSystem.Lookup(c, h, name, out)
}

func (f *far) GetAttr(c <-chan struct{}, in *fuse.GetAttrIn, out *fuse.AttrOut) fuse.Status {
	f.trip()
	return f.RawFileSystem.GetAttr(c, in, out)
}

func (f *far) SetAttr(c <-chan struct{}, in *fuse.SetAttrIn, out *fuse.AttrOut) fuse.Status {
	f.trip()
	return f.RawFileSystem.SetAttr(c, in, out)
}

func (f *far) Mkdir(c <-chan struct{}, in *fuse.MkdirIn, name string, out *fuse.EntryOut) fuse.Status {
	f.trip()
	return f.RawFileSystem.Mkdir(c, in, name, out)
}

func (f *far) Unlink(c <-chan struct{}, h *fuse.InHeader, name string) fuse.Status {
	f.trip()
	return f.RawFileSystem.Unlink(c, h, name)
}

func (f *far) Rmdir(c <-chan struct{}, h *fuse.InHeader, name string) fuse.Status {
	f.trip()
	return f.RawFileSystem.Rmdir(c, h, name)
}

func (f *far) Rename(c <-chan struct{}, in *fuse.RenameIn, from, to string) fuse.Status {
	f.trip()
	return f.RawFileSystem.Rename(c, in, from, to)
}

func (f *far) Link(c <-chan struct{}, in *fuse.LinkIn, name string, out *fuse.EntryOut) fuse.Status {
	f.trip()
	return f.RawFileSystem.Link(c, in, name, out)
}

func (f *far) Create(c <-chan struct{}, in *fuse.CreateIn, name string, out *fuse.CreateOut) fuse.Status {
	f.trip()
	return f.RawFileSystem.Create(c, in, name, out)
}

func (f *far) Open(c <-chan struct{}, in *fuse.OpenIn, out *fuse.OpenOut) fuse.Status {
	f.trip()
	return f.RawFileSystem.Open(c, in, out)
}

func (f *far) Read(c <-chan struct{}, in *fuse.ReadIn, buffer []byte) (fuse.ReadResult, fuse.Status) {
	f.trip()
	return f.RawFileSystem.Read(c, in, buffer)
}

func (f *far) Write(c <-chan struct{}, in *fuse.WriteIn, data []byte) (uint32, fuse.Status) {
	f.trip()
	return f.RawFileSystem.Write(c, in, data)
}

func (f *far) Flush(c <-chan struct{}, in *fuse.FlushIn) fuse.Status {
	f.trip()
	return f.RawFileSystem.Flush(c, in)
}

func (f *far) OpenDir(c <-chan struct{}, in *fuse.OpenIn, out *fuse.OpenOut) fuse.Status {
	f.trip()
	return f.RawFileSystem.OpenDir(c, in, out)
}

func (f *far) ReadDir(c <-chan struct{}, in *fuse.ReadIn, out *fuse.DirEntryList) fuse.Status {
	f.trip()
	return f.RawFileSystem.ReadDir(c, in, out)
}

func (f *far) ReadDirPlus(c <-chan struct{}, in *fuse.ReadIn, out *fuse.DirEntryList) fuse.Status {
	f.trip()
	return f.RawFileSystem.ReadDirPlus(c, in, out)
}

// mountFar mounts one, whose files lie in a folder here.
func mountFar(dir string, delay time.Duration) (mount string, f *far, unmount func(), err error) {
	behind, mount := filepath.Join(dir, "behind"), filepath.Join(dir, "far")
	for _, dir := range []string{behind, mount} {
		must(os.MkdirAll(dir, 0o777))
	}
	root, err := fs.NewLoopbackRoot(behind)
	must(err)
	known := time.Minute
	f = &far{RawFileSystem: fs.NewNodeFS(root, &fs.Options{EntryTimeout: &known, AttrTimeout: &known}), delay: delay}
	server, err := fuse.NewServer(f, mount, &fuse.MountOptions{DirectMount: true})
	if err != nil {
		return "", nil, nil, err
	}
	go server.Serve()
	must(server.WaitMount())
	return mount, f, func() {
		must(server.Unmount())
		must(os.RemoveAll(behind))
	}, nil
}

// fromAfar unpacks 10 archives of 100 files of 4 KiB on a file system with 10 ms for each
// call, and compares the calls of the program with those of the hand loop.
func fromAfar(layout string) func(*bench) result {
	return func(b *bench) result {
		in := filepath.Join(b.dir, "near")
		must(os.MkdirAll(in, 0o777))
		defer os.RemoveAll(in)
		r := rand.New(rand.NewPCG(8, 8))
		for a := range 10 {
			write(filepath.Join(in, fmt.Sprintf("day-%d.zip", a)), func(add func(string, []byte)) {
				for i := range 100 {
					add(fmt.Sprintf("levels/gauge-%d-%03d.csv", a, i), table(r, 4<<10))
				}
			})
		}
		jobs := index(in, layout)
		mount, f, unmount, err := mountFar(b.dir, 10*time.Millisecond)
		if err != nil {
			return result{value: skipped}
		}
		defer unmount()
		measure := func(run func()) (trips int64, took time.Duration) {
			before, started := f.trips.Load(), time.Now()
			run()
			return f.trips.Load() - before, time.Since(started)
		}
		hand, floor := measure(func() { handLoop(filepath.Join(mount, "hand"), jobs) })
		var res result
		ours, took := measure(func() {
			res.memory = b.warmUp("extract", in, "--into", filepath.Join(mount, "ours"), "--layout", layout, "-q", "--workers", workers)
		})
		res.ours, res.floor, res.value = took, floor.Seconds(), float64(ours)/float64(hand)
		return res
	}
}
