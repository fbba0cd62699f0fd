package receipt

import (
	"context"
	"encoding/hex"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/report"
)

// Asked is what a run is asked for that shapes its result: what was done with anything else
// is done again.
type Asked struct {
	Options      map[string]string // but for dates
	Since, Until time.Time         // what they choose counts, and not how they are written
}

// differs names an option with which a unit was done otherwise; empty: there is none.
func (e *entry) differs(asked *Asked) string {
	dated := !asked.Since.IsZero() || !asked.Until.IsZero()
	switch {
	case e.dates == nil && dated, e.dates != nil && !e.dates.Same(asked.Since, asked.Until):
		if !asked.Until.IsZero() && asked.Since.IsZero() {
			return "until"
		}
		return "since"
	}
	return differ(e.run.Options, asked.Options)
}

// find is the unit that counts for an identity; nil: there is none, or it is to be done
// again. Where only the options differ, why says so.
func (r *Receipts) find(id string) *entry {
	at, known := r.byID[identityOf(id)]
	if !known {
		return nil
	}
	if e := &r.units[at]; !e.failed && !e.lost && e.run != nil {
		return e
	}
	return nil
}

// Done is what was delivered before of files, as they are, to a target with the same
// options, if all of it is still there, of the same size and time, and where that is asked
// for with the same content; nil if it is not. Where only the options differ, why says so.
func (r *Receipts) Done(files []blob.File, target string, asked *Asked, content bool) (done *report.Earlier, why string) {
	e := r.find(ID(files, target))
	if e == nil {
		return nil, ""
	}
	if changed := e.differs(asked); changed != "" {
		return nil, changed
	}
	rows, err := e.rows()
	if err != nil || len(rows) != e.files {
		return nil, ""
	}
	done = &report.Earlier{All: !e.partial}
	for i := range rows {
		f := &rows[i]
		path := filepath.Join(e.root, filepath.FromSlash(f.Path))
		if !r.isThere(f, path) && !r.replaced(path) || content && r.CheckFile(context.Background(), f, path) != nil {
			return nil, ""
		}
		if sum, err := hex.DecodeString(f.SHA256); err == nil && len(sum) > 0 {
			done.Files = append(done.Files, report.Packed{Path: path, SHA256: sum})
		}
	}
	return done, ""
}

// Made is the archive that was made of what an identity stands for, with the same options,
// if all of it is still there, of the same size and time; nil if it is not. Where only the
// options differ, why says so.
func (r *Receipts) Made(id string, asked *Asked) (made *report.Earlier, why string) {
	e := r.find(id)
	if e == nil || !e.made {
		return nil, ""
	}
	if changed := e.differs(asked); changed != "" {
		return nil, changed
	}
	var u Unit
	if e.whole(&u) != nil {
		return nil, ""
	}
	made = &report.Earlier{All: !e.partial}
	for _, p := range u.Parts {
		f := File{Size: p.Size, Modified: p.Modified, SHA256: p.SHA256}
		if !r.isThere(&f, p.Path) {
			return nil, ""
		}
		made.Paths = append(made.Paths, p.Path)
	}
	rows, err := e.rows()
	if err != nil {
		return nil, ""
	}
	for i := range rows {
		if sum, err := hex.DecodeString(rows[i].SHA256); err == nil && len(sum) > 0 {
			made.Files = append(made.Files, report.Packed{Path: rows[i].Path, SHA256: sum})
		}
	}
	return made, ""
}

// replaced reports whether a later archive has delivered a file in place of what is
// asked for, and that is still there.
func (r *Receipts) replaced(path string) bool {
	r.latest.Do(func() { r.delivered, _ = r.Delivered() }) // what cannot be read is done again
	f, known := r.delivered[path]
	return known && r.isThere(&f, path)
}

// differ names an option that is not the same; empty if all are.
func differ(a, b map[string]string) string {
	for name, value := range a {
		if b[name] != value {
			return name
		}
	}
	for name := range b {
		if _, both := a[name]; !both {
			return name
		}
	}
	return ""
}

// isThere reports whether what was delivered is there, of the same size and time.
func (r *Receipts) isThere(f *File, path string) bool {
	now, err := r.sites.Identify(path)
	switch {
	case err != nil || now.Info == nil:
		return false
	case !now.Info.Mode().IsRegular():
		to, err := os.Readlink(path)
		return err == nil && f.leads(to)
	}
	return f.fits(now.Info)
}

// fits reports whether what is found has the size and time of what was delivered.
func (f *File) fits(info fs.FileInfo) bool {
	return info.Size() == f.Size && info.ModTime().Truncate(time.Microsecond).Equal(f.Modified.Truncate(time.Microsecond))
}

// leads reports whether what was delivered is a link that leads there.
func (f *File) leads(to string) bool {
	return f.Type == archive.Symlink.String() && (f.Link == "" || filepath.ToSlash(to) == f.Link)
}
