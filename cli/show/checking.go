package show

import (
	"fmt"
	"strings"
	"time"

	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/receipt"
	"widecrate/core/report"
)

// Checking shows what is found in archives that are verified, and in the end what all
// of it comes to.
type Checking struct {
	*Output
	Single  bool // there is one source
	DryRun  bool // nothing is checked
	Started time.Time

	Entries                                     int
	LeftOut                                     choose.Tally
	Failures                                    report.Failures
	List                                        receipt.Sums // of what was checked
	good, bad, unsafe, incomplete, unknown, sum int
	damaged                                     int // entries
	bytes                                       int64
	sources                                     disposals
	remarks                                     report.Remarks
}

// Event takes note of what happened, and shows what is wrong.
func (c *Checking) Event(e report.Event) {
	switch e := e.(type) {
	case *report.Verified:
		c.archive(e)
	case *report.Disposal:
		c.sources.add(e)
		c.note(e.Err)
	}
	c.Output.Event(e)
	if r, ok := e.(*report.Verified); ok {
		c.name(r)
	}
}

func (c *Checking) archive(r *report.Verified) {
	c.Entries += r.Entries
	c.sum += r.Sums
	c.bytes += r.Bytes
	c.damaged += r.Damaged
	c.LeftOut.Add(r.LeftOut)
	c.remarks.Add(r.Archive, r.Remarks)
	for _, f := range r.Files {
		path := f.Path
		if !c.Single {
			path = strings.ReplaceAll(r.Archive, " › ", "/") + "/" + path
		}
		c.List.Add(path, f.SHA256)
	}
	c.note(r.Err)
	for _, b := range r.Bad {
		c.Failures.Add(b.Err)
		c.Problem(fmt.Errorf("%w (its header is at offset %s)", b.Err, Number(int(b.Offset))))
	}
	switch kind := fault.Of(r.Err); {
	case r.Damaged > 0 || r.Err != nil && kind == fault.Damaged:
		c.bad++
	case len(r.Bad) > 0:
		c.unsafe++
	case r.Err != nil && kind == fault.Incomplete:
		c.incomplete++
	case r.Err != nil:
		c.unknown++
	default:
		c.good++
	}
}

// note takes note of a failure, if it is one, and shows it.
func (c *Checking) note(err error) {
	if err != nil {
		c.Failures.Add(err)
		c.Problem(err)
	}
}

// name prints an archive where the form asks for that.
func (c *Checking) name(r *report.Verified) {
	switch {
	case c.Form == Names && (r.Err != nil || len(r.Bad) > 0):
		c.Name(r.Archive)
	case c.Form == People && c.DryRun && r.Err == nil && !c.Quiet:
		c.Out.Printf("%s\n", c.Out.Name(r.Archive))
	case c.Form == People && c.Verbose && r.Err == nil:
		with := ""
		if r.Passwords != nil {
			with = "; " + opened(r.Passwords)
		}
		c.Out.Printf("%s  %s, %s%s\n", c.Out.Name(r.Archive), Count(r.Entries, "file"), Size(r.Bytes), with)
	}
}

// Finish says what all of it comes to.
func (c *Checking) Finish() {
	c.Output.Event(&report.Ended{Archives: c.good, Failed: c.bad + c.unsafe + c.incomplete + c.unknown, Files: c.Entries, Bytes: c.bytes, LeftOut: c.LeftOut, DryRun: c.DryRun, Took: report.Since(c.Started)})
	if c.Quiet {
		return
	}
	s := c.Summary()
	if c.DryRun {
		s.Printf("%s would be verified\n", s.Strong(Count(c.good, "archive")))
		return
	}
	c.sources.tell(s, false)
	tellRemarks(s, c.remarks)
	s.Printf("%s verified: %s, %s decoded, %s checked against a checksum%s; %s\n", s.Strong(Count(c.good, "archive")),
		Count(c.Entries, "file"), Size(c.bytes), Number(c.sum), left(&c.LeftOut), Took(time.Since(c.Started)))
	if c.bad > 0 {
		entries := ""
		if c.damaged > 0 {
			entries = ": " + Count(c.damaged, "damaged entry")
		}
		s.Printf("%s%s, reported above\n", s.Bad(Count(c.bad, "archive")+" damaged"), entries)
	}
	for _, other := range []struct {
		n    int
		what string
	}{{c.unsafe, "unsafe"}, {c.incomplete, "incomplete"}, {c.unknown, "could not be checked"}} {
		if other.n > 0 {
			s.Printf("%s, reported above\n", s.Bad(Count(other.n, "archive")+" "+other.what))
		}
	}
}

// Delivered shows whether what was delivered is still as it was.
type Delivered struct {
	*Output
	Started time.Time

	Failures     report.Failures
	right, extra int
}

// File takes note of a file, and shows what is wrong with it.
func (d *Delivered) File(f *receipt.Checked) {
	switch {
	case f.Status == receipt.Extra:
		d.extra++
		if d.Verbose && d.Form == People {
			d.Out.Printf("extra    %s\n", d.Out.Name(f.Path))
		}
	case f.Err == nil:
		d.right++
	default:
		d.Failures.Add(f.Err)
		d.Problem(f.Err)
		if d.Form == Names {
			d.Name(f.Path)
		}
	}
	d.Event(f)
}

// Finish says what all of it comes to.
func (d *Delivered) Finish() {
	if d.Quiet {
		return
	}
	s := d.Summary()
	s.Printf("%s as delivered", s.Strong(Count(d.right, "file")))
	if n := d.Failures.Count(); n > 0 {
		s.Printf(", %s, reported above", s.Bad(fmt.Sprintf("%d missing or altered", n)))
	}
	if d.extra > 0 {
		s.Printf("; %d beside them that were not delivered", d.extra)
		if !d.Verbose {
			s.Printf(" (-v names them)")
		}
	}
	s.Printf("; %s\n", Took(time.Since(d.Started)))
}
