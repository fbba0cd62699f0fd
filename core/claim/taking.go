package claim

import (
	"errors"
	"io"
	"os"
	"strings"
	"time"

	"widecrate/core/storage"
)

// WriteJournal writes down what a task is taking away from a folder, for whoever finds that its run was killed. end removes
// the journal.
func WriteJournal(dir storage.Folder, run string, text []byte) (end func(), err error) {
	name := run + TakingSuffix
	f, err := dir.Create(name, 0o600)
	if err != nil {
		return nil, err
	}
	end = func() {
		f.Close()
		_ = dir.Remove(name, nil) // one that stays names what is no more
	}
	file, locks := f.(*os.File)
	if locks {
		_ = Lock(file) // where there are no locks, only what is old is finished by others
	}
	if _, err = f.Write(text); err == nil {
		err = f.Sync()
	}
	if !locks && err == nil {
		err = f.Close()
	}
	if err != nil {
		end()
	}
	return end, err
}

// IsJournal reports whether a name is that of a journal of a task, on any host.
func IsJournal(name string) bool {
	run, is := strings.CutSuffix(name, TakingSuffix)
	if is {
		is, _ = IsRun(run)
	}
	return is
}

// OpenJournal opens a journal of a task whose run is surely dead, and which only who runs can have written, as far as
// the place lets that be seen. It stays locked until it is closed. nil: the name is not that of one, its run lives,
// has just ended, or it may be somebody else's. Errors are those of a server.
func OpenJournal(dir storage.Folder, name string) (io.ReadCloser, error) {
	if !IsJournal(name) {
		return nil, nil
	}
	run := strings.TrimSuffix(name, TakingSuffix)
	_, here := IsRun(run)
	if locks, can := dir.(storage.Locker); can {
		made, err := Sample(dir)
		if err != nil {
			return nil, nil //nolint:nilerr // nothing can be taken away there either
		}
		f, err := locks.OpenOurs(name, made)
		if err != nil {
			return nil, nil //nolint:nilerr // its run has just ended, or it is not one of ours
		}
		if !Dead(f, here, time.Now()) {
			return nil, f.Close()
		}
		return f, nil
	}
	info, err := dir.Lstat(name)
	if err == nil && !IsGone(run) && !Silent(info, time.Now()) {
		return nil, nil
	}
	if err == nil {
		var f storage.Reader
		if f, err = dir.OpenToRead(name); err == nil {
			return f, nil
		}
	}
	if errors.Is(err, os.ErrNotExist) {
		err = nil
	}
	return nil, err
}
