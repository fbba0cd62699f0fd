package folder

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"strconv"
	"time"

	"golang.org/x/sys/unix"
)

// Handle does with one system call each what goes through several in package
// os: on small files that is half of the time. Names are single path elements,
// and none is followed if it is a link.
//
// On Linux a Handle can do all that it has methods for, as far as the file system can:
// files without a name (O_TMPFILE), moves that never replace, and exchanges
// (RENAME_NOREPLACE, RENAME_EXCHANGE). Where a file system lacks one of the last two, a link
// takes its place, or the error is errors.ErrUnsupported.
type Handle struct {
	dir *os.File
	fd  int
}

func openHandle(_ *os.Root, _ string, root *os.Root) (Handle, error) {
	dir, err := root.Open(".")
	if err != nil {
		return Handle{}, err
	}
	return Handle{dir, int(dir.Fd())}, nil
}

func (h Handle) Close() { h.dir.Close() }

// Make makes a new file; an existing one is an error.
func (h Handle) Make(name string, perm fs.FileMode) (File, error) {
	for {
		fd, err := unix.Openat(h.fd, name, unix.O_WRONLY|unix.O_CREAT|unix.O_EXCL|unix.O_NOFOLLOW|unix.O_CLOEXEC, uint32(perm))
		if err == unix.EINTR {
			continue
		}
		if err != nil {
			return nil, &fs.PathError{Op: "create", Path: name, Err: err}
		}
		return &rawFile{fd: fd}, nil
	}
}

// Free reports whether nothing has that name. What else is wrong shows when it is
// looked at.
func (h Handle) Free(name string) bool {
	var st unix.Stat_t
	return unix.Fstatat(h.fd, name, &st, unix.AT_SYMLINK_NOFOLLOW) == unix.ENOENT
}

// MoveTo renames name to newName in another folder. Without replace an existing
// newName is an error that is fs.ErrExist.
func (h Handle) MoveTo(name string, to Handle, newName string, replace bool) error {
	var flags uint = unix.RENAME_NOREPLACE
	if replace {
		flags = 0
	}
	err := unix.Renameat2(h.fd, name, to.fd, newName, flags)
	if !replace && (err == unix.EINVAL || err == unix.ENOSYS) { // a file system without that flag
		err = h.moveByLink(name, to, newName)
	}
	if err != nil {
		return &fs.PathError{Op: "move", Path: newName, Err: err}
	}
	return nil
}

// moveByLink moves a file by a second name, which never replaces anything; what
// can have none is moved after a look.
func (h Handle) moveByLink(name string, to Handle, newName string) error {
	err := unix.Linkat(h.fd, name, to.fd, newName, 0)
	if err == nil {
		return unix.Unlinkat(h.fd, name, 0)
	}
	if err == unix.EEXIST {
		return err
	}
	if err := unix.Faccessat(to.fd, newName, unix.F_OK, unix.AT_SYMLINK_NOFOLLOW); err == nil {
		return unix.EEXIST
	}
	return unix.Renameat(h.fd, name, to.fd, newName)
}

// LinkTo gives a file a second name in another folder.
func (h Handle) LinkTo(name string, to Handle, newName string) error {
	return unix.Linkat(h.fd, name, to.fd, newName, 0)
}

// Exchange swaps two files or folders at once; where that is impossible the
// error is errors.ErrUnsupported.
func (h Handle) Exchange(name string, to Handle, newName string) error {
	err := unix.Renameat2(h.fd, name, to.fd, newName, unix.RENAME_EXCHANGE)
	if err == unix.EINVAL || err == unix.ENOSYS {
		return errors.ErrUnsupported
	}
	return err
}

// RemoveFolder removes a folder that is empty; a link to one is none.
func (h Handle) RemoveFolder(name string) error {
	if err := unix.Unlinkat(h.fd, name, unix.AT_REMOVEDIR); err != nil {
		return &fs.PathError{Op: "remove", Path: name, Err: err}
	}
	return nil
}

// Removable is the error of removing any file of the folder, as far as it is known before.
func (h Handle) Removable() error { return unix.Faccessat(h.fd, ".", unix.W_OK|unix.X_OK, 0) }

// SetTime sets the time of a file or folder, or of a link itself.
func (h Handle) SetTime(name string, t time.Time) error {
	ts, err := unix.TimeToTimespec(t)
	if err != nil {
		return err
	}
	return unix.UtimesNanoAt(h.fd, name, []unix.Timespec{ts, ts}, unix.AT_SYMLINK_NOFOLLOW)
}

// rawFile is a file by its descriptor, with or without a name.
type rawFile struct {
	fd   int
	size int64
}

func (f *rawFile) Write(p []byte) (int, error) {
	written := 0
	for written < len(p) {
		n, err := unix.Write(f.fd, p[written:])
		if err != nil && err != unix.EINTR {
			return written, err
		}
		written += max(n, 0)
		f.size += int64(max(n, 0))
	}
	return written, nil
}

