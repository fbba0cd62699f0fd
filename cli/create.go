package cli

import (
	"errors"
	"fmt"
	"math"
	"os"
	"runtime"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/cli/show"
	"widecrate/core/archive"
	"widecrate/core/choose"
	"widecrate/core/create"
	"widecrate/core/disposal"
	"widecrate/core/format"
	"widecrate/core/format/zip"
	"widecrate/core/place"
	"widecrate/core/remote"
	"widecrate/core/report"
	"widecrate/core/source"
	"widecrate/core/storage"
)

type createCommand struct {
	*streams
	nameOptions
	selectionOptions
	replacedOption
	recordOptions
	doneOptions
	pageOption
	recording sync.Mutex
	outputOptions
	progressOption
	remoteOptions
	writingOptions
	passwordOptions
	top        option.Choice[bool] // whether to drop it
	links      option.Choice[create.Links]
	names      option.Choice[place.Names]
	clash      option.Choice[create.Existing]
	after      option.Choice[bool] // whether to remove
	under      string
	relativeTo string
	givenOptions
	each         bool
	eachIn       string
	foldersOnly  bool
	encrypt      bool
	reproducible bool
	readBack     bool
	dryRun       bool
	halt         bool
	workers      int
}

func newCreate(s *streams) *cobra.Command {
	c := &createCommand{streams: s, workers: runtime.NumCPU(),
		top:   topChoice(),
		links: option.Either([]string{"keep", "follow", "skip"}, create.KeepLinks, create.FollowLinks, create.SkipLinks),
		clash: clashChoice(),
		names: namesChoice(),
		after: option.Either([]string{"keep", "remove"}, false, true)}
	cmd := &cobra.Command{
		Use:   "create ARCHIVE SOURCE… [OPTION…]",
		Short: "Make an archive, or one for each source",
		Long: `create packs files and folders into one archive, or with --each into one archive
for each. The extension of ARCHIVE decides the format; - is standard output, and
an address by sftp or WebDAV does, too. All sources are looked for before
anything is written, and the archive appears when it is complete. Patterns are
compared with the paths in the archive.`,
		Example: `  widecrate create hand-over.zip landing
  widecrate create hand-over.tar.zst landing --top drop --level best
  widecrate create tables.zip readings corrections --pick "osk*"
  widecrate create "out/{name}.tar.gz" readings bundles --each
  widecrate create "all/{stem}.zip" --each-in corrections --dry-run
  widecrate create notes.zip --text "notes/today.txt=All gauges report."
  widecrate create month.zip readings --part-size 100k --part-style zip
  widecrate create same.zip corrections --reproducible --read-back
  widecrate create sftp://tide@gauges.example/srv/tidewatch/new.zip landing
  widecrate create sent.zip landing --receipt sent.jsonl --sums sent.sums`,
		Args:    takes(1, math.MaxInt, "archive"),
		PreRunE: c.check,
		RunE:    c.run,
	}
	set := option.Of(cmd)
	set.Named(create.EachPlaceholders...)
	set.Group("The archive", func() {
		c.writingOptions.addTo(set)
		set.Value(&c.clash, "clash")
		c.replacedOption.addTo(set)
		set.Switch(&c.encrypt, "encrypt")
		c.passwordOptions.addTo(set)
		set.Switch(&c.reproducible, "reproducible")
		set.Switch(&c.each, "each")
		set.Text(&c.eachIn, "each-in")
		set.Switch(&c.foldersOnly, "folders-only")
	})
	set.Group("Which files", func() {
		c.nameOptions.addTo(set)
		c.givenOptions.addTo(set)
		set.Value(&c.links, "links")
		c.selectionOptions.addTo(set)
	})
	set.Group("Their paths in it", func() {
		set.Value(&c.top, "top")
		set.Text(&c.under, "under")
		set.Text(&c.relativeTo, "relative-to")
		set.Value(&c.names, "names")
	})
	set.Group("How it runs", func() {
		set.Switch(&c.dryRun, "dry-run")
		set.Switch(&c.readBack, "read-back")
		set.Switch(&c.halt, "halt")
		set.Value(&c.after, "after")
		set.Number(&c.workers, "workers", 1)
	})
	set.Group("Where it goes, at an address", func() { c.remoteOptions.addTo(set) })
	set.Group("What was done", func() {
		c.recordOptions.addTo(set)
		set.Text(&c.entrySums, "entry-sums")
		c.doneOptions.addTo(set)
		c.pageOption.addTo(set)
	})
	set.Group("What is printed", func() {
		c.outputOptions.addTo(set, "csv")
		c.progressOption.addTo(set)
	})
	return cmd
}

