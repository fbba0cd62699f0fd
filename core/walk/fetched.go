package walk

import (
	"context"
	"crypto/sha256"
	"errors"
	"hash"
	"io"
	"os"
	"path/filepath"

	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/newfile"
	"widecrate/core/parts"
	"widecrate/core/place"
	"widecrate/core/remote"
	"widecrate/core/source"
)

// openFetched opens what lies at an address after all of it was fetched into the folder of the
// opening, as it came.
func openFetched(ctx context.Context, s source.Source, o Opening) (*Archive, error) {
	f, err := fetchTo(ctx, s.Address(), o)
	if err != nil {
		return nil, err
	}
	data, err := f.Open()
	if err != nil {
		return nil, err
	}
	o.Name = f.Info.Name()
	opened, err := newArchive(data, o).open()
	if err == nil {
		opened.Files = []blob.File{f}
	}
	return wholeSet(ctx, s, o, opened, err)
}

// fetchSet is a set whose parts at addresses were fetched before.
func fetchSet(ctx context.Context, set *parts.Set, o Opening) (*parts.Set, error) {
	fetched := *set
	fetched.Parts = nil
	for _, p := range set.Parts {
		if at, elsewhere := p.Info.(blob.Info); elsewhere {
			f, err := fetchTo(ctx, at.At, o)
			if err != nil {
				return nil, err
			}
			p.File = f
		}
		fetched.Parts = append(fetched.Parts, p)
	}
	return &fetched, nil
}

// fetchTo fetches what lies at an address into a folder, whole or not at all, and returns it as
// what is there, with its SHA-256. The same that is in the folder already stays; another of its
// name stays, too, and the new one gets a number.
func fetchTo(ctx context.Context, at *remote.Address, o Opening) (f blob.File, err error) {
	resource, err := at.Open(ctx, 0)
	if err != nil {
		return f, fault.At(at.String(), err)
	}
	in := resource.Reader(ctx)
	defer in.Close()
	name, err := place.Name(resource.Name)
	if err == nil {
		err = place.Holds(name)
	}
	if err != nil {
		return f, fault.At(at.String(), err)
	}
	files, err := newfile.Sites{}.CreateIn(o.Fetched)
	if err != nil {
		return f, err
	}
	out, err := files.Next()
	if err != nil {
		return f, errors.Join(fault.Writing(o.Fetched, err), files.Discard())
	}
	meter := arriving(ctx, o.Limits.Total, o.Kept)
	meter.Sums = []hash.Hash{sha256.New()}
	if _, err = io.Copy(out, meter.Reader(in)); err == nil && resource.Encoding != "" && gzipInside(out) {
		err = remote.PackedOnceMore(resource.Encoding)
	}
	if err == nil {
		err = fault.Writing(o.Fetched, out.Sync())
	}
	if closed := out.Close(); err == nil {
		err = fault.Writing(o.Fetched, closed)
	}
	if err != nil {
		return f, fault.At(at.String(), errors.Join(err, files.Discard()))
	}
	path, err := settleAs(files, o.Fetched, name)
	if err != nil {
		return f, err
	}
	if resource.Size < 0 {
		info, err := os.Stat(path)
		if err != nil {
			return f, fault.Reading(path, err)
		}
		resource.Size = info.Size()
	}
	f = blob.RemoteFile(resource)
	f.Path, f.SHA256 = at.String(), meter.Sums[0].Sum(nil)
	f.Open = func() (blob.Blob, error) { return blob.Open(path) }
	return f, nil
}

// settleAs gives a new file a name that is free, unless the same is there.
func settleAs(files *newfile.NewFiles, dir, name string) (path string, err error) {
	mine, err := files.Find(0)
	if err != nil {
		return "", errors.Join(err, files.Discard())
	}
	for n := 1; ; n++ {
		as := place.Numbered(name, n)
		path = filepath.Join(dir, as)
		there, err := os.Lstat(path)
		switch {
		case errors.Is(err, os.ErrNotExist):
			if err = files.Commit([]string{as}); err == nil || !errors.Is(err, fault.Refused) {
				return path, err
			}
			return "", err // somebody else has just put it there
		case err != nil:
			return "", errors.Join(fault.Writing(path, err), files.Discard())
		case there.Mode().IsRegular():
			same, err := blob.EqualFiles(mine, blob.File{Path: path, Info: there})
			if err != nil || same {
				return path, errors.Join(err, files.Discard())
			}
		}
	}
}
