package cli

import (
	"encoding/hex"
	"fmt"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/newfile"
	"widecrate/core/receipt"
	"widecrate/core/report"
	"widecrate/core/stage"
	"widecrate/core/storage"
)

// recordOptions keep what was done.
type recordOptions struct {
	receipt   string
	sums      string
	entrySums string
	writer    *receipt.Writer // nil: there is no receipt
	records   newfile.Sites   // where receipts and lists may be
	list      receipt.Sums
	entries   receipt.Sums // of what is in new archives
	several   bool         // archives are made: the list is of them
	single    bool         // of them, there is just one
	lacks     error        // why it lacks a file
	before    bool         // something was done by an earlier run
	lacking   bool         // not all was done that was asked for
}

func (o *recordOptions) addTo(set *option.Set) {
	set.Text(&o.receipt, "receipt")
	set.Text(&o.sums, "sums")
}

// wanted reports whether what is written has to be summed up.
func (o *recordOptions) wanted() bool {
	return o.receipt != "" || o.sums != "" || o.entrySums != ""
}

// begin starts the receipt, if there is to be one, of a run that writes to some folders.
func (o *recordOptions) begin(cmd *cobra.Command, s *streams, roots []string, dryRun bool) (err error) {
	o.records = s.sites
	if shard := cmd.Flags().Lookup("shard"); shard != nil && shard.Changed {
		o.lacking = true // the other shares add to the same lists
	}
	if o.receipt == "" || dryRun {
		return nil
	}
	o.writer, err = receipt.Append(s.sites, o.receipt, receipt.Run{Version: Version, Command: cmd.Name(), Options: shaping(cmd), Started: time.Now().UTC(), Job: s.job, Roots: roots}, say)
	return err
}

// event takes note of what happened.
func (o *recordOptions) event(e report.Event, into string) {
	switch e := e.(type) {
	case *report.Unpacked:
		o.lacking = o.lacking || e.Err != nil
		if o.writer != nil {
			o.writer.Unpacked(e)
		}
		o.before = o.before || e.Done
		if o.sums != "" && !e.DryRun {
			o.unpacked(e, into)
			if e.Earlier != nil {
				for _, f := range e.Earlier.Files {
					o.addDelivered(f.Path, into, f.SHA256)
				}
			}
		}
	case *report.Created:
		o.before = o.before || e.Done
		if o.writer != nil && !e.DryRun {
			o.writer.Created(e)
		}
		o.created(e)
	case *report.Converted:
		o.lacking = o.lacking || e.Err != nil
		o.before = o.before || e.Done
		if o.writer != nil {
			o.writer.Converted(e)
		}
		if e.Err == nil && !e.DryRun {
			o.converted(e)
		}
	case *report.Edited:
		if o.writer != nil {
			o.writer.Edited(e)
		}
	case *report.Disposal:
		if o.writer != nil {
			o.writer.Source(e)
		}
	}
}

// converted adds a new archive to the lists of sums: the archive, and what is in it.
func (o *recordOptions) converted(e *report.Converted) {
	o.archive(written(e.Path, &e.Made), e.SHA256)
	prefix := o.below(e.Path)
	for i, sum := range e.Sums {
		if sum != nil {
			o.entries.Add(prefix+e.Entries[i].Path, sum)
		}
	}
}

// below is a path from the current folder, as one in front of others.
func (o *recordOptions) below(path string) string {
	if !o.several || o.single {
		return ""
	}
	return filepath.ToSlash(storage.Below(storage.Absolute("."), path)) + "/"
}

// created adds a new archive to the lists of sums: what is in it, and where there are several,
// the archive itself.
func (o *recordOptions) created(e *report.Created) {
	prefix := o.below(e.Archive)
	if o.several {
		o.archive(written(e.Archive, &e.Made), e.SHA256)
	}
	for i := range e.From {
		if from := e.From[i]; from.SHA256 != nil {
			o.entries.Add(prefix+e.Entries[i].Path, from.SHA256)
		}
	}
}

// archive adds the files of a new archive to the list of sums, by their paths from where that
// lies. Of those at addresses, the sums are known.
func (o *recordOptions) archive(paths []string, known map[string][]byte) {
	if o.sums == "" {
		return
	}
	for _, path := range paths {
		sum, err := known[path], error(nil)
		if sum == nil {
			sum, err = receipt.SumOf(path)
		}
		if err != nil {
			if o.lacks == nil {
				o.lacks = fault.Reading(path, err)
			}
			continue
		}
		o.list.Add(filepath.ToSlash(storage.Below(storage.Absolute(storage.Dir(o.sums)), path)), sum)
	}
}

// written are the files of a new archive: its own, or its parts.
func written(path string, m *report.Made) []string {
	if m.Parts != nil {
		return m.Parts
	}
	return []string{path}
}