func (f *rawFile) Hole(n int64) error {
	end, err := unix.Seek(f.fd, n, io.SeekCurrent)
	if err != nil {
		return err
	}
	f.size = end
	return unix.Ftruncate(f.fd, end)
}

// Finish sets the time and closes the file.
func (f *rawFile) Finish(modified time.Time) error {
	err := f.setTime(modified)
	if closed := f.Close(); err == nil {
		err = closed
	}
	return err
}

func (f *rawFile) setTime(t time.Time) error {
	if t.IsZero() {
		return nil
	}
	ts, err := unix.TimeToTimespec(t)
	if err != nil {
		return err
	}
	times := []unix.Timespec{ts, ts}
	err = unix.UtimesNanoAt(f.fd, "", times, unix.AT_EMPTY_PATH)
	if err == unix.EINVAL || err == unix.ENOENT { // before Linux 5.8
		err = unix.UtimesNanoAt(unix.AT_FDCWD, f.path(), times, 0)
	}
	return err
}

// path leads to the file as long as it is open.
func (f *rawFile) path() string { return "/proc/self/fd/" + strconv.Itoa(f.fd) }

func (f *rawFile) Close() error {
	if err := unix.Close(f.fd); err != unix.EINTR {
		return err
	}
	return nil // on Linux it is closed all the same
}

// unnamed is a file without a name, which stays open until it is closed.
type unnamed struct {
	rawFile
	modified time.Time // once it is set
}

// UnnamedRoom returns how many files without a name may be open at once: some of
// those that this process may open, or none where the file system has no such
// files. It tries that out in the folder.
func (h Handle) UnnamedRoom() int {
	const probe, most = "unnamed", 1024
	f, err := h.MakeUnnamed(0o600)
	if err != nil {
		return 0
	}
	defer f.Close()
	var limit unix.Rlimit
	if f.NameIn(h, probe) != nil || unix.Unlinkat(h.fd, probe, 0) != nil || unix.Getrlimit(unix.RLIMIT_NOFILE, &limit) != nil {
		return 0
	}
	return int(min(limit.Cur/4, most))
}

// MakeUnnamed makes a file without a name on the file system of the folder.
func (h Handle) MakeUnnamed(perm fs.FileMode) (Unnamed, error) {
	for {
		fd, err := unix.Openat(h.fd, ".", unix.O_WRONLY|unix.O_TMPFILE|unix.O_CLOEXEC, uint32(perm))
		if err == unix.EINTR {
			continue
		}
		if err != nil {
			return nil, &fs.PathError{Op: "create", Path: ".", Err: err}
		}
		return &unnamed{rawFile: rawFile{fd: fd}}, nil
	}
}

// OnDisk reports whether the file system is not one in memory.
func (h Handle) OnDisk() bool {
	var st unix.Statfs_t
	if unix.Fstatfs(h.fd, &st) != nil {
		return false
	}
	kind := uint32(st.Type) // a number with or without sign
	return kind != unix.TMPFS_MAGIC && kind != unix.RAMFS_MAGIC
}

// MakeFor makes a file that has a name in another folder when it is finished. Disks
// keep what is made in one folder close together: many files in many new folders
// are made in half of the time like this.
func (h Handle) MakeFor(to Handle, name string, perm fs.FileMode) (File, error) {
	f, err := h.MakeUnnamed(perm)
	if err != nil {
		return nil, err
	}
	return &named{f.(*unnamed), to, name}, nil
}

type named struct {
	*unnamed
	to   Handle
	name string
}

func (f *named) Finish(modified time.Time) error {
	err := f.unnamed.Finish(modified)
	if named := f.NameIn(f.to, f.name); err == nil {
		err = named
	}
	if closed := f.Close(); err == nil {
		err = closed
	}
	return err
}

func (f *unnamed) Finish(modified time.Time) error {
	f.modified = modified
	return f.setTime(modified)
}

func (f *unnamed) NameIn(to Handle, name string) error {
	err := unix.Linkat(f.fd, "", to.fd, name, unix.AT_EMPTY_PATH)
	if err == unix.ENOENT { // before Linux 6.10 only for some programs
		err = unix.Linkat(unix.AT_FDCWD, f.path(), to.fd, name, unix.AT_SYMLINK_FOLLOW)
	}
	if err != nil {
		return &fs.PathError{Op: "link", Path: name, Err: err}
	}
	return nil
}

func (f *unnamed) Stat() (size int64, modified time.Time, err error) {
	if !f.modified.IsZero() {
		return f.size, f.modified, nil
	}
	var st unix.Stat_t
	err = unix.Fstat(f.fd, &st)
	return st.Size, time.Unix(st.Mtim.Unix()), err
}
