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
	"widecrate/core/fault"
	"widecrate/core/remote"
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

// CheckFile is File.Check for what may be at an address.
func (r *Receipts) CheckFile(ctx context.Context, f *File, path string) error {
	if !remote.IsAddress(path) {
		return f.Check(ctx, path)
	}
	there, err := r.sites.Find(path)
	switch {
	case err != nil:
		return err
	case there.Info == nil:
		return altered(path, "it is missing: %w", fs.ErrNotExist)
	case there.Size() != f.Size:
		return altered(path, "it has %d bytes, and had %d when it was delivered", there.Size(), f.Size)
	}
	sum := sha256.New()
	if _, err := copyOf(there, sum); err != nil {
		return err
	}
	if hex.EncodeToString(sum.Sum(nil)) != f.SHA256 {
		return altered(path, "its content is not what was delivered")
	}
	return ctx.Err()
}

func altered(path, format string, args ...any) error {
	return fault.At(path, fault.New(fault.Damaged, format, args...).Advise("unpack it again, or make it again"))
}

// Check compares a file on disk with what was delivered. What is missing (fs.ErrNotExist) or
// altered is of kind fault.Damaged.
func (f *File) Check(ctx context.Context, path string) error {
	info, err := os.Lstat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return altered(path, "it is missing: %w", fs.ErrNotExist)
	case err != nil:
		return fault.Reading(path, err)
	}
	return f.CheckAs(ctx, path, onDisk{info, path})
}

// Found is a file or link that was found.
type Found interface {
	fs.FileInfo
	Link() (string, error)   // where it leads
	SHA256() (string, error) // of its content, in hexadecimal
}

// onDisk is found by its path.
type onDisk struct {
	fs.FileInfo
	path string
}

func (d onDisk) Link() (string, error) { return os.Readlink(d.path) }

func (d onDisk) SHA256() (string, error) {
	sum, err := SumOf(d.path)
	return hex.EncodeToString(sum), err
}

// CheckAs is Check for what was found at a path.
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
