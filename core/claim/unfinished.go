package claim

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"widecrate/core/folder"
	"widecrate/core/place"
	"widecrate/core/storage"
)

const (
	// OldSuffix ends the second name of a file that is replaced. It goes with the rest.
	OldSuffix = "-old"
	// MovedSuffix ends the only name of such a file, where there are no second ones, and of one that is about to be
	// removed: nobody clears it away.
	MovedSuffix = "-moved"
	// TakingSuffix ends the name of a journal of files that are taken away together. What
	// lies beside one is the business of those who finish that.
	TakingSuffix = "-taking"
)

// runName matches the names of tasks of runs: the host, a random part, and the process, which earlier versions left
// out; hiddenName those of their unfinished files, which end in a number.
var (
	runName = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`^` + regexp.QuoteMeta(place.StagingPrefix) + `([a-z2-7]{4})[a-z2-7]{10}(?:-p([0-9]+))?$`)
	})
	hiddenName = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`^(.*)-[0-9]+(` + OldSuffix + `)?$`)
	})
)

// hostTag stands for this host in such names: those on another may not see its locks.
var hostTag = sync.OnceValue(func() string {
	host, _ := os.Hostname() // without one, all hosts count as one
	sum := sha256.Sum256([]byte(host))
	return strings.ToLower(base32.StdEncoding.EncodeToString(sum[:])[:4])
})

// NewRun is the name of one task of this run: a folder of its unfinished work has it, and the names of its
// unfinished files begin with it.
func NewRun() string {
	return fmt.Sprintf("%s%s%s-p%d", place.StagingPrefix, hostTag(), strings.ToLower(rand.Text()[:10]), os.Getpid())
}

// IsRun reports whether a text could be what NewRun made, on any host, and whether it was this one.
func IsRun(text string) (is, here bool) {
	m := runName().FindStringSubmatch(text)
	return m != nil, m != nil && m[1] == hostTag()
}

// IsGone reports whether a task is that of a process of this host that is not there any more.
func IsGone(run string) bool {
	m := runName().FindStringSubmatch(run)
	if m == nil || m[1] != hostTag() {
		return false
	}
	pid, err := strconv.Atoi(m[2])
	return err == nil && pid > 0 && !running(pid)
}

// Hidden is the name of an unfinished file of a task, by its number.
func Hidden(run string, number int) string { return fmt.Sprintf("%s-%d", run, number) }

// Begin makes the first unfinished file of a task in a folder, and takes the lease of the task, which ends when it is
// closed. Where nothing can be locked, the process in the name, and that somebody writes, are all of it.
func Begin(dir storage.Folder, perm fs.FileMode) (run string, f storage.File, lease io.Closer, err error) {
	for {
		run = NewRun()
		name := Hidden(run, 0)
		if f, err = dir.Create(name, perm); err != nil {
			return run, nil, nil, err
		}
		locks, can := dir.(storage.Locker)
		if !can {
			return run, f, io.NopCloser(nil), nil
		}
		held, err := lockAlive(dir, locks, name)
		if err == nil && held != nil {
			return run, f, held, nil
		}
		f.Close()
		_ = dir.Remove(name, nil) // the file may be gone already
		if err != nil {
			return run, nil, nil, err
		}
	}
}

// lockAlive locks a file that was just made, for others to see that its run lives; nil
// where one of them was faster and takes it for dead.
func lockAlive(dir storage.Folder, locks storage.Locker, name string) (*os.File, error) {
	f, err := locks.OpenFile(name, os.O_RDWR, 0)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if Held(Lock(f)) {
		f.Close()
		return nil, nil
	}
	ours, err := f.Stat()
	there, gone := dir.Lstat(name)
	if err != nil || gone != nil || !os.SameFile(ours, there) {
		f.Close()
		return nil, err
	}
	return f, nil
}

// cleared are the folders that were looked through, each once in a run.
var cleared sync.Map

// ClearDead removes the unfinished files of runs that are surely dead from a folder. What cannot be listed or removed
// is no reason to do nothing.
func ClearDead(dir storage.Folder) {
	if _, done := cleared.LoadOrStore(storage.Absolute(dir.Path("")), true); done {
		return
	}
	names, _ := dir.Names()
	byRun, taking := map[string][]string{}, map[string]bool{}
	for _, name := range names {
		if !place.IsStaging(name) {
			continue
		}
		if m := hiddenName().FindStringSubmatch(name); m != nil {
			if is, _ := IsRun(m[1]); is {
				byRun[m[1]] = append(byRun[m[1]], name)
			}
		}
		if run, is := strings.CutSuffix(name, TakingSuffix); is {
			taking[run] = true
		}
	}
	for run, files := range byRun {
		if !taking[run] {
			clearRun(dir, run, files)
		}
	}
}

// clearRun removes the unfinished files of one run, if nobody works on them any more. Where files can be locked, the
// lease is the lock of the first of them, which appears last. It is kept until that file is gone: a run that
// has just made the file, and has not locked it yet, sees that it was taken for dead.
func clearRun(dir storage.Folder, run string, files []string) {
	first := Hidden(run, 0)
	locks, can := dir.(storage.Locker)
	if !can {
		if IsGone(run) || allSilent(dir, files) {
			for _, name := range files {
				_ = dir.Remove(name, nil)
			}
		}
		return
	}
	_, here := IsRun(run)
	lease, err := locks.OpenFile(first, os.O_RDWR, 0)
	if err == nil {
		defer lease.Close()
		err = Lock(lease)
	}
	switch {
	case err == nil && here:
	case err != nil && !errors.Is(err, fs.ErrNotExist) && (lease == nil || Held(err)), !allSilent(dir, files):
		return
	}
	if !areOurs(dir, files) {
		return
	}
	for _, name := range files {
		if name != first {
			_ = dir.Remove(name, nil)
		}
	}
	if lease != nil && dir.Remove(first, nil) != nil {
		lease.Close() // not every system removes what is open
		_ = dir.Remove(first, nil)
	}
}

// areOurs reports whether all of these files are regular files of the user who runs.
func areOurs(dir storage.Folder, files []string) bool {
	made, err := Sample(dir)
	if err != nil {
		return false
	}
	for _, name := range files {
		if info, err := dir.Lstat(name); err != nil || !info.Mode().IsRegular() || !folder.SameOwner(info, made) {
			return false
		}
	}
	return true
}

// Sample is what a file looks like that this run makes in a folder for itself.
func Sample(dir storage.Folder) (fs.FileInfo, error) {
	run, made, lease, err := Begin(dir, 0o600)
	if err != nil {
		return nil, err
	}
	info, err := dir.Lstat(Hidden(run, 0))
	made.Close()
	lease.Close()
	_ = dir.Remove(Hidden(run, 0), nil) // if it stays, the next run removes it
	return info, err
}

// allSilent reports whether nobody has written to any of these files for long.
func allSilent(dir storage.Folder, files []string) bool {
	for _, name := range files {
		if info, err := dir.Lstat(name); err != nil || !Silent(info, time.Now()) {
			return false
		}
	}
	return true
}