// writingOptions shape the archives that are written.
type writingOptions struct {
	cutOptions
	format, method string
	level          option.Level
}

func (o *writingOptions) addTo(set *option.Set) {
	set.Offered(&o.format, "format", format.Writable()...)
	set.Offered(&o.method, "method", zip.Format.Methods...)
	set.Value(&o.level, "level")
	o.cutOptions.addTo(set)
}

// writing turns them into what the core wants.
func (o *writingOptions) writing(workers int) archive.WriteOptions {
	w := archive.WriteOptions{Method: o.method, Encode: o.level.Options}
	w.Encode.Workers = workers
	return w
}

func (c *createCommand) check(cmd *cobra.Command, args []string) error {
	if err := c.checkNames(cmd, args[1:]); err != nil {
		return err
	}
	switch {
	case args[0] == "-" && (c.as.Value() != show.People || c.each || c.dryRun || c.format == ""):
		return usage(cmd, errors.New("an archive on standard output needs --format, and neither --as, --each nor --dry-run goes with it"))
	case args[0] == "-" && c.Out.Terminal:
		return usage(cmd, errors.New("standard output is a terminal; send the archive to a file or another command"))
	}
	if err := c.remoteOptions.check(cmd); err != nil {
		return err
	}
	if err := c.doneOptions.check(cmd, c.receipt); err != nil {
		return err
	}
	if err := c.checkNew(cmd, c.encrypt); err != nil {
		return err
	}
	if _, err := choose.New(c.rules); err != nil {
		return err
	}
	o, err := c.options(cmd, args[0], args[1:])
	if err != nil {
		return err
	}
	if c.encrypt {
		o.Writing.Password = "known later"
	}
	return o.Check()
}

// checkNames finds what is wrong about which files are named.
func (c *createCommand) checkNames(cmd *cobra.Command, sources []string) error {
	c.each = c.each || c.eachIn != ""
	switch named := len(sources) > 0 || c.sourceList != ""; {
	case c.eachIn != "" && named:
		return usage(cmd, errors.New("--each-in takes the place of sources"))
	case c.eachIn == "" && !named && c.count() == 0:
		return usage(cmd, lacking{errors.New("no source is named: the first name is the new archive, and what is packed comes after it")})
	}
	return onceInput(cmd, sources)
}

func (c *createCommand) run(cmd *cobra.Command, args []string) (err error) {
	c.apply(c.streams)
	c.Deeds()
	if !c.dryRun {
		c.pageOption.begin(cmd, c.streams)
		defer c.pageOption.finish(&err)
	}
	c.connect(cmd, c.streams)
	sources, err := c.files(cmd, args[1:])
	if c.eachIn != "" {
		sources, err = create.Things(c.eachIn, c.foldersOnly)
	}
	if err != nil {
		return err
	}
	o, err := c.options(cmd, args[0], sources)
	if err == nil {
		err = c.checkWritten(cmd, named(o.Sources), o.Archive)
	}
	if err == nil {
		o.Selection, err = c.selection(cmd)
	}
	if err == nil {
		o.Writing.Password, err = c.newPassword(cmd, c.streams, c.encrypt)
	}
	if err != nil {
		return err
	}
	earlier, err := c.load(cmd, c.streams, c.receipt, &c.selectionOptions)
	if err != nil {
		return err
	}
	if earlier != nil {
		defer earlier.Close()
		o.Done = earlier.made
	}
	c.several = c.each
	k := keeping{named: []string{storage.Dir(beforeNames(args[0]))}}
	k.options(cmd)
	if err := c.recordOptions.begin(cmd, c.streams, k.roots(), c.dryRun); err != nil {
		return err
	}
	if c.wanted() && !c.dryRun {
		o.Made = c.made
	}
	o.Hash = o.Made != nil || c.Form == show.CSV
	if c.each {
		err = c.runEach(cmd, args[0], o)
	} else {
		err = c.runOne(cmd, o)
	}
	return c.both(err, c.recordOptions.finish(c.dryRun, err))
}

// named are files that are packed, as sources.
func named(paths []string) (sources []source.Source) {
	for _, path := range paths {
		sources = append(sources, source.Source{Path: path})
	}
	return sources
}

// made takes note of an archive, for all workers.
func (c *createCommand) made(r *report.Created) error {
	c.recording.Lock()
	defer c.recording.Unlock()
	c.recordOptions.event(r, "")
	if c.writer == nil || remote.IsAddress(c.receipt) && !c.after.Value() { // there, all of it is sent each time
		return nil
	}
	return c.writer.Sync()
}

