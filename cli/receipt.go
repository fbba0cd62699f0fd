package cli

import (
	"encoding/hex"
	"fmt"
	"path/filepath"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/cli/show"
	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/receipt"
	"widecrate/core/report"
	"widecrate/core/stage"
)

// recordOptions keep what was done.
type recordOptions struct {
	receipt string
	sums    string
	writer  *receipt.Writer // nil: there is no receipt
	list    receipt.Sums
	prefix  string // of paths in it
	lacks   error  // why it lacks a file
}

func (o *recordOptions) addTo(set *option.Set) {
	set.Text(&o.receipt, "receipt")
	set.Text(&o.sums, "sums")
}

// wanted reports whether what is written has to be summed up.
func (o *recordOptions) wanted() bool { return o.receipt != "" || o.sums != "" }

// begin starts the receipt, if there is to be one.
func (o *recordOptions) begin(cmd *cobra.Command, dryRun bool) (err error) {
	if o.receipt == "" || dryRun {
		return nil
	}
	o.writer, err = receipt.Append(o.receipt, receipt.Run{Version: Version, Command: cmd.Name(), Options: shaping(cmd), Started: time.Now().UTC()}, say)
	return err
}

// event takes note of what happened.
func (o *recordOptions) event(e report.Event, into string) {
	switch e := e.(type) {
	case *report.Unpacked:
		if o.writer != nil {
			o.writer.Unpacked(e)
		}
		if o.sums != "" && !e.DryRun {
			o.unpacked(e, into)
		}
	case *report.Created:
		if o.writer != nil && !e.DryRun {
			o.writer.Created(e)
		}
		for i := range e.From {
			if from := e.From[i]; o.sums != "" && from != nil {
				o.list.Add(o.prefix+e.Entries[i].Path, from.SHA256)
			}
		}
	}
}

// unpacked adds files that were delivered to the list of sums: by their paths below
// --into, or whole ones where there are several roots.
func (o *recordOptions) unpacked(e *report.Unpacked, into string) {
	for _, p := range e.Placed {
		if p.Kind != archive.File && p.Kind != archive.Hardlink || p.Action == stage.Skipped || p.Action == stage.Lost {
			continue
		}
		path, sum := p.Path, p.SHA256
		if into != "" {
			if rel, err := filepath.Rel(absolutePath(into), path); err == nil && filepath.IsLocal(rel) {
				path = rel
			}
		}
		if sum == nil {
			var err error
			if sum, err = receipt.SumOf(p.Path); err != nil {
				if o.lacks == nil {
					o.lacks = fault.Reading(p.Path, err)
				}
				continue
			}
		}
		o.list.Add(filepath.ToSlash(path), sum)
	}
}

// finish brings receipt and list to their ends.
func (o *recordOptions) finish(dryRun bool) error {
	if o.writer != nil {
		if err := o.writer.Close(); err != nil {
			return err
		}
	}
	if o.lacks == nil && o.sums != "" && !dryRun {
		return o.list.Write(o.sums)
	}
	return o.lacks
}

// doneOptions skip what was done before.
type doneOptions struct {
	skip   bool
	doneIn []string
}

func (o *doneOptions) addTo(set *option.Set) {
	set.Switch(&o.skip, "skip-done")
	set.Texts(&o.doneIn, "done-in")
}

// load reads the receipts of earlier runs, before a new run is added to the one that
// this run writes. It returns nil where nothing is to be skipped.
func (o *doneOptions) load(cmd *cobra.Command, s *streams, own string) (done func(files []blob.File, target string, content bool) (bool, bool), stop func(), err error) {
	stop = func() {}
	if !o.skip {
		return nil, stop, nil
	}
	paths := o.doneIn
	if own != "" {
		paths = append(paths, own)
	}
	if len(paths) == 0 {
		return nil, stop, usage(cmd, fmt.Errorf("--skip-done needs a --receipt, or --done-in, that says what is done"))
	}
	earlier, err := receipt.Load(paths...)
	if err != nil {
		return nil, stop, err
	}
	for _, remark := range earlier.Remarks {
		s.warn(remark)
	}
	options := shaping(cmd)
	var once sync.Once
	return func(files []blob.File, target string, content bool) (bool, bool) {
		is, all, changed := earlier.Done(files, target, options, content)
		if changed != "" {
			once.Do(func() {
				s.err.Aside("--" + changed + " is not as it was: what was done with other options is done again")
			})
		}
		return is, all
	}, func() { earlier.Close() }, nil
}

// shaping are the options that shape the result, as a receipt has them.
func shaping(cmd *cobra.Command) map[string]string {
	options := option.Shaping(cmd)
	if into := options["into"]; into != "" {
		options["into"] = absolutePath(into)
	}
	if list := options["entry-list"]; list != "" { // what it says counts, not where
		if sum, err := receipt.SumOf(list); err == nil {
			options["entry-list"] = hex.EncodeToString(sum)
		} else { // standard input: nobody knows what it said
			options["entry-list"] = time.Now().String()
		}
	}
	return options
}

// verifyDelivered checks what earlier runs delivered.
func (c *verifyCommand) verifyDelivered(cmd *cobra.Command) error {
	started := time.Now()
	earlier, err := receipt.Load(c.against)
	if err != nil {
		return err
	}
	defer earlier.Close()
	if !receipt.Is(c.against) {
		return fault.Reading(c.against, fault.New(fault.Unreadable, "there is no such receipt"))
	}
	for _, remark := range earlier.Remarks {
		c.warn(remark)
	}
	var failures report.Failures
	right, extra := 0, 0
	err = earlier.Check(cmd.Context(), c.workers, func(d *receipt.Checked) {
		switch {
		case d.Extra:
			extra++
			if c.verbose && c.as.Value() == asText {
				c.out.Printf("extra    %s\n", c.out.Name(d.Path))
			}
		case d.Err == nil:
			right++
		default:
			failures.Add(d.Err)
			c.problem(d.Err)
			if c.as.Value() == asNames {
				c.name(c.out, d.Path)
			}
		}
		if c.as.Value() == asJSON {
			c.json(d)
		}
	})
	if err != nil {
		return err
	}
	if !c.quiet {
		s := c.summary(c.streams)
		s.Printf("%s as delivered", s.Strong(show.Count(right, "file")))
		if n := failures.Count(); n > 0 {
			s.Printf(", %s, reported above", s.Bad(fmt.Sprintf("%d missing or altered", n)))
		}
		if extra > 0 {
			s.Printf("; %d beside them that were not delivered", extra)
			if !c.verbose {
				s.Printf(" (-v names them)")
			}
		}
		s.Printf("; %s\n", show.Took(time.Since(started)))
	}
	if err := failures.Err(); err != nil {
		return reported{err}
	}
	return nil
}
