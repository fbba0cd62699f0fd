package receipt

import (
	"context"
	"encoding/hex"
	"errors"
	"io/fs"
	"iter"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"github.com/maruel/natural"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/report"
	"widecrate/core/schedule"
)

// Checked is what became of a file since it was delivered.
type Checked struct {
	Path  string // absolute
	Err   error  // it is missing, or altered; nil if it is as it was
	Extra bool   // it was not delivered, but lies in a folder that was
}

type checked struct {
	Kind    string          `json:"kind"`
	Path    string          `json:"path"`
	Status  string          `json:"status"`
	Failure *report.Failure `json:"failure,omitempty"`
}

// Lines are one.
func (c *Checked) Lines(say fault.Wording) iter.Seq[any] {
	status := "same"
	switch {
	case c.Extra:
		status = "extra"
	case errors.Is(c.Err, fs.ErrNotExist):
		status = "missing"
	case c.Err != nil:
		status = "altered"
	}
	return func(yield func(any) bool) {
		yield(checked{"delivered", c.Path, status, report.FailureOf(c.Err, say)})
	}
}

// Check reads what was delivered, on so many workers, and reports on each file, in
// the natural order of their paths, and then of files beside them in the own folders of
// archives. What is missing or altered is of kind fault.Damaged.
func (r *Receipts) Check(ctx context.Context, workers int, tell func(*Checked)) error {
	files, err := r.Delivered()
	if err != nil {
		return err
	}
	paths := slices.SortedFunc(maps.Keys(files), natural.Compare)
	err = schedule.Each(ctx, len(paths), workers, func(i int) *Checked {
		f := files[paths[i]]
		return &Checked{Path: paths[i], Err: f.check(ctx, paths[i])}
	}, tell)
	if err != nil {
		return err
	}
	for _, folder := range r.Folders() {
		err := filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || ctx.Err() != nil {
				return ctx.Err() // what is missing has been reported
			}
			if _, delivered := files[path]; !delivered {
				tell(&Checked{Path: path, Extra: true})
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// check compares a file on disk with what was delivered.
func (f *File) check(ctx context.Context, path string) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	altered := func(format string, args ...any) error {
		return fault.At(path, fault.New(fault.Damaged, format, args...).Advise("unpack it again, or make it again"))
	}
	info, err := os.Lstat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return altered("it is missing: %w", fs.ErrNotExist)
	case err != nil:
		return fault.Reading(path, err)
	case info.Mode()&fs.ModeSymlink != 0:
		switch {
		case f.Type != archive.Symlink.String():
			return altered("it is a link now, and was a file when it was delivered")
		case !f.leads(path):
			return altered("it is a link that leads elsewhere than it did")
		}
		return nil
	case f.Type == archive.Symlink.String():
		return altered("it is no link any more")
	case !info.Mode().IsRegular():
		return altered("it is no file any more")
	case info.Size() != f.Size:
		return altered("it has %d bytes, and had %d when it was delivered", info.Size(), f.Size)
	}
	sum, err := SumOf(path)
	if err != nil {
		return fault.Reading(path, err)
	}
	if hex.EncodeToString(sum) != f.SHA256 {
		return altered("its content is not what was delivered")
	}
	return nil
}