// unpacked adds files that were delivered to the list of sums: by their paths below
// --into, or whole ones where there are several roots.
func (o *recordOptions) unpacked(e *report.Unpacked, into string) {
	for _, p := range e.Placed {
		if p.Kind != archive.File && p.Kind != archive.Hardlink || p.Action == stage.Skipped || p.Action == stage.Lost {
			continue
		}
		sum := p.SHA256
		if sum == nil {
			var err error
			if sum, err = receipt.SumOf(p.Path); err != nil {
				if o.lacks == nil {
					o.lacks = fault.Reading(p.Path, err)
				}
				continue
			}
		}
		o.addDelivered(p.Path, into, sum)
	}
}

// addDelivered adds a file to the list of sums, by its path below --into.
func (o *recordOptions) addDelivered(path, into string, sum []byte) {
	if into != "" {
		path = storage.Below(storage.Absolute(into), path)
	}
	o.list.Add(filepath.ToSlash(path), sum)
}

// finish brings receipt and list to their ends; failed is why the run ended early.
func (o *recordOptions) finish(dryRun bool, failed error) error {
	o.lacking = o.lacking || failed != nil
	if o.writer != nil {
		if err := o.writer.Close(); err != nil {
			return err
		}
	}
	if o.before && o.list.Empty() && o.entries.Empty() { // the list of the earlier run stays
		return o.lacks
	}
	if o.lacks != nil || dryRun {
		return o.lacks
	}
	return o.write()
}

// write writes the lists of sums.
func (o *recordOptions) write() error {
	list := &o.list
	if list.Empty() && !o.several { // one archive was made: both are of what is in it
		list = &o.entries
	}
	for _, l := range []struct {
		list *receipt.Sums
		path string
	}{{list, o.sums}, {&o.entries, o.entrySums}} {
		if l.path == "" {
			continue
		}
		if err := l.list.Write(o.records, l.path, !o.lacking); err != nil {
			return err
		}
	}
	return nil
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

// check finds what is wrong about them; receipt is the one that this run writes.
func (o *doneOptions) check(cmd *cobra.Command, receipt string) error {
	if o.skip && receipt == "" && len(o.doneIn) == 0 {
		return usage(cmd, fmt.Errorf("--skip-done needs a --receipt, or --done-in, that says what is done"))
	}
	return nil
}

// earlier are the receipts of earlier runs, and what this one is asked for.
type earlier struct {
	*receipt.Receipts
	*streams
	asked receipt.Asked
	once  sync.Once
}

// load reads the receipts of earlier runs, before a new run is added to the one that
// this run writes. It returns nil where nothing is to be skipped.
func (o *doneOptions) load(cmd *cobra.Command, s *streams, own string, chosen *selectionOptions) (*earlier, error) {
	if !o.skip {
		return nil, nil
	}
	paths := slices.Clone(o.doneIn)
	if own != "" {
		paths = append(paths, own)
	}
	receipts, err := receipt.Load(s.sites, paths...)
	if err != nil {
		return nil, err
	}
	for _, remark := range receipts.Remarks {
		s.Warn(remark)
	}
	asked := receipt.Asked{Options: shaping(cmd), Since: chosen.since.Time, Until: chosen.until.Time}
	return &earlier{Receipts: receipts, streams: s, asked: asked}, nil
}

// delivered is what was unpacked before of files as they are, to a target.
func (e *earlier) delivered(files []blob.File, target string, content bool) *report.Earlier {
	done, changed := e.Done(files, target, &e.asked, content)
	e.changed(changed)
	return done
}

// converted is the archive that was made before of files as they are, for a path.
func (e *earlier) converted(files []blob.File, target string) *report.Earlier {
	return e.find(receipt.ID(files, target), &e.asked)
}

// made is the archive that was made before of what an identity stands for.
func (e *earlier) made(id string) *report.Earlier {
	return e.find(id, &receipt.Asked{Options: e.asked.Options}) // what dates chose is part of the identity
}

func (e *earlier) find(id string, asked *receipt.Asked) *report.Earlier {
	made, changed := e.Made(id, asked)
	e.changed(changed)
	return made
}

func (e *earlier) changed(option string) {
	if option != "" {
		e.once.Do(func() {
			e.Err.Aside("--" + option + " is not as it was: what was done with other options is done again")
		})
	}
}

// shaping are the options that shape the result, as a receipt has them.
func shaping(cmd *cobra.Command) map[string]string {
	options := option.Shaping(cmd)
	delete(options, "since") // what they choose counts: an age is another time each night
	delete(options, "until")
	if into := options["into"]; into != "" {
		options["into"] = storage.Absolute(into)
	}
	for _, name := range []string{"entry-list", "pick-list"} {
		if options[name] == "" {
			continue
		}
		if sum, err := receipt.SumOf(options[name]); err == nil { // what it says counts, not where
			options[name] = hex.EncodeToString(sum)
		} else { // standard input: nobody knows what it said
			options[name] = time.Now().String()
		}
	}
	return options
}
