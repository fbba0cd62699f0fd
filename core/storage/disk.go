package storage

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"widecrate/core/folder"
)

// disk is a folder on a disk. What is seen is not looked at again: nothing on a disk does that in the same step.
type disk struct {
	*folder.Folder
	path string
}

func openDisk(path string) (Folder, error) {
	f, err := folder.OpenPath(path)
	if err != nil {
		return nil, err
	}
	return &disk{f, path}, nil
}

// begun is a folder that somebody else closes.
type begun struct{ *disk }

func (begun) Close() {}

func (d *disk) Begun(time.Duration) Folder { return begun{d} }

func (d *disk) Path(name string) string { return filepath.Join(d.path, name) }

func (d *disk) Lstat(name string) (fs.FileInfo, error) {
	info, err := d.Folder.Lstat(name)
	_ = os.SameFile(info, info) // on Windows, which file it is is only asked when that is compared
	return info, err
}

func (d *disk) OpenToRead(name string) (Reader, error) {
	return orNil[Reader](d.Folder.OpenToRead(name))
}

func (d *disk) Create(name string, perm fs.FileMode) (File, error) {
	return orNil[File](d.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_EXCL, perm))
}

// orNil is no file where there is an error.
func orNil[T any](f *os.File, err error) (t T, _ error) {
	if err == nil {
		t = any(f).(T)
	}
	return t, err
}

func (d *disk) Move(name string, _ fs.FileInfo, to Folder, newName string) error {
	return d.move(name, to, newName, false)
}

func (d *disk) MoveOver(name string, _ fs.FileInfo, to Folder, newName string) error {
	return d.move(name, to, newName, true)
}

// onDisk is a folder as one on a disk; nil: it is none.
func onDisk(f Folder) *disk {
	switch f := f.(type) {
	case *disk:
		return f
	case begun:
		return f.disk
	}
	return nil
}

func (d *disk) move(name string, to Folder, newName string, replace bool) error {
	there := onDisk(to)
	if there == nil {
		return ErrCrosses
	}
	err := folder.Patient(func() error { return d.MoveTo(name, there.Handle, newName, replace) })
	if err != nil && (errors.Is(err, syscall.EXDEV) || filepath.VolumeName(d.path) != filepath.VolumeName(there.path)) {
		return ErrCrosses
	}
	return err
}

func (d *disk) Remove(name string, _ fs.FileInfo) error { return d.Folder.Remove(name) }

func (d *disk) MakeFolder(name string) error { return d.Mkdir(name, 0o777) }

func (d *disk) Link(name string, to Folder, newName string) error {
	there := onDisk(to)
	if there == nil {
		return ErrCrosses
	}
	return d.LinkTo(name, there.Handle, newName)
}

// descent is a Descent on a disk.
type descent struct {
	*folder.Descent
	root string
}

func (d descent) To(rel string, create bool) (Folder, error) {
	f, err := d.Descent.To(rel, create)
	if err != nil {
		return nil, err
	}
	return &disk{f, filepath.Join(d.root, filepath.FromSlash(rel))}, nil
}
