// Package storage reaches folders wherever they are: on a disk, through handles, or at a server. It does what it is
// asked for and decides nothing. It is the one place that knows which of the two a path leads to: whoever writes
// there goes by what the place can do.
package storage

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"time"

	"widecrate/core/remote"
)

var (
	// ErrCrosses is the error of a move to another file system, where that is not done in one step.
	ErrCrosses = errors.New("it lies on another file system")

	// ErrStale is the error of a change to what is another by now.
	ErrStale = remote.ErrStale
)

// A Folder is a folder that is open. Names are single elements of paths, and a link that has one is not followed.
//
// Where nothing has a name, or the folder is gone, an error is fs.ErrNotExist; where something has a name that was to
// be free, fs.ErrExist. Of a server, all errors have a kind and say where; of a disk, others are those of the system.
// A Folder may be used on several goroutines.
//
// At a server, another program may take a name between two requests, and a link in the path of the folder itself
// is followed. What is seen and is to be still the same, the server checks in the same step if it tells versions
// apart (WebDAV with strong entity tags, of sources); elsewhere there is a moment in between.
type Folder interface {
	// Path is that of a child, as it is written everywhere; of the name "", that of the folder.
	Path(name string) string

	// Lstat says what has a name.
	Lstat(name string) (fs.FileInfo, error)

	// Names lists the folder, in no order.
	Names() ([]string, error)

	// OpenToRead opens a file; a pipe is not waited for.
	OpenToRead(name string) (Reader, error)

	// Create makes a file with a name that is free. All of it is there after Sync, and not before.
	Create(name string, perm fs.FileMode) (File, error)

	// Move gives a child another name, that is free, in a Folder of the same place. seen is what it is still to be; nil: whatever it is.
	Move(name string, seen fs.FileInfo, to Folder, newName string) error

	// MoveOver is Move to a name that another file may have, which goes in that moment.
	MoveOver(name string, seen fs.FileInfo, to Folder, newName string) error

	// Remove removes a file or link; seen is that of Move.
	Remove(name string, seen fs.FileInfo) error

	// MakeFolder makes a folder with a name that is free: of several who ask at once, one makes it.
	MakeFolder(name string) error

	// RemoveFolder removes a folder that is empty.
	RemoveFolder(name string) error

	// Begun is the same folder for what is not left in the middle, whatever becomes of the context; but at a server, it
	// ends when patience does, unless that is 0. It is closed before the other.
	Begun(patience time.Duration) Folder

	// Close lets go of the folder.
	Close()
}

// What only some can.
type (
	// A Linker gives files second names, and has links.
	Linker interface {
		Link(name string, to Folder, newName string) error
		Symlink(target, name string) error
		Readlink(name string) (string, error)
	}

	// A Stamper sets times and permissions.
	Stamper interface {
		SetTime(name string, t time.Time) error
		Chmod(name string, perm fs.FileMode) error
	}

	// A Locker opens files that can be locked, and those that only who runs can have put there; see folder.Folder.
	Locker interface {
		OpenFile(name string, flag int, perm fs.FileMode) (*os.File, error)
		OpenOurs(name string, made fs.FileInfo) (*os.File, error)
	}
)

// A Reader reads a file.
type Reader interface {
	io.ReadCloser
	Stat() (fs.FileInfo, error)
}

// A File is one that is written. What is read of it was written before.
type File = remote.File
