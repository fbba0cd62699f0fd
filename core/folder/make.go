package folder

import (
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sync"

	"widecrate/core/fault"
)

// attempts bounds how often something is tried again because a folder vanished in between.
const attempts = 100

// Again does something in a folder that was found or made just before, and does it again if the
// folder has vanished: whoever made a folder removes it if nothing has come of its own work there,
// and until something lies in it that may happen at any moment. An error that stays is returned.
func Again(do func() error) error {
	for tries := 1; ; tries++ {
		if err := do(); tries == attempts || !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
}

// MakeBelow makes a folder below base, and those above it, where they are missing, and returns
// those that it made, outermost first, even with an error. Others may make the same folders at the
// same time: one that somebody else made counts as there.
func MakeBelow(base *os.Root, dir string) (made []string, err error) {
	if dir == "" {
		return nil, nil
	}
	return makeMissing(dir, path.Dir, func(dir string) error { return base.Mkdir(dir, 0o777) })
}

// RemoveBelow removes folders below base that MakeBelow made, as far as they are empty.
func RemoveBelow(base *os.Root, made []string) {
	for _, dir := range slices.Backward(made) {
		_ = base.Remove(dir) // what has something in it stays
	}
}

// makeMissing is MakeBelow with its two system calls: what is above a folder, and making one.
func makeMissing(dir string, above func(string) string, mkdir func(string) error) (made []string, err error) {
	if above(dir) == dir {
		return nil, nil
	}
	for tries := 1; ; tries++ {
		switch err := mkdir(dir); {
		case err == nil:
			return append(made, dir), nil
		case errors.Is(err, fs.ErrExist):
			return made, nil
		case tries > 1 && !errors.Is(err, fs.ErrNotExist), tries == attempts:
			return made, err
		}
		more, err := makeMissing(above(dir), above, mkdir)
		made = append(made, more...)
		if err != nil {
			return made, err
		}
	}
}

// ahead are folders that were made before anybody needed them, by their absolute paths.
var ahead sync.Map

func absolute(path string) string {
	if full, err := filepath.Abs(path); err == nil {
		return full
	}
	return path
}

// MakeAll makes the folder at a path, and those above it, where they are missing, and returns
// those that it made, outermost first, even with an error. Others may make the same folders at the
// same time. A file in the way is of kind fault.Unwritable.
func MakeAll(path string) (made []string, err error) {
	if _, early := ahead.LoadAndDelete(absolute(path)); early {
		if made, err = MakeAll(filepath.Dir(path)); err != nil {
			return made, err
		}
		made = append(made, path)
	}
	more, err := makeMissing(path, filepath.Dir, makeAt)
	return append(made, more...), err
}

// makeAt makes the folder at a path. One that is there is an error that is fs.ErrExist.
func makeAt(path string) error {
	for tries := 1; ; tries++ {
		switch info, err := os.Stat(path); {
		case err == nil && !info.IsDir():
			return fault.At(path, fault.New(fault.Unwritable, "it is a file, and a folder is needed there"))
		case err == nil:
			return fs.ErrExist
		}
		// A link that leads nowhere is there, and stays so.
		if err := os.Mkdir(path, 0o777); !errors.Is(err, fs.ErrExist) || tries == attempts {
			return err
		}
	}
}

// Make makes a folder where there is none, with those above it. discard removes what was made
// again, where nothing came into it.
func Make(path string) (discard func(), err error) {
	made, err := MakeAll(path)
	discard = func() {
		for _, path := range slices.Backward(made) {
			_ = os.Remove(path) // what has something in it stays
		}
	}
	if err != nil {
		discard()
		return nil, fault.Writing(path, err)
	}
	return discard, nil
}

// IsAhead reports whether a folder is only there because somebody may need it: to all others it is missing.
func IsAhead(path string) bool {
	_, early := ahead.Load(absolute(path))
	return early
}

// MakeAhead is Make for whoever will need the folder, if anybody does: MakeAll says of it then that
// it was made there. discard removes what nobody needed.
func MakeAhead(path string) (discard func(), err error) {
	path = absolute(path)
	made, err := MakeAll(path)
	for _, path := range made {
		ahead.Store(path, true)
	}
	return func() {
		for _, path := range slices.Backward(made) {
			if _, unused := ahead.LoadAndDelete(path); unused {
				_ = os.Remove(path) // what has something in it stays
			}
		}
	}, err
}
