package cli

import (
	"errors"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/cli/show"
	"widecrate/core/archive"
	"widecrate/core/create"
	"widecrate/core/place"
	"widecrate/core/plan"
	"widecrate/core/report"
	"widecrate/core/revise"
	"widecrate/core/source"
	"widecrate/core/verify"
	"widecrate/core/walk"
)

type convertCommand struct {
	*streams
	archiveOptions
	outputOptions
	progressOption
	pageOption
	listOption
	recordOptions
	writingOptions
	place.Placement
	to, under string
	clash     option.Choice[create.Existing]
	encrypt   bool
	newEnv    string
	workers   int
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
stays.`,
		Example: `  widecrate convert bundles --to tar.zst --into packed
  widecrate convert corrections --to zip --method zstd --into smaller
  widecrate convert survey/grids.tar.gz.001 --to zip --into x --peel 1
  widecrate convert bundles --to zip --into may --ext zip --under 2026`,
		PreRunE: c.check,
		RunE:    c.run,
	}
	set := option.Of(cmd)
	c.archiveOptions.addTo(set, false)
	set.Group("The new archives", func() {
		set.Text(&c.to, "to")
		set.Text(&c.method, "method")
		set.Value(&c.level, "level")
		c.cutOptions.addTo(set)
		set.Text(&c.Into, "into")
		set.Value(&c.clash, "clash")
		set.Switch(&c.encrypt, "encrypt")
		set.Text(&c.newEnv, "new-password-env")
	})
	set.Group("Paths in them", func() {
		set.Switch(&c.Flatten, "flatten")
		set.Number(&c.Peel, "peel", 0)
		set.Text(&c.under, "under")
		set.Value(&option.Template{To: &c.Rename, Allowed: renamePlaceholders}, "rename")
	})
	set.Group("How it runs", func() {
		set.Switch(&c.dryRun, "dry-run")
		set.Switch(&c.halt, "halt")
		set.Number(&c.workers, "workers", 1)
		set.Text(&c.sums, "sums")
		set.Text(&c.entrySums, "entry-sums")
		c.listOption.addTo(set)
		c.pageOption.addTo(set)
	})
	set.Group("What is printed", func() {
		c.outputOptions.addTo(set, "csv")
		c.progressOption.addTo(set)
	})
	return cmd
}

func (c *convertCommand) check(cmd *cobra.Command, args []string) error {
	switch {
	case c.to == "":
		return usage(cmd, errors.New("--to says which format the new archives are to have"))
	case !c.encrypt && c.newEnv != "":
		return usage(cmd, errors.New("--new-password-env is for --encrypt"))
	case c.encrypt && c.newEnv == "" && c.env == "" && c.file == "" && !c.ask:
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
	o, err := c.options(cmd)
	if err != nil {
		return err
	}
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
	r.Workers = c.workers
	if r.Sums, err = c.lists(cmd, r.Sources...); err != nil {
		return err
	}
	c.Today = time.Now()
	var read, done atomic.Int64
	conversion := revise.Conversion{Request: r, Placement: &c.Placement, Under: inside(c.under), Output: o, Halt: c.halt, DryRun: c.dryRun, Read: &read}
	shown := show.Conversions{Output: &c.Output, DryRun: c.dryRun, Started: time.Now()}
	stop := c.startArchives(c.streams, c.quiet, &read, &done, len(r.Sources))
	err = conversion.Run(cmd.Context(), func(e report.Event) {
		done.Add(1)
		c.pageOption.event(e)
		shown.Event(e)
		if made, ok := e.(*report.Converted); ok && made.Err == nil && !c.dryRun {
			c.archive(written(made.Path, &made.Made))
		}
	})
	stop()
	if err != nil {
		return err
	}
	var listed error
	if !c.dryRun {
		listed = c.sumUp(cmd, shown.Made, r.Reading.Passwords)
	}
	shown.Finish()
	return c.both(c.ending(cmd, &shown.Failures, r.Selection, shown.Files, shown.LeftOut, c.quiet), listed)
}

func (c *convertCommand) options(cmd *cobra.Command) (o create.Options, err error) {
	o = create.Options{Existing: c.clash.Value(), Writing: c.writing(0)}
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

// sumUp writes the lists of sums. That of what is in the new archives needs them read again:
// what is copied as it is packed was never decoded.
func (c *convertCommand) sumUp(cmd *cobra.Command, made, passwords []string) error {
	c.several = true
	switch {
	case len(made) == 0: // a list of an earlier run stays
		return nil
	case c.entrySums == "":
		return c.recordOptions.finish(false)
	}
	sources, err := source.Find(cmd.Context(), source.Request{Names: made})
	if err != nil {
		return err
	}
	var failures report.Failures
	if c.newEnv != "" {
		passwords = []string{os.Getenv(c.newEnv)}
	}
	r := walk.Request{Sources: sources, Reading: archive.Options{Passwords: passwords}, Workers: c.workers}
	err = verify.Run(cmd.Context(), verify.Options{Request: r, Links: plan.SkipLinks, Hash: true}, func(e report.Event) {
		r := e.(*report.Verified)
		if r.Err != nil {
			failures.Add(r.Err)
			c.Problem(r.Err)
		}
		for _, f := range r.Files {
			path := f.Path
			if len(made) > 1 {
				path = filepath.ToSlash(place.Below(place.Absolute("."), r.Archive)) + "/" + path
			}
			c.entries.Add(path, f.SHA256)
		}
	})
	if err == nil {
		err = failures.Err()
	}
	if err != nil {
		return err
	}
	return c.recordOptions.finish(false)
}
