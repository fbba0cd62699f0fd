// Package crossed tries options with each other: random archives, a random destination and a
// random command line, of which a plain model says what has to come out, and laws what has to
// hold in any case.
package crossed

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"widecrate/core/archive"
	"widecrate/core/format"
)

// An Entry is what the generator puts into an archive, in plain values.
type Entry struct {
	Path  string
	Kind  Kind
	Data  string // of a file
	Link  string // of a link
	Time  time.Time
	Inner *Archive // the file is this archive
	from  string   // what it was packed from, in a tree
}

// Kind is what an entry is.
type Kind uint8

// The kinds.
const (
	File Kind = iota
	Folder
	Symlink
	Hardlink
)

// An Archive is what lies below the inbox.
type Archive struct {
	Name    string // its path below the inbox, with slashes
	Entries []Entry
	Damage  Damage
	Key     string // its password; empty: it is not locked
	Parts   int    // in so many; 0: it is one file
	Passes  bool   // it comes in order, whatever its format

	bytes []byte // once it is built
}

// Damage is what is wrong with an archive.
type Damage uint8

// The damages.
const (
	Sound   Damage = iota
	Flipped        // a byte of one file's data is another
	Cut            // its end is missing
	Junk           // it never was one
)

func (a *Archive) String() string {
	var b strings.Builder
	b.WriteString(a.Name)
	if a.Key != "" {
		fmt.Fprintf(&b, " (locked: %s)", a.Key)
	}
	for _, e := range a.Entries {
		switch {
		case e.Inner != nil:
			fmt.Fprintf(&b, " %s=(%s)", e.Path, e.Inner)
		case e.Kind == File:
			fmt.Fprintf(&b, " %s=%.8s#%d", e.Path, e.Data, len(e.Data))
		case e.Kind == Folder:
			fmt.Fprintf(&b, " %s/", e.Path)
		default:
			fmt.Fprintf(&b, " %s->%s", e.Path, e.Link)
		}
	}
	return b.String() + [...]string{"", " FLIPPED", " CUT", " JUNK"}[a.Damage]
}

// hardLinked reports whether there are hard links in it, at any depth.
func (a *Archive) hardLinked() bool {
	return slices.ContainsFunc(a.Entries, func(e Entry) bool { return e.Kind == Hardlink || e.Inner != nil && e.Inner.hardLinked() })
}

// brokenText is the data that is flipped of a ZIP.
const brokenText = "what is here was something else"

// broken is the entry whose data is flipped, where that is known; else -1.
func (a *Archive) broken() int {
	if a.Damage != Flipped || !strings.HasSuffix(a.Name, ".zip") || a.Key != "" {
		return -1
	}
	return slices.IndexFunc(a.Entries, func(e Entry) bool { return e.Data == brokenText })
}

// Bytes builds the archive, which must be of a format that its name says.
func (a *Archive) Bytes() (data []byte, err error) {
	if a.bytes == nil {
		a.bytes, err = a.build()
	}
	return a.bytes, err
}

