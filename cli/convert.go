package cli

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/cli/show"
	"widecrate/core/create"
	"widecrate/core/format"
	"widecrate/core/format/zip"
	"widecrate/core/place"
	"widecrate/core/report"
	"widecrate/core/revise"
)

type convertCommand struct {
	*streams
	archiveOptions
	outputOptions
	progressOption
	pageOption
	listOption
	recordOptions
	doneOptions
	replacedOption
	afterOptions
	writingOptions
	place.Placement
	to, under string
	clash     option.Choice[create.Existing]
	encrypt   bool
	newEnv    string
	workers   int
	readBack  bool
	halt      bool
	dryRun    bool
}

func newConvert(s *streams) *cobra.Command {
	c := &convertCommand{streams: s, clash: clashChoice()}
	cmd := &cobra.Command{
		Use:   "convert SOURCE… --to FORMAT [OPTION…]",
		Short: "Rewrite archives in another format, method or lock",
		Long: `convert rewrites archives (files, folders, addresses, or - for standard input)
in another format, method or level, locked, in parts, or with other paths, with
no files in between. Entries that need no new packing are copied as they are.
What the new format cannot hold is reported. A new archive has the name of the
old one with another extension, and appears when it is complete. The old one
stays, unless --after says otherwise: it goes when the new one was read back and
has all of it.`,
		Example: `  widecrate convert bundles --to tar.zst --into packed
  widecrate convert corrections --to zip --method zstd --into smaller
  widecrate convert survey/grids.tar.gz.001 --to zip --into x --peel 1
  widecrate convert bundles --to zip --into may --ext zip --under 2026
  widecrate convert readings --to tar.gz --into kept --after move=old`,
		PreRunE: c.check,
		RunE:    c.run,
	}
	set := option.Of(cmd)
	c.archiveOptions.addTo(set, false, true)
	set.Group("The new archives", func() {
		set.Offered(&c.to, "to", format.Writable()...)
		set.Offered(&c.method, "method", zip.Format.Methods...)
		set.Value(&c.level, "level")
		c.cutOptions.addTo(set)
		set.Text(&c.Into, "into")
		set.Value(&c.clash, "clash")
		c.replacedOption.addTo(set)
		set.Switch(&c.encrypt, "encrypt")
		set.Text(&c.newEnv, "new-password-env")
		set.Switch(&c.Flatten, "flatten")
		set.Number(&c.Peel, "peel", 0)
		set.Text(&c.under, "under")
		set.Value(&option.Template{To: &c.Rename, Allowed: renamePlaceholders}, "rename")
	})
	set.Group("How it runs", func() {
		set.Switch(&c.dryRun, "dry-run")
		set.Switch(&c.readBack, "read-back")
		c.addAfter(set)
		c.addFailed(set)
		set.Switch(&c.halt, "halt")
		set.Number(&c.workers, "workers", 1)
		c.listOption.addTo(set)
	})
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

func (c *convertCommand) check(cmd *cobra.Command, args []string) error {
	if err := c.doneOptions.check(cmd, c.receipt); err != nil {
		return err
	}
	switch {
	case c.to == "":
		return usage(cmd, lacking{fmt.Errorf("--to is missing, the format of the new archives: one of %s", strings.Join(format.Writable(), ", "))})
	case !c.encrypt && c.newEnv != "":
		return usage(cmd, errors.New("--new-password-env is for --encrypt"))
	case c.encrypt && c.newEnv == "" && !c.given():
		return usage(cmd, errNoNewPassword)
	case c.newEnv != "" && os.Getenv(c.newEnv) == "":
		return usage(cmd, errors.New("the environment has no password in "+c.newEnv))
	}
	o, err := c.options(cmd)
	if err == nil {
		err = o.Check()
	}
	if err != nil {
		return err
	}
	return c.archiveOptions.check(cmd, args, false)
}

var errNoNewPassword = errors.New("--encrypt needs --new-password-env, or exactly one password that opens the old archives")

func (c *convertCommand) run(cmd *cobra.Command, args []string) (err error) {
	c.apply(c.streams)
	c.Deeds()
	if !c.dryRun {
		c.pageOption.begin(cmd, c.streams)
		defer c.pageOption.finish(&err)
	}
	c.connect(cmd, c.streams)
	o, err := c.options(cmd)
	if err != nil {
		return err
	}
	c.look(&c.request, c.dryRun)
	r, err := c.resolve(cmd, args, c.streams, c.quiet)
	if err == nil {
		err = c.checkWritten(cmd, r.Sources)
	}
	if err == nil {
		o.Writing.Password, err = c.newLock(cmd, r.Reading.Passwords)
	}
	if err != nil {
		return err
	}
	if len(r.Sources) == 0 {
		if !c.quiet {
			c.nothing(cmd, c.Summary())
		}
		return nil
	}
	if r.Workers = c.workers; c.dryRun {
		r.Fetched = ""
	}
	if r.Sums, err = c.lists(cmd, r.Sources...); err != nil {
		return err
	}
	c.Today, c.several, c.single = c.begun, true, len(r.Sources) == 1
	var read, done atomic.Int64
	conversion := revise.Conversion{Request: r, Placement: &c.Placement, Under: inside(c.under), Output: o, ReadBack: c.readBack,
		Prove: c.receipt != "" && !c.dryRun, Hash: (c.receipt != "" || c.entrySums != "") && !c.dryRun, After: c.after, Failed: c.failed, Begun: c.begun, Halt: c.halt, DryRun: c.dryRun, Read: &read}
	earlier, err := c.load(cmd, c.streams, c.receipt, &c.selectionOptions)
	if err != nil {
		return err
	}
	if earlier != nil {
		defer earlier.Close()
		conversion.Done = earlier.converted
	}
	release, roots := c.confine(cmd, r.Sources)
	defer release()
	if err := c.recordOptions.begin(cmd, c.streams, roots, c.dryRun); err != nil {
		return err
	}
	if c.writer != nil {
		conversion.BeforeDisposal = c.writer.Sync
	}
	shown := show.Conversions{Output: &c.Output, DryRun: c.dryRun, Started: time.Now()}
	stop := c.startArchives(c.streams, c.quiet, &read, &done, len(r.Sources))
	err = conversion.Run(cmd.Context(), func(e report.Event) {
		done.Add(1)
		c.recordOptions.event(e, c.Into)
		c.pageOption.event(e)
		shown.Event(e)
	})
	stop()
	recorded := c.recordOptions.finish(c.dryRun, err)
	if err != nil {
		return err
	}
	shown.Finish()
	return c.both(c.ending(cmd, &shown.Failures, r.Selection, shown.Files, shown.LeftOut, c.quiet), recorded)
}

func (c *convertCommand) options(cmd *cobra.Command) (o create.Options, err error) {
	o = create.Options{Existing: c.clash.Value(), Sites: c.guarded(cmd, nil), Keep: c.keepIn(), Writing: c.writing(0)}
	if o.Format, err = create.FormatOf("", c.to); err != nil {
		return o, err
	}
	if o.Cut, err = c.cut(cmd); err != nil {
		return o, err
	}
	return o, nil
}

// newLock is the password for new archives.
func (c *convertCommand) newLock(cmd *cobra.Command, old []string) (string, error) {
	switch {
	case !c.encrypt:
		return "", nil
	case c.newEnv != "":
		return os.Getenv(c.newEnv), nil
	case len(old) == 1:
		return old[0], nil
	}
	return "", usage(cmd, errNoNewPassword)
}
