package cut

import (
	"context"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/newfile"
	"widecrate/core/parts"
	"widecrate/core/place"
	"widecrate/core/report"
	"widecrate/core/schedule"
	"widecrate/core/storage"
)

// Run says how several sets are joined, or files are cut.
type Run struct {
	Read   *atomic.Int64 // counts the bytes that were read; nil: nobody asks
	DryRun bool          // find out what would be made, and write nothing
	schedule.Options
}

// A Joining is a request to put sets together.
type Joining struct {
	Sets    []*parts.Set
	Into    string // the file; with Each the folder of the files, made if missing; empty: beside the parts
	Each    bool
	Replace bool // what is there already
	Lists   *parts.Lists
	Needs   *disposal.Needs // what no new file may replace; nil: nothing
	Run
}

// Start puts the sets together, several at a time, and reports each in their order: a
// *report.Joined, or in the end a *report.NotTaken where the run halted. One that fails does
// not stop the others. Two that would become the same file are of kind fault.Refused.
func (j Joining) Start(ctx context.Context, tell report.Sink) error {
	targets := make([]string, len(j.Sets))
	taken := map[string]string{}
	for i, set := range j.Sets {
		path, err := filepath.Abs(j.target(set))
		if err != nil {
			return fault.Writing(j.Into, err)
		}
		if first, twice := taken[place.Key(path)]; twice {
			return fault.New(fault.Refused, "%s and %s would both become %s", first, set.Path(), path).Advise("join them one by one, into different folders")
		}
		taken[place.Key(path)], targets[i] = set.Path(), path
	}
	if !j.DryRun && len(targets) > 0 {
		discard, err := folder.Make(filepath.Dir(targets[0])) // one for all of them
		if err != nil {
			return err
		}
		defer discard()
	}
	left, err := schedule.Each(ctx, len(j.Sets), j.Options, func(i int) (*report.Joined, error) {
		r, started := &report.Joined{Source: j.Sets[i].Path(), Path: targets[i], Parts: len(j.Sets[i].Parts), DryRun: j.DryRun}, time.Now()
		r.Err = fault.Guard(func() error { return j.one(ctx, j.Sets[i], r) })
		r.Took = report.Since(started)
		return r, r.Err
	}, func(r *report.Joined) { tell(r) })
	if err == nil {
		tell.Left(left, func(i int) string { return j.Sets[i].Path() })
	}
	return err
}

// target is the file that a set becomes.
func (j *Joining) target(set *parts.Set) string {
	switch {
	case j.Into != "" && !j.Each:
		return j.Into
	case j.Into != "":
		return filepath.Join(j.Into, set.Name)
	}
	return filepath.Join(filepath.Dir(set.Path()), set.Name)
}

func (j *Joining) one(ctx context.Context, set *parts.Set, r *report.Joined) error {
	r.Listless = set.Elsewhere()
	if err := j.Needs.Replace(r.Path); err != nil {
		return err
	}
	if _, err := os.Lstat(r.Path); err == nil && parts.IsList(r.Path) {
		return fault.At(r.Path, fault.New(fault.Refused, "it is a list of sums, and would be replaced").Advise("name another file"))
	}
	if j.DryRun {
		r.Size = set.Size()
		if err := set.Check(); err != nil {
			return fault.At(set.Path(), err)
		}
		return free(newfile.Sites{}, j.Replace, r.Path)
	}
	read := j.Read
	if read == nil {
		read = new(atomic.Int64)
	}
	joined, err := Join(ctx, set, r.Path, j.Replace, j.Lists, read)
	r.Size, r.Summed, r.ZIP = joined.Size, joined.Summed, joined.Zip
	return err
}

// free refuses to write over what is there.
func free(sites newfile.Sites, replace bool, paths ...string) error {
	for _, path := range paths {
		there, err := sites.Find(path)
		if err != nil {
			return err
		}
		if there.Info != nil && (!replace || there.Info.IsDir()) {
			return newfile.Existing(path)
		}
	}
	return nil
}

// A Splitting is a request to cut files.
type Splitting struct {
	Files []string
	Into  string // folder of the parts, made if missing; empty: that of each file
	How   Options
	Run
}

// Start cuts the files, several at a time, and reports each in their order: a *report.Split,
// or in the end a *report.NotTaken where the run halted. One that fails does not stop the
// others. Two that would get parts of the same name are of kind fault.Refused.
func (s Splitting) Start(ctx context.Context, tell report.Sink) error {
	taken := map[string]string{}
	var files []string
	for _, file := range s.Files {
		path := storage.Absolute(s.target(file))
		first, twice := taken[place.Key(path)]
		if twice && same(first, file) { // the same file named twice is cut once
			continue
		}
		if twice {
			return fault.New(fault.Refused, "the parts of %s and %s would have the same names", first, file).Advise("cut them one by one, into different folders")
		}
		taken[place.Key(path)] = file
		files = append(files, file)
	}
	s.Files = files
	if s.Into != "" && !s.DryRun {
		discard, err := s.How.Sites.Ahead(s.Into) // one for all of them
		if err != nil {
			return err
		}
		defer discard()
	}
	left, err := schedule.Each(ctx, len(s.Files), s.Options, func(i int) (*report.Split, error) {
		r, started := &report.Split{Source: s.Files[i], DryRun: s.DryRun}, time.Now()
		r.Err = fault.Guard(func() error { return s.one(ctx, s.Files[i], r) })
		r.Took = report.Since(started)
		return r, r.Err
	}, func(r *report.Split) { tell(r) })
	if err == nil {
		tell.Left(left, func(i int) string { return s.Files[i] })
	}
	return err
}

func same(a, b string) bool {
	x, err := os.Stat(a)
	if err != nil {
		return false
	}
	y, err := os.Stat(b)
	return err == nil && os.SameFile(x, y)
}

// target is what the whole of the parts would be called.
func (s *Splitting) target(file string) string {
	if s.Into == "" {
		return file
	}
	return storage.Join(s.Into, filepath.Base(file))
}

func (s *Splitting) one(ctx context.Context, file string, r *report.Split) error {
	if !s.DryRun {
		written, err := Split(ctx, file, s.Into, s.How, s.Read)
		r.Parts, r.Sums, r.Size = written.Parts, written.List, written.Size
		return err
	}
	if err := s.How.Check(); err != nil {
		return err
	}
	info, err := os.Stat(file)
	switch {
	case err != nil:
		return fault.Reading(file, err)
	case !info.Mode().IsRegular():
		return fault.At(file, fault.New(fault.Unreadable, "it is no file"))
	}
	r.Size = info.Size()
	return free(s.How.Sites, s.How.Replace, s.How.Names(s.target(file))...)
}
