package cli

import (
	"errors"
	"fmt"
	"runtime"
	"strings"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/cli/show"
	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/plan"
	"widecrate/core/receipt"
	"widecrate/core/report"
	"widecrate/core/verify"
)

type verifyCommand struct {
	*streams
	archiveOptions
	outputOptions
	progressOption
	pageOption
	listOption
	workers int
	links   option.Choice[plan.Links]
	against []string
	sums    string
	hashes  receipt.Sums
	single  bool // there is one source
}

func newVerify(s *streams) *cobra.Command {
	c := &verifyCommand{streams: s, workers: runtime.NumCPU()}
	cmd := &cobra.Command{
		Use:   "verify SOURCE… [OPTION…]",
		Short: "Decode everything, check every checksum, write nothing",
		Long: `verify decodes everything in archives and checks it: sizes, checksums, and
authentication codes where there are any. Each damaged entry is named, with the
offset of its header, and each that extract would refuse as unsafe. Nothing is
written. A source is an archive, a folder (the
archives in it), an http or https address, or - for standard input.`,
		Example: `  widecrate verify readings
  widecrate verify bundles --nested
  widecrate verify readings --as json --ext csv
  widecrate verify bundles/osk-bay.zip --sums sums.txt
  widecrate verify http://gauges.example/bundles/osk-bay.zip --nested`,
		PreRunE: c.check,
		RunE:    c.run,
	}
	set := option.Of(cmd)
	c.archiveOptions.addTo(set, true)
	c.links = option.Either([]string{"keep", "rebase", "skip"}, plan.KeepLinks, plan.RebaseLinks, plan.SkipLinks)
	set.Group("How it runs", func() {
		set.Value(&c.links, "links")
		set.Texts(&c.against, "against")
		set.Text(&c.sums, "sums")
		c.listOption.addTo(set)
		c.pageOption.addTo(set)
		set.Number(&c.workers, "workers", 1)
	})
	set.Group("What is printed", func() {
		c.outputOptions.addTo(set, "text")
		c.progressOption.addTo(set)
	})
	return cmd
}

func (c *verifyCommand) check(cmd *cobra.Command, args []string) error {
	if c.against != nil && (len(args) > 0 || c.sourceOptions.list != "" || c.sums != "") {
		return usage(cmd, errors.New("--against takes the place of archives and of lists of sums: leave them out"))
	}
	return c.archiveOptions.check(cmd, args, c.against != nil)
}

func (c *verifyCommand) run(cmd *cobra.Command, args []string) (err error) {
	c.apply(c.streams)
	c.pageOption.begin(cmd, c.streams)
	defer c.pageOption.finish(&err)
	if c.against != nil {
		return c.verifyDelivered(cmd)
	}
	r, err := c.resolve(cmd, args, c.streams, c.quiet)
	if err == nil {
		err = c.checkWritten(cmd, r.Sources)
	}
	if err != nil {
		return err
	}
	if r.Sums, err = c.lists(cmd, r.Sources...); err != nil {
		return err
	}
	r.Workers = c.workers
	c.single = len(r.Sources) == 1 && !c.nested
	t := verified{started: time.Now()}
	var decoded, done atomic.Int64
	o := verify.Options{Request: r, Links: c.links.Value(), Hash: c.sums != "", Decoded: &decoded}
	stop := c.startArchives(c.streams, c.quiet, &decoded, &done, len(r.Sources))
	err = verify.Run(cmd.Context(), o, func(r *report.Verified) {
		done.Add(1)
		c.report(r, &t)
	})
	stop()
	if err != nil {
		return err
	}
	var listed error
	if c.sums != "" {
		listed = c.hashes.Write(c.sums)
	}
	if !c.quiet {
		c.summarize(cmd, len(r.Sources), &t)
	}
	return c.both(c.ending(cmd, &t.failures, r.Selection, t.entries, t.leftOut, c.quiet), listed)
}

// verified is what reports come to.
type verified struct {
	started                                                     time.Time
	archives, bad, unsafe, incomplete, unknown, entries, damage int
	sums                                                        int
	bytes                                                       int64
	leftOut                                                     choose.Tally
	failures                                                    report.Failures
}

func (c *verifyCommand) report(r *report.Verified, t *verified) {
	c.pageOption.event(r)
	t.entries += r.Entries
	t.sums += r.Sums
	t.bytes += r.Bytes
	t.damage += r.Damaged
	t.leftOut.Add(r.LeftOut)
	for _, f := range r.Files {
		path := f.Path
		if !c.single {
			path = strings.ReplaceAll(r.Archive, " › ", "/") + "/" + path
		}
		c.hashes.Add(path, f.SHA256)
	}
	if r.Err != nil {
		t.failures.Add(r.Err)
		c.problem(r.Err)
	}
	for _, b := range r.Bad {
		t.failures.Add(b.Err)
		c.problem(fmt.Errorf("%w (its header is at offset %s)", b.Err, show.Number(int(b.Offset))))
	}
	switch kind := fault.Of(r.Err); {
	case r.Damaged > 0 || r.Err != nil && kind == fault.Damaged:
		t.bad++
	case len(r.Bad) > 0:
		t.unsafe++
	case r.Err != nil && kind == fault.Incomplete:
		t.incomplete++
	case r.Err != nil:
		t.unknown++
	default:
		t.archives++
	}
	if r.Err != nil || len(r.Bad) > 0 {
		if c.as.Value() == asNames {
			c.name(c.out, r.Archive)
		}
	}
	switch {
	case c.as.Value() == asJSON:
		c.json(r)
	case c.as.Value() == asText && c.verbose && r.Err == nil:
		c.out.Printf("%s  %s, %s\n", c.out.Name(r.Archive), show.Count(r.Entries, "file"), show.Size(r.Bytes))
	}
}

func (c *verifyCommand) summarize(cmd *cobra.Command, sources int, t *verified) {
	s := c.summary(c.streams)
	if sources == 0 {
		c.nothing(cmd, s)
		return
	}
	s.Printf("%s verified: %s, %s decoded, %s checked against a checksum; %s; %s\n", s.Strong(show.Count(t.archives, "archive")),
		show.Count(t.entries, "file"), show.Size(t.bytes), show.Number(t.sums), t.leftOut.String(), show.Took(time.Since(t.started)))
	if t.bad > 0 {
		entries := ""
		if t.damage > 0 {
			entries = ": " + show.Count(t.damage, "damaged entry")
		}
		s.Printf("%s%s, reported above\n", s.Bad(show.Count(t.bad, "archive")+" damaged"), entries)
	}
	for _, other := range []struct {
		n    int
		what string
	}{{t.unsafe, "unsafe"}, {t.incomplete, "incomplete"}, {t.unknown, "could not be checked"}} {
		if other.n > 0 {
			s.Printf("%s, reported above\n", s.Bad(show.Count(other.n, "archive")+" "+other.what))
		}
	}
}
