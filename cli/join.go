package cli

import (
	"errors"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/cli/show"
	"widecrate/core/parts"
	"widecrate/core/parts/cut"
	"widecrate/core/remote"
	"widecrate/core/schedule"
	"widecrate/core/source"
)

type joinCommand struct {
	*streams
	listOption
	remoteOptions
	outputOptions
	progressOption
	nameOptions
	manyOptions
	into    string
	clash   option.Choice[bool]
	partsIn []string

	recursive bool
}

func newPartsJoin(s *streams) *cobra.Command {
	c := &joinCommand{streams: s, clash: replaceChoice()}
	cmd := &cobra.Command{
		Use:   "join PART… [OPTION…]",
		Short: "Put sets together, each into one file",
		Long: `join puts sets together; name any part of each, or a folder for the sets in it.
Plain cuts are joined byte for byte. A split ZIP archive becomes an ordinary
one, without unpacking. If a list of SHA-256 sums is beside the parts, or
--check-sums names one, the parts and the whole are checked. A file appears when
it is complete and right. With several sets, or where a folder of that name is
there, --into names a folder.`,
		Example: `  widecrate parts join survey/grids.tar.gz.001 --into grids.tar.gz
  widecrate parts join survey/harbour.z01 --into harbour.zip
  widecrate parts join survey --into whole --dry-run  # exit code 4`,
		PreRunE: c.check,
		RunE:    c.run,
	}
	set := option.Of(cmd)
	set.Group("Which sets", func() {
		c.nameOptions.addTo(set)
		set.Switch(&c.recursive, "recursive")
		set.Texts(&c.partsIn, "parts-in")
		c.listOption.addTo(set)
	})
	set.Group("The files", func() {
		set.Text(&c.into, "into")
		set.Value(&c.clash, "clash")
	})
	set.Group("How it runs", func() { c.manyOptions.addTo(set) })
	set.Group("Parts at addresses", func() { c.remoteOptions.addTo(set) })
	set.Group("What is printed", func() {
		c.outputOptions.addTo(set)
		c.progressOption.addTo(set)
	})
	return cmd
}

func (c *joinCommand) check(cmd *cobra.Command, args []string) error {
	if err := c.nameOptions.check(cmd, args); err != nil {
		return err
	}
	return c.remoteOptions.check(cmd)
}

// joining is what the core is asked for; errs are about parts that are none.
func (c *joinCommand) joining(cmd *cobra.Command, names []string) (j cut.Joining, errs []error, err error) {
	j = cut.Joining{Into: c.into, Replace: c.clash.Value(), Each: len(names) > 1 || strings.HasSuffix(c.into, "/") || isFolder(c.into)}
	j.Each = j.Each || slices.ContainsFunc(names, isFolder)
	if slices.ContainsFunc(names, remote.IsAddress) {
		if c.into == "" {
			return j, nil, usage(cmd, errors.New("the parts lie at an address: --into names the file to make"))
		}
		c.connect(cmd, c.streams)
	}
	var all []string
	for _, name := range names {
		matches := []string{name}
		if !remote.IsAddress(name) {
			if matches, err = source.Expand(matches); err != nil {
				return j, nil, err
			}
		}
		all = append(all, matches...)
	}
	j.Sets, errs = parts.Scan(c.sites.Sites, all, c.recursive, c.partsIn)
	sources := make([]source.Source, len(j.Sets))
	for i, set := range j.Sets {
		sources[i] = source.OfSet(set)
	}
	j.Needs = c.guarded(cmd, sources).Needs
	j.Lists, err = c.listOption.lists(cmd, sources...)
	return j, errs, err
}

func isFolder(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.IsDir()
}

func (c *joinCommand) run(cmd *cobra.Command, args []string) error {
	c.apply(c.streams)
	names, err := c.names(cmd, args)
	if err != nil {
		return err
	}
	j, errs, err := c.joining(cmd, names)
	if err != nil {
		return err
	}
	shown := show.Pieces{Output: &c.Output, Started: time.Now(), DryRun: c.dryRun, Single: !j.Each}
	for _, err := range errs {
		shown.Failures.Add(err)
		c.Failed(err)
	}
	if c.halt && errs != nil {
		j.Sets = nil
	}
	var read, all atomic.Int64
	for _, set := range j.Sets {
		all.Add(set.Size())
	}
	j.Run = c.manyOptions.run(&read)
	stop := c.startBytes(c.streams, c.quiet, &read, &all)
	err = j.Start(cmd.Context(), shown.Event)
	stop()
	if err != nil {
		return err
	}
	shown.Finish()
	return shownError(&shown.Failures)
}

// manyOptions are those of commands that join or cut many.
type manyOptions struct {
	dryRun, halt bool
	workers      int
}

func (o *manyOptions) addTo(set *option.Set) {
	set.Switch(&o.dryRun, "dry-run")
	set.Switch(&o.halt, "halt")
	set.Number(&o.workers, "workers", 1)
}

func (o *manyOptions) run(read *atomic.Int64) cut.Run {
	return cut.Run{Read: read, DryRun: o.dryRun, Options: schedule.Options{Workers: o.workers, Halt: o.halt}}
}
