package newfile

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base32"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"time"

	"widecrate/core/claim"
	"widecrate/core/folder"
	"widecrate/core/place"
)

const (
	oldSuffix   = "-old"   // of a second name of what is replaced
	movedSuffix = "-moved" // of its only name, where the file system has no second ones: nobody clears it away
)

// hiddenName matches the names of unfinished files: the host, a random part, and the
// number of the file.
var hiddenName = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^(` + regexp.QuoteMeta(place.StagingPrefix) + `([a-z2-7]{4})[a-z2-7]{10})-[0-9]+(` + oldSuffix + `)?$`)
})

// hostTag stands for this host in such names: those on another may not see its locks.
var hostTag = sync.OnceValue(func() string {
	host, _ := os.Hostname() // without one, all hosts count as one
	sum := sha256.Sum256([]byte(host))
	return strings.ToLower(base32.StdEncoding.EncodeToString(sum[:])[:4])
})

func newPrefix() string { return place.StagingPrefix + hostTag() + strings.ToLower(rand.Text()[:10]) }

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
	if claim.Held(claim.Lock(f)) {
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

// clearDeadAt does so in a folder by its path.
func clearDeadAt(path string) {
	root, err := os.OpenRoot(path)
	if err != nil {
		return
	}
	defer root.Close()
	if dir, err := folder.Open(root, "."); err == nil {
		clearDead(dir, path)
		dir.Close()
	}
}

// clearDead removes the unfinished files of runs that are surely dead. What cannot be
// removed is no reason to do nothing.
func clearDead(dir *folder.Folder, path string) {
	if full, err := filepath.Abs(path); err == nil {
		if _, done := cleared.LoadOrStore(full, true); done {
			return
		}
	}
	names, _ := dir.Names()
	byRun := map[string][]string{}
	for _, name := range names {
		if m := hiddenName().FindStringSubmatch(name); m != nil {
			byRun[m[1]] = append(byRun[m[1]], name)
		}
	}
	for prefix, files := range byRun {
		host := prefix[len(place.StagingPrefix):][:len(hostTag())]
		if isDead(dir, prefix+"-0", files, host == hostTag()) {
			for _, name := range files {
				_ = dir.Remove(name)
			}
		}
	}
}

// isDead reports whether nobody works on files any more: the first, which appears last,
// is not locked, and they are of this host, or have not been touched for long.
func isDead(dir *folder.Folder, first string, files []string, ours bool) bool {
	f, err := dir.OpenFile(first, os.O_RDWR, 0)
	if err == nil {
		err = claim.Lock(f)
		f.Close()
		if err == nil && ours {
			return true
		}
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return false
	}
	for _, name := range files {
		info, err := dir.Lstat(name)
		if err != nil || time.Since(info.ModTime()) < claim.Silence {
			return false
		}
	}
	return true
}