func (c *createCommand) runOne(cmd *cobra.Command, o create.Options) error {
	var read, found atomic.Int64
	o.Read, o.Found = &read, &found
	all := show.Creations{Output: &c.Output, DryRun: c.dryRun, Single: true, Started: time.Now()}
	stop := c.startBytes(c.streams, c.quiet, &read, &found)
	r, err := create.Run(cmd.Context(), o)
	stop()
	if r != nil {
		all.Add(r)
		c.pageOption.event(r)
		c.Created(r, c.encrypt)
	}
	if err != nil {
		return err
	}
	all.Finish()
	return c.ending(cmd, &all.Failures, o.Selection, r.Files, r.LeftOut, c.quiet)
}

// folders are those of which an archive each is made: none takes the place of what another is made of.
func (c *createCommand) folders(sources []string) (folders []disposal.Needed) {
	for _, path := range sources {
		if c.each && isFolder(path) {
			folders = append(folders, disposal.Needed{Path: path, What: "in a source"})
		}
	}
	return folders
}

// options are what the core is asked for, but for what takes reading.
func (c *createCommand) options(cmd *cobra.Command, archive string, sources []string) (o create.Options, err error) {
	o = create.Options{Archive: archive, Sources: sources, DropTop: c.top.Value(), Under: inside(c.under), RelativeTo: c.relativeTo,
		Links: c.links.Value(), Names: c.names.Value(), Existing: c.clash.Value(), Sites: c.guarded(cmd, named(sources), c.folders(sources)...), Keep: c.keepIn(), Writing: c.writing(c.workers), ReadBack: c.readBack, Remove: c.after.Value(),
		Halt: c.halt, DryRun: c.dryRun, Workers: c.workers}
	if !c.each {
		if o.Archive, err = place.Dated(o.Archive, time.Now()); err != nil {
			return o, err
		}
	}
	if o.Format, err = create.FormatOf(archive, c.format); err != nil {
		return o, err
	}
	if o.Cut, err = c.cut(cmd); err != nil {
		return o, err
	}
	if archive == "-" {
		o.Output = c.Out
	}
	if err := c.give(cmd, &o); err != nil {
		return o, err
	}
	if c.reproducible {
		epoch, err := sourceDate()
		if err != nil {
			return o, usage(cmd, err)
		}
		o.Epoch = &epoch
	}
	return o, nil
}

// clashChoice is what happens to archives that exist already.
func clashChoice() option.Choice[create.Existing] {
	return option.Either([]string{"refuse", "replace", "number"}, create.Refuse, create.Replace, create.Number)
}

// namesChoice is what becomes of names that some common system cannot hold.
func namesChoice() option.Choice[place.Names] {
	return option.Either([]string{"as-is", "portable"}, place.AsIs, place.Portable)
}

// topChoice is whether the name of a source folder is dropped.
func topChoice() option.Choice[bool] {
	return option.Either([]string{"keep", "drop"}, false, true)
}

// sourceDate is the time of all entries: that of the environment, or else the
// first that a ZIP can hold.
func sourceDate() (time.Time, error) {
	const variable = "SOURCE_DATE_EPOCH"
	text, set := os.LookupEnv(variable)
	if !set {
		return time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC), nil
	}
	seconds, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return time.Time{}, fmt.Errorf("%s is no number of seconds: %q", variable, text)
	}
	return time.Unix(seconds, 0).UTC(), nil
}

// runEach makes one archive for each source.
func (c *createCommand) runEach(cmd *cobra.Command, text string, o create.Options) error {
	name, err := place.NewTemplate(text, create.EachPlaceholders...)
	if err != nil {
		return err
	}
	var read, done atomic.Int64
	o.Read = &read
	all := show.Creations{Output: &c.Output, DryRun: c.dryRun, Started: time.Now()}
	stop := c.startArchives(c.streams, c.quiet, &read, &done, len(o.Sources))
	err = create.RunEach(cmd.Context(), o, name, func(e report.Event) {
		done.Add(1)
		c.pageOption.event(e)
		switch e := e.(type) {
		case *report.Created:
			all.Add(e)
			c.Created(e, c.encrypt)
		case *report.Failed:
			all.Failures.Add(e.Err)
			c.Failed(e.Err)
		default:
			c.Event(e)
		}
	})
	stop()
	if err != nil {
		return err
	}
	all.Finish()
	return c.ending(cmd, &all.Failures, o.Selection, all.Files, all.LeftOut, c.quiet)
}
