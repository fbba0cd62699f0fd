// Package places mounts file systems for tests, each on a disk of its own in memory. It needs the
// right to mount.
package places

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// Kinds are the file systems: those of a disk, those through FUSE, one in layers, and those of
// e2e/heavy/odd.
var Kinds = []string{"tmpfs", "ext4", "ext2", "xfs", "btrfs", "overlay", "ntfs", "exfat", "folding", "linkless", "coarse", "short"}

// odd are the options of e2e/heavy/odd.
var odd = map[string][]string{
	"folding":  {"-fold", "-linkless"}, // as memory cards are
	"linkless": {"-linkless"},
	"coarse":   {"-round", "2s"},
	"short":    {"-longest", "143"}, // what is left of 255 bytes where names are encrypted
}

// A Place is a file system that is mounted.
type Place struct {
	Dir  string
	work string
	fuse *exec.Cmd // what serves it; nil: the kernel, or a daemon
	loop string    // the device of its disk, where a daemon needs one
}

// Mount mounts one.
func Mount(kind string) (*Place, error) { return mount(kind, 400<<20, 0) }

// Small mounts one of so many bytes and files, as far as that can be said of the kind: tmpfs,
// ext2 and ext4.
func Small(kind string, bytes, files int64) (*Place, error) { return mount(kind, bytes, files) }

func mount(kind string, bytes, files int64) (p *Place, err error) {
	p = &Place{}
	if p.work, err = os.MkdirTemp("/dev/shm", "widecrate-place-"); err != nil {
		return nil, err
	}
	p.Dir = filepath.Join(p.work, "place")
	if err = os.Mkdir(p.Dir, 0o777); err == nil {
		err = p.mount(kind, bytes, files)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("%s cannot be mounted here: %w", kind, err), p.Unmount())
	}
	return p, nil
}

func (p *Place) mount(kind string, bytes, files int64) error {
	disk := filepath.Join(p.work, "disk")
	switch kind {
	case "tmpfs":
		return call("mount", "-t", "tmpfs", "-o", fmt.Sprintf("size=%d,nr_inodes=%d", bytes, files), "tmpfs", p.Dir)
	case "overlay":
		return p.overlay(disk)
	}
	if options, is := odd[kind]; is {
		return p.serve(options)
	}
	if err := sized(disk, bytes); err != nil {
		return err
	}
	make := []string{"mkfs." + kind}
	switch {
	case kind == "ntfs":
		make = append(make, "-q", "-F", "-f")
	case files > 0:
		make = append(make, "-q", "-m", "0", "-N", fmt.Sprint(files))
	case kind != "exfat":
		make = append(make, "-q")
	}
	if err := call(append(make, disk)...); err != nil {
		return err
	}
	switch kind {
	case "ntfs":
		return call("ntfs-3g", disk, p.Dir)
	case "exfat":
		device, err := exec.Command("losetup", "--find", "--show", disk).Output()
		if p.loop = strings.TrimSpace(string(device)); err != nil {
			return err
		}
		return call("mount.exfat-fuse", p.loop, p.Dir)
	}
	return call("mount", "-o", "loop", disk, p.Dir)
}

// overlay has a lower layer, so that what is changed is copied up.
func (p *Place) overlay(disk string) error {
	for _, layer := range []string{"lower", "disk"} {
		if err := os.Mkdir(filepath.Join(p.work, layer), 0o777); err != nil {
			return err
		}
	}
	if err := call("mount", "-t", "tmpfs", "tmpfs", disk); err != nil {
		return err
	}
	for _, layer := range []string{"upper", "work"} {
		if err := os.Mkdir(filepath.Join(disk, layer), 0o777); err != nil {
			return err
		}
	}
	return call("mount", "-t", "overlay", "-o", "lowerdir="+filepath.Join(p.work, "lower")+",upperdir="+disk+"/upper,workdir="+disk+"/work", "overlay", p.Dir)
}

// serve shows a folder as a file system of e2e/heavy/odd.
func (p *Place) serve(options []string) error {
	program, behind := filepath.Join(p.work, "odd"), filepath.Join(p.work, "behind")
	top, err := exec.Command("go", "list", "-f", "{{.Module.Dir}}", "widecrate/e2e/places").Output()
	if err != nil {
		return err
	}
	if err := call("go", "build", "-C", filepath.Join(strings.TrimSpace(string(top)), "e2e", "heavy"), "-o", program, "./odd"); err != nil {
		return err
	}
	if err := os.Mkdir(behind, 0o777); err != nil {
		return err
	}
	p.fuse = exec.Command(program, append(slices.Clone(options), behind, p.Dir)...)
	if err := p.fuse.Start(); err != nil {
		return err
	}
	for range 200 {
		if call("mountpoint", "-q", p.Dir) == nil {
			return nil
		}
		time.Sleep(10 * time.Millisecond)
	}
	return errors.New("it does not answer")
}

// Grow gives a small one more room, where that can be done: tmpfs.
func (p *Place) Grow() error { return call("mount", "-o", "remount,size=100m,nr_inodes=10000", p.Dir) }

// Unmount ends it, and removes what was on it.
func (p *Place) Unmount() error {
	_ = call("umount", "-q", p.Dir) // it may not be mounted
	_ = call("umount", "-q", filepath.Join(p.work, "disk"))
	if p.loop != "" {
		_ = call("losetup", "--detach", p.loop) // it goes with the last that has it open
	}
	if p.fuse != nil {
		_ = p.fuse.Wait() // it ends with what it served
	}
	return call("rm", "-rf", "--one-file-system", p.work)
}

// sized makes an empty disk.
func sized(disk string, bytes int64) error {
	f, err := os.Create(disk)
	if err != nil {
		return err
	}
	return errors.Join(f.Truncate(bytes), f.Close())
}

func call(words ...string) error {
	cmd := exec.Command(words[0], words[1:]...)
	cmd.Env = append(os.Environ(), "PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin")
	if said, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%s: %w: %s", words[0], err, strings.TrimSpace(string(said)))
	}
	return nil
}
