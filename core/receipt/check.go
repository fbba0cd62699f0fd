package receipt

import (
	"context"
	"crypto/sha256"
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
	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/report"
	"widecrate/core/schedule"
)

// Checked is what became of a file since it was delivered.
type Checked struct {
	Path   string `json:"path"` // absolute
	Status Status `json:"status"`
	Err    error  `json:"-"` // of kind fault.Damaged where the file is missing, or altered
}

// Status is how a file is now.
type Status string

// The statuses.
const (
	Same    Status = "same"
	Missing Status = "missing"
	Altered Status = "altered"
	Extra   Status = "extra" // the file was not delivered, but lies in a folder that was
)

// Lines are one.
func (c *Checked) Lines() iter.Seq[report.Line] {
	return func(yield func(report.Line) bool) { yield(report.Line{Kind: "delivered", Fields: c, Err: c.Err}) }
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
	_, err = schedule.Each(ctx, len(paths), schedule.Options{Workers: workers}, func(i int) (*Checked, error) {
		f := files[paths[i]]
		c := &Checked{Path: paths[i], Status: Same, Err: r.CheckFile(ctx, &f, paths[i])}
		switch {
		case errors.Is(c.Err, fs.ErrNotExist):
			c.Status = Missing
		case c.Err != nil:
			c.Status = Altered
		}
		return c, c.Err
	}, tell)
	if err != nil {
		return err
	}
	folders, err := r.Folders()
	if err != nil {
		return err
	}
	for _, folder := range folders {
		err := filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || ctx.Err() != nil {
				return ctx.Err() // what is missing has been reported
			}
			if _, delivered := files[path]; !delivered {
				tell(&Checked{Path: path, Status: Extra})
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// CheckFile compares what is at a path with what was delivered there. What is missing (fs.ErrNotExist) or
// altered is of kind fault.Damaged.
func (r *Receipts) CheckFile(ctx context.Context, f *File, path string) error {
	there, err := r.sites.Find(path)
	switch {
	case err != nil:
		return err
	case there.Info == nil:
		return altered(path, "it is missing: %w", fs.ErrNotExist)
	}
	return f.CheckAs(ctx, path, found{there.Info, there})
}

func altered(path, format string, args ...any) error {
	return fault.At(path, fault.New(fault.Damaged, format, args...).Advise("unpack it again, or make it again"))
}

// Found is a file or link that was found.
type Found interface {
	fs.FileInfo
	Link() (string, error)   // where it leads
	SHA256() (string, error) // of its content, in hexadecimal
}

// found is found by its path.
type found struct {
	fs.FileInfo
	file blob.File
}

func (f found) Link() (string, error) { return os.Readlink(f.file.Path) }

func (f found) SHA256() (string, error) {
	sum := sha256.New()
	_, err := copyOf(f.file, sum)
	return hex.EncodeToString(sum.Sum(nil)), err
}

// CheckAs is CheckFile for what was found at a path.
func (f *File) CheckAs(ctx context.Context, path string, found Found) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	switch {
	case found.Mode()&fs.ModeSymlink != 0:
		to, err := found.Link()
		switch {
		case err != nil:
			return fault.Reading(path, err)
		case f.Type != archive.Symlink.String():
			return altered(path, "it is a link now, and was a file when it was delivered")
		case !f.leads(to):
			return altered(path, "it is a link that leads elsewhere than it did")
		}
		return nil
	case f.Type == archive.Symlink.String():
		return altered(path, "it is no link any more")
	case !found.Mode().IsRegular():
		return altered(path, "it is no file any more")
	case found.Size() != f.Size:
		return altered(path, "it has %d bytes, and had %d when it was delivered", found.Size(), f.Size)
	}
	sum, err := found.SHA256()
	if err != nil {
		return fault.Reading(path, err)
	}
	if sum != f.SHA256 {
		return altered(path, "its content is not what was delivered")
	}
	return nil
}
