package claim

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"widecrate/core/folder"
	"widecrate/core/place"
	"widecrate/core/remote"
)

const (
	// OldSuffix ends the second name of a file that is replaced. It goes with the rest.
	OldSuffix = "-old"
	// MovedSuffix ends the only name of such a file, where the file system has no second
	// ones: nobody clears it away.
	MovedSuffix = "-moved"
	// TakingSuffix ends the name of a journal of files that are taken away together. What
	// lies beside one is the business of those who finish that.
	TakingSuffix = "-taking"
)

// hiddenName matches the names of unfinished files: the host, a random part, and the
// number of the file.
var hiddenName = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^(` + regexp.QuoteMeta(place.StagingPrefix) + `([a-z2-7]{4})[a-z2-7]{10})-[0-9]+(` + OldSuffix + `)?$`)
})

// hostTag stands for this host in such names: those on another may not see its locks.
var hostTag = sync.OnceValue(func() string {
	host, _ := os.Hostname() // without one, all hosts count as one
	sum := sha256.Sum256([]byte(host))
	return strings.ToLower(base32.StdEncoding.EncodeToString(sum[:])[:4])
})

// NewPrefix starts the names of the unfinished files of one task of this run.
func NewPrefix() string { return place.StagingPrefix + hostTag() + strings.ToLower(rand.Text()[:10]) }

// NewFolder is the name of a folder of unfinished work, which says whose it is.
func NewFolder() string { return fmt.Sprintf("%s-p%d", NewPrefix(), os.Getpid()) }

// IsGone reports whether a name that NewFolder made is that of a process of this host that is
// not there any more.
func IsGone(name string) bool {
	prefix, text, found := strings.Cut(name[min(len(name), len(place.StagingPrefix)):], "-p")
	pid, err := strconv.Atoi(text)
	_, here := IsPrefix(place.StagingPrefix + prefix)
	return found && err == nil && here && pid > 0 && !running(pid)
}

// DeadElsewhere are, of what a list of a folder at an address has, the unfinished files of runs
// that are surely dead: their process was on this host and is gone, or nothing wrote to any of
// them for long.
func DeadElsewhere(there []remote.Info, now time.Time) (dead []remote.Info) {
	byRun, alive := map[string][]remote.Info{}, map[string]bool{}
	for _, info := range there {
		if run := remote.Unfinished(info.Name); run != "" && !info.Folder && info.Below == "" {
			byRun[run] = append(byRun[run], info)
			alive[run] = alive[run] || info.Modified.IsZero() || now.Sub(info.Modified) < Silence
		}
	}
	for run, files := range byRun {
		if IsGone(run) || !alive[run] {
			dead = append(dead, files...)
		}
	}
	return dead
}

// Hidden is the name of an unfinished file, by its number.
func Hidden(prefix string, number int) string { return fmt.Sprintf("%s-%d", prefix, number) }

// IsPrefix reports whether a text could be what NewPrefix made, on any host, and whether
// it was this one.
func IsPrefix(text string) (is, here bool) {
	return hiddenName().MatchString(Hidden(text, 0)), strings.HasPrefix(text, place.StagingPrefix+hostTag())
}

// Begin makes the first unfinished file of a task of this run in a folder, and takes the lease of
// the task, which ends when it is closed. The names of the other files begin with the prefix.
func Begin(dir *folder.Folder, perm fs.FileMode) (prefix string, f, lease *os.File, err error) {
	for {
		prefix = NewPrefix()
		name := Hidden(prefix, 0)
		if f, err = dir.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_EXCL, perm); err != nil {
			return prefix, nil, nil, err
		}
		if lease, err = lockAlive(dir, name); err == nil && lease != nil {
			return prefix, f, lease, nil
		}
		f.Close()
		_ = dir.Remove(name) // the file may be gone already
		if err != nil {
			return prefix, nil, nil, err
		}
	}
}

// lockAlive locks a file that was just made, for others to see that its run lives; nil
// where one of them was faster and takes it for dead.
func lockAlive(dir *folder.Folder, name string) (*os.File, error) {
	f, err := dir.OpenFile(name, os.O_RDWR, 0)
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

// ClearDead removes the unfinished files of runs that are surely dead from a folder with
// a path. What cannot be removed is no reason to do nothing.
func ClearDead(dir *folder.Folder, path string) {
	if full, err := filepath.Abs(path); err == nil {
		if _, done := cleared.LoadOrStore(full, true); done {
			return
		}
	}
	names, _ := dir.Names()
	byRun, taking := map[string][]string{}, map[string]bool{}
	for _, name := range names {
		if m := hiddenName().FindStringSubmatch(name); m != nil {
			byRun[m[1]] = append(byRun[m[1]], name)
		}
		if prefix, is := strings.CutSuffix(name, TakingSuffix); is {
			taking[prefix] = true
		}
	}
	for prefix, files := range byRun {
		if !taking[prefix] {
			clearRun(dir, prefix, files)
		}
	}
}

// clearRun removes the unfinished files of one run, if nobody works on them any more. The lease is
// the lock of the first of them, which appears last. It is kept until that file is gone: a run that
// has just made the file, and has not locked it yet, sees that it was taken for dead.
func clearRun(dir *folder.Folder, prefix string, files []string) {
	first := Hidden(prefix, 0)
	_, here := IsPrefix(prefix)
	lease, err := dir.OpenFile(first, os.O_RDWR, 0)
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
			_ = dir.Remove(name)
		}
	}
	if lease != nil && dir.Remove(first) != nil {
		lease.Close() // not every system removes what is open
		_ = dir.Remove(first)
	}
}

// areOurs reports whether all of these files are regular files of the user who runs.
func areOurs(dir *folder.Folder, files []string) bool {
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
func Sample(dir *folder.Folder) (fs.FileInfo, error) {
	prefix, made, lease, err := Begin(dir, 0o600)
	if err != nil {
		return nil, err
	}
	info, err := made.Stat()
	made.Close()
	lease.Close()
	_ = dir.Remove(Hidden(prefix, 0)) // if it stays, the next run removes it
	return info, err
}

// allSilent reports whether nobody has written to any of these files for long.
func allSilent(dir *folder.Folder, files []string) bool {
	for _, name := range files {
		if info, err := dir.Lstat(name); err != nil || !Silent(info, time.Now()) {
			return false
		}
	}
	return true
}
