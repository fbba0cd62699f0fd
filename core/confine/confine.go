// Package confine gives up, for the rest of the process, what a run does not need, where the kernel
// can hold it to that: what reads hostile archives could then not write, or read, elsewhere, even if
// they took it over.
package confine

import (
	"crypto/x509"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/landlock-lsm/go-landlock/landlock"
	system "github.com/landlock-lsm/go-landlock/landlock/syscall"

	"widecrate/core/folder"
	"widecrate/core/storage"
)

// Rights are what a process keeps. A folder stands for all that is in it.
type Rights struct {
	Read    []string // files and folders
	Write   []string // the same, or the nearest folders above that are there; they can be read, too
	Make    []string // folders to write to, which are made if they are missing
	Clear   []string // folders in which files can be removed
	Empty   []string // folders below which empty ones can be removed
	Network bool
}

// Nothing else is made in a folder: no devices, pipes and sockets.
const (
	reading landlock.AccessFSSet = system.AccessFSReadFile | system.AccessFSReadDir
	writing landlock.AccessFSSet = reading | system.AccessFSWriteFile | system.AccessFSTruncate | system.AccessFSMakeDir | system.AccessFSMakeReg | system.AccessFSMakeSym |
		system.AccessFSRemoveDir | system.AccessFSRemoveFile | system.AccessFSRefer
	files landlock.AccessFSSet = system.AccessFSReadFile | system.AccessFSWriteFile | system.AccessFSTruncate
)

// ofSystem is what the libraries of the language and its runtime read, now and then.
var ofSystem = []string{"/etc", "/usr/share", "/usr/lib", "/proc/self", "/sys/fs/cgroup", "/dev/null"}

// ofNetwork is what they read besides, to find hosts and to know them.
var ofNetwork = []string{"/run", "/usr/local/share"}

// Enter leaves the process with these rights, until it ends. It reports whether the kernel holds it
// to them (Landlock, from its second version on, with which files can be moved from folder to
// folder); where not, nothing has changed. release removes folders that were made and that nobody needed.
func Enter(r Rights) (held bool, release func(), err error) {
	release = func() {}
	if version, err := system.LandlockGetABIVersion(); err != nil || version < 2 {
		return false, release, nil
	}
	load(r.Network)
	rules := map[string]landlock.AccessFSSet{}
	allow := func(rights landlock.AccessFSSet, paths ...string) {
		for _, path := range paths {
			if path == "" {
				continue
			}
			if to, err := filepath.EvalSymlinks(path); err == nil { // where there are too many, it is the folders of these that count
				path = to
			}
			rules[storage.Absolute(path)] |= rights
		}
	}
	var discards []func()
	for _, path := range r.Make {
		above := existing(path)
		if discard, err := folder.MakeAhead(path); err == nil {
			discards = append(discards, discard)
			allow(system.AccessFSRemoveDir, above)
		} // else whoever writes there says why
		allow(writing, existing(path))
	}
	release = func() {
		for _, discard := range slices.Backward(discards) {
			discard()
		}
	}
	allow(reading, ofSystem...)
	allow(reading, r.Read...)
	for _, path := range r.Write {
		allow(writing, existing(path))
	}
	allow(system.AccessFSRemoveFile, r.Clear...)
	allow(system.AccessFSRemoveDir, r.Empty...)
	if r.Network {
		allow(reading, ofNetwork...)
		for _, path := range []string{"/etc/resolv.conf", "/etc/hosts", "/etc/nsswitch.conf"} { // read anew, wherever they lead
			if to, err := filepath.EvalSymlinks(path); err == nil {
				allow(reading, filepath.Dir(to))
			}
		}
	}
	var all []landlock.Rule
	for path, rights := range few(rules) {
		info, err := os.Stat(path)
		if err != nil || info.Mode()&(fs.ModeNamedPipe|fs.ModeSocket) != 0 {
			continue // there is nothing to keep; a pipe without a name can always be read
		}
		if !info.IsDir() {
			rights &= files
		}
		all = append(all, landlock.PathAccess(rights, path).IgnoreIfMissing())
	}
	config := landlock.V6.BestEffort()
	if r.Network {
		err = config.RestrictPaths(all...)
	} else {
		err = config.Restrict(all...)
	}
	if err != nil {
		return false, release, fmt.Errorf("the kernel does not confine this run: %w", err)
	}
	return true, release, nil
}

// load reads what the libraries of the language read once, wherever that lies: the local time zone, and the
// certificates that are trusted.
func load(network bool) {
	_, _ = time.Now().Zone()
	if network {
		_, _ = x509.SystemCertPool() // without any, each use says so
	}
}

// existing is a path, or the nearest above it that is there, through links.
func existing(path string) string {
	for path = storage.Absolute(path); ; path = filepath.Dir(path) {
		if _, err := os.Stat(path); err == nil || filepath.Dir(path) == path {
			return path
		}
	}
}

// most is how many places the kernel is told of.
const most = 1000

// few are rules for folders above those that lie deepest, where there are too many.
func few(rules map[string]landlock.AccessFSSet) map[string]landlock.AccessFSSet {
	depth := func(path string) int { return strings.Count(path, "/") }
	for len(rules) > most {
		deepest := 0
		for path := range rules {
			deepest = max(deepest, depth(path))
		}
		for path, rights := range maps.Clone(rules) {
			if depth(path) == deepest {
				delete(rules, path)
				rules[filepath.Dir(path)] |= rights
			}
		}
	}
	return rules
}