func (a *Archive) build() ([]byte, error) {
	if a.Damage == Junk {
		return []byte("this is no archive"), nil
	}
	f, known := format.ByName(path.Base(a.Name))
	if !known {
		return nil, fmt.Errorf("%s has no format", a.Name)
	}
	var b bytes.Buffer
	w, err := f.NewWriter(&b, archive.WriteOptions{Password: a.Key, Method: map[bool]string{true: "store"}[a.broken() >= 0]})
	if err != nil {
		return nil, err
	}
	for i := range a.Entries {
		e := &a.Entries[i]
		if e.Inner != nil {
			data, err := e.Inner.Bytes()
			if err != nil {
				return nil, err
			}
			e.Data = string(data)
		}
		stored := archive.Entry{Path: e.Path, Kind: archive.Kind(e.Kind), Link: e.Link, Size: int64(len(e.Data)), Modified: e.Time}
		if _, err := w.Add(stored, strings.NewReader(e.Data)); err != nil {
			return nil, fmt.Errorf("%s in %s: %w", e.Path, a.Name, err)
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	data := b.Bytes()
	switch a.Damage {
	case Flipped:
		if i := a.broken(); i >= 0 {
			data[bytes.Index(data, []byte(a.Entries[i].Data))] ^= 0x55
		} else {
			data[len(data)/3] ^= 0x55
		}
	case Cut:
		data = data[:len(data)/2]
	}
	return data, nil
}

// Write writes the archive, or its parts, below a folder.
func (a *Archive) Write(dir string) error {
	data, err := a.Bytes()
	if err != nil {
		return err
	}
	at := filepath.Join(dir, filepath.FromSlash(a.Name))
	if err := os.MkdirAll(filepath.Dir(at), 0o777); err != nil {
		return err
	}
	if a.Parts < 2 {
		return os.WriteFile(at, data, 0o666)
	}
	size := (len(data) + a.Parts - 1) / a.Parts
	for i := 0; i*size < len(data); i++ {
		if err := os.WriteFile(fmt.Sprintf("%s.%03d", at, i+1), data[i*size:min(len(data), (i+1)*size)], 0o666); err != nil {
			return err
		}
	}
	return nil
}

// A Tree is what lies in a folder, by paths with slashes.
type Tree map[string]Thing

// A Thing is a file, a folder, or a link.
type Thing struct {
	Kind Kind
	Data string // or where a link leads
	Time int64  // seconds, of a file
}

func (t Thing) String() string {
	switch t.Kind {
	case Folder:
		return "/"
	case Symlink:
		return "->" + t.Data
	}
	return fmt.Sprintf("=%.8s#%d@%d", t.Data, len(t.Data), t.Time)
}

// Look reads a folder; one that is not there is empty.
func Look(dir string) (Tree, error) {
	found := Tree{}
	err := filepath.WalkDir(dir, func(at string, d fs.DirEntry, err error) error {
		if os.IsNotExist(err) && at == dir {
			return nil
		}
		if err != nil || at == dir {
			return err
		}
		rel, err := filepath.Rel(dir, at)
		if err != nil {
			return err
		}
		thing := Thing{Kind: Folder}
		switch {
		case d.Type()&fs.ModeSymlink != 0:
			thing.Kind = Symlink
			thing.Data, err = os.Readlink(at)
		case !d.IsDir():
			info, statErr := d.Info()
			if statErr != nil {
				return statErr
			}
			data, readErr := os.ReadFile(at)
			thing, err = Thing{File, string(data), info.ModTime().Unix()}, readErr
		}
		found[filepath.ToSlash(rel)] = thing
		return err
	})
	return found, err
}

// Differences says where two trees are not the same.
func (t Tree) Differences(other Tree) (list []string) {
	for at, thing := range t {
		if theirs, there := other[at]; !there {
			list = append(list, fmt.Sprintf("%s%s is missing", at, thing))
		} else if theirs != thing {
			list = append(list, fmt.Sprintf("%s%s is %s", at, thing, theirs))
		}
	}
	for at, thing := range other {
		if _, there := t[at]; !there {
			list = append(list, fmt.Sprintf("%s%s is too much", at, thing))
		}
	}
	return list
}

// Plant makes what a tree has in a folder, in order: some file systems take two names for one.
func (t Tree) Plant(dir string) error {
	for _, at := range sorted(t) {
		thing := t[at]
		full := filepath.Join(dir, filepath.FromSlash(at))
		if there, err := os.Lstat(full); err == nil && there.IsDir() != (thing.Kind == Folder) {
			continue // by another spelling, it is there already
		}
		if err := os.MkdirAll(filepath.Dir(full), 0o777); err != nil {
			return err
		}
		var err error
		switch thing.Kind {
		case Folder:
			err = os.MkdirAll(full, 0o777)
		case Symlink:
			err = os.Symlink(thing.Data, full)
		default:
			if err = os.WriteFile(full, []byte(thing.Data), 0o666); err == nil {
				err = os.Chtimes(full, time.Unix(thing.Time, 0), time.Unix(thing.Time, 0))
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func has[T any](m map[string]T, key string) bool { _, there := m[key]; return there }

func sorted[T any](m map[string]T) []string {
	keys := make([]string, 0, len(m))
	for key := range m {
		keys = append(keys, key)
	}
	slices.Sort(keys)
	return keys
}
