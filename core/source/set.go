package source

import (
	"context"
	"os"
	"path"
	"time"

	"widecrate/core/fault"
	"widecrate/core/format"
	"widecrate/core/parts"
)

// setOf returns the set that a file is part of, there or not; nil if it is none.
func (f *finder) setOf(name string, info os.FileInfo) *parts.Set {
	if info != nil && !info.Mode().IsRegular() {
		return nil
	}
	set, err := f.sets.Of(name)
	if err != nil {
		return nil // a folder that cannot be listed: the file is taken for itself
	}
	return set
}

// isArchive reports whether a set in a folder is taken for an archive: it is
// called like one, or its first part starts like one.
func (f *finder) isArchive(set *parts.Set, sub string) bool {
	if IsArchive(path.Join(sub, set.Name), f.Archives) || f.inAnySeries(set.Name) {
		return true
	}
	if len(f.Archives) > 0 || set.Kind == parts.Split {
		return len(f.Archives) == 0
	}
	first := &set.Parts[0]
	if first.Info == nil {
		return false
	}
	file, err := first.Data()
	if err != nil {
		return true // the error will be reported
	}
	defer file.Close()
	_, err = format.Identify(file, file.Size())
	return err == nil
}

// await waits for the parts that are still arriving.
func (f *finder) await(ctx context.Context) error {
	if f.Wait <= 0 {
		return nil
	}
	deadline := time.Now().Add(f.Wait)
	for i := range f.found {
		s := &f.found[i]
		m := s.rest()
		if m.err == nil && m.set == nil && !s.Elsewhere() {
			m.set, _ = parts.OfLast(f.sites(), s.Path) // what is wrong with it, the file says
		}
		if m.set == nil {
			continue
		}
		path := s.Path
		set, err := parts.Await(ctx, m.set, deadline, func() (*parts.Set, error) {
			set, err := f.fresh().Of(path)
			if set == nil && err == nil {
				set, err = parts.OfLast(f.sites(), path)
			}
			return set, err
		})
		if ctx.Err() != nil {
			return ctx.Err()
		}
		s.Path, s.more = set.Path(), &more{set: set, called: set.Name, err: err, address: m.address}
	}
	return nil
}

// fresh finds sets in folders as they are now.
func (f *finder) fresh() *parts.Lookup { return &parts.Lookup{Sites: f.sites(), More: f.PartsIn} }

// check finds out what is wrong with a set before any work.
func (s *Source) check() {
	if s.Set() != nil && s.Err() == nil {
		*s = s.Failed(fault.At(s.Path, s.Set().Check()))
	}
}
