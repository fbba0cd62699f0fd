// Package source finds the archives that a command works on, from the names it
// was given. It does not look inside them beyond what opening needs.
package source

import (
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"github.com/maruel/natural"

	"widecrate/core/fault"
	"widecrate/core/format"
)

// A Source is one archive, or a name that turned out not to be one.
type Source struct {
	Path string // as it was given, or below the folder that was given
	Err  error  // why it cannot be used; nil if it can
}

// Name is the last part of the path.
func (s Source) Name() string { return filepath.Base(s.Path) }

// Find expands names into sources, in order. A file stands for itself, whatever
// it is called; a folder for the files in it that have an archive's extension,
// in natural order (2 before 10). Names are literal. The same file named twice
// is taken once. A name that cannot be used becomes a Source with an error.
func Find(names []string) []Source {
	var found []Source
	seen := map[string]bool{}
	add := func(s Source) {
		absolute, err := filepath.Abs(s.Path)
		if s.Err == nil {
			s.Err = fault.Reading(s.Path, err)
		}
		if !seen[absolute] {
			seen[absolute] = true
			found = append(found, s)
		}
	}
	for _, name := range names {
		info, err := os.Stat(name)
		switch {
		case err != nil:
			add(Source{name, missing(name, err)})
		case info.IsDir():
			files, err := inFolder(name)
			if err != nil {
				add(Source{name, fault.Reading(name, err)})
			}
			for _, file := range files {
				add(Source{Path: file})
			}
		case !info.Mode().IsRegular():
			add(Source{name, fault.At(name, fault.New(fault.Unreadable, "it is neither a file nor a folder"))})
		default:
			add(Source{Path: name})
		}
	}
	return found
}

func missing(name string, err error) error {
	e := fault.Reading(name, err)
	if os.IsNotExist(err) {
		e = fault.At(name, fault.New(fault.Unreadable, "there is no such file or folder").
			Advise("a name is taken to the letter, brackets and spaces included; check it and the folder you run in"))
	}
	return e
}

func inFolder(folder string) ([]string, error) {
	children, err := os.ReadDir(folder)
	if err != nil {
		return nil, err
	}
	var files []string
	for _, child := range children {
		if _, known := format.ByName(child.Name()); !known {
			continue
		}
		path := filepath.Join(folder, child.Name())
		if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() {
			files = append(files, path)
		}
	}
	slices.SortFunc(files, natural.Compare)
	return files, nil
}

// File is an open source.
type File struct {
	*os.File
	Size int64 // bytes
}

// Open opens the source for reading at any position.
func (s Source) Open() (*File, error) {
	f, err := os.Open(s.Path)
	if err != nil {
		return nil, fault.Reading("", err)
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = &fs.PathError{Op: "open", Path: s.Path, Err: fs.ErrInvalid}
	}
	if err != nil {
		f.Close()
		return nil, fault.Reading("", err)
	}
	return &File{f, info.Size()}, nil
}
