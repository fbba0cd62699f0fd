package show

import (
	"time"

	"widecrate/core/archive"
	"widecrate/core/choose"
	"widecrate/core/report"
	"widecrate/core/storage"
)

// Created shows a new archive, which is locked, perhaps.
func (o *Output) Created(r *report.Created, locked bool) {
	s := o.Summary()
	if r.Archive == "-" {
		s = o.Err
	}
	if o.Verbose || r.DryRun && o.Form == People {
		o.packed(s, r)
	}
	o.Result(r, written(r.Archive, &r.Made), func(*Screen) { o.madeOf(s, r, locked) })
	s.Flush()
}

func (o *Output) packed(s *Screen, r *report.Created) {
	size, path := Column{Width: len("  1023 KiB"), Right: true}, Column{Short: true}
	for _, e := range r.Entries {
		path.Width = max(path.Width, Width(s.Name(e.Path)))
	}
	columns := []Column{size, {Width: 1}, {Width: 9, Right: true}, {Width: len("deflate")}, path}
	if r.DryRun {
		columns = []Column{size, path}
	}
	t := NewTable(s, columns...)
	for _, e := range r.Entries {
		switch {
		case e.Kind == archive.Folder:
		case r.DryRun:
			t.Row(Size(e.Size), s.Name(e.Path))
		case e.Kind == archive.File:
			t.Row(Size(e.Size), "→", Size(e.Packed), e.Method, s.Name(e.Path))
		}
	}
}

func (o *Output) madeOf(s *Screen, r *report.Created, locked bool) {
	if r.Done {
		s.Printf("%s: nothing in it has changed since it was made; %s\n", s.Strong(s.Name(r.Archive)), Count(r.Files, "file"))
		if r.Kept != "" {
			s.Printf("The sources were kept: %s\n", r.Kept)
		}
		return
	}
	if r.Parts == nil { // else they are what there is
		s.Printf("%s\n", s.Strong(s.Name(r.Archive)))
	}
	if r.DryRun {
		s.Printf("%s, %s would be packed%s\n", Count(r.Files, "file"), Size(r.Size), left(&r.LeftOut))
		if r.Spelt > 0 {
			s.Printf("%s would be changed, so that every system can hold them.\n", Count(r.Spelt, "path"))
		}
		return
	}
	saved := ""
	if r.Packed < r.Size {
		saved = ": " + s.Good(Saved(r.Size, r.Packed)) + " saved"
	}
	s.Printf("%s, %s packed into %s%s%s; %s\n", Count(r.Files, "file"), Size(r.Size), Size(r.Packed), saved,
		left(&r.LeftOut), Took(r.Took.Duration))
	if r.Parts != nil {
		tellParts(s, r.Parts, r.Sums)
	}
	if locked {
		s.Printf("Locked with AES-256; the names of the entries are not hidden, and openers built into desktop systems often cannot read it.\n")
	}
	if r.ReadBack > 0 {
		s.Printf("%s read back, folders too: each is as it was packed\n", Count(r.ReadBack, "entry"))
	}
	switch {
	case r.Kept != "":
		s.Printf("The sources were kept: %s\n", s.Name(r.Kept))
	case r.Removed > 0:
		s.Printf("%s removed\n", Count(r.Removed, "source file"))
	}
	if r.Spelt > 0 {
		s.Printf("%s changed, so that every system can hold them.\n", Count(r.Spelt, "path"))
	}
	if r.Clamped > 0 {
		s.Printf("%s beyond what a %s can hold, which became the nearest that it can.\n", Count(r.Clamped, "time"), r.Format)
	}
	if r.Itself {
		s.Printf("The archive lies in a folder that was packed, and was left out of itself.\n")
	}
}

// tellParts says what parts were written.
func tellParts(s *Screen, parts []string, sums string) {
	names := storage.Base(parts[0])
	if len(parts) > 1 {
		names += " … " + storage.Base(parts[len(parts)-1])
	}
	s.Printf("%s in %s: %s\n", s.Strong(Count(len(parts), "part")), s.Name(storage.Dir(sums)), s.Name(names))
	s.Printf("SHA-256 sums in %s\n", s.Name(storage.Base(sums)))
}

// Creations are what several new archives come to.
type Creations struct {
	*Output
	DryRun  bool
	Single  bool // one archive is made
	Started time.Time

	Files        int
	LeftOut      choose.Tally
	Failures     report.Failures
	archives     int
	done         int // by an earlier run
	size, packed int64
}

// Add takes an archive into account.
func (c *Creations) Add(r *report.Created) {
	if r.Done {
		c.done++
	} else {
		c.archives++
	}
	c.Files += r.Files
	c.size += r.Size
	c.packed += r.Packed
	c.LeftOut.Add(r.LeftOut)
}

// Finish says what they come to.
func (c *Creations) Finish() {
	c.Event(&report.Ended{Archives: c.archives, Done: c.done, Failed: c.Failures.Count(), Files: c.Files, Bytes: c.packed, LeftOut: c.LeftOut, DryRun: c.DryRun, Took: report.Since(c.Started)})
	s := c.Summary()
	switch archives := s.Strong(Count(c.archives, "archive")); {
	case c.Quiet || c.Single:
	case c.DryRun:
		s.Printf("%s would be made: %s, %s would be packed\n", archives, Count(c.Files, "file"), Size(c.size))
	default:
		s.Printf("%s made: %s, %s packed into %s\n", archives, Count(c.Files, "file"), Size(c.size), Size(c.packed))
	}
}
