package cli

import (
	"errors"
	"io/fs"
	"runtime"
	"time"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/cli/show"
	"widecrate/core/confine"
	"widecrate/core/fault"
	"widecrate/core/newfile"
	"widecrate/core/receipt"
	"widecrate/core/remote"
	"widecrate/core/undo"
)

type undoCommand struct {
	*streams
	outputOptions
	number  int
	all     bool
	list    bool
	dryRun  bool
	workers int
	remoteOptions
}

func newUndo(s *streams) *cobra.Command {
	c := &undoCommand{streams: s, workers: runtime.NumCPU()}
	cmd := &cobra.Command{
		Use:   "undo RECEIPT [OPTION…]",
		Short: "Take back what a run delivered, by its receipt",
		Long: `undo takes back what the last run in a receipt delivered: files that are still
as they were delivered, by their SHA-256, folders that the run made and that are
empty now, and archives that it made. Sources that it moved come back, and so does
what it replaced, if --replaced kept that. What was altered since stays, and is
named (exit code 3). Nothing is removed of an archive whose source is not there as
it was, or whose old files cannot come back: what was delivered may be all that
there is. The receipt then says what was taken back, and --skip-done believes it.
If undo is killed in the middle, the next one goes on.

A run of a job file is one run. undo touches nothing but what lies below the
folders that the run said it would write to, which it names first, and follows no
link there. A receipt is as powerful as its owner: one that others may write to is
refused (exit code 3).`,
		Example: `  widecrate extract readings --into landing --receipt r.jsonl  # exit code 7
  widecrate undo r.jsonl --list
  widecrate undo r.jsonl --dry-run
  widecrate undo r.jsonl`,
		Args:    takes(1, 1, "receipt"),
		PreRunE: c.check,
		RunE:    c.run,
	}
	set := option.Of(cmd)
	set.Group("Which runs", func() {
		set.Number(&c.number, "run", 1)
		set.Switch(&c.all, "all")
		set.Switch(&c.list, "list")
	})
	set.Group("How it runs", func() {
		set.Switch(&c.dryRun, "dry-run")
		set.Number(&c.workers, "workers", 1)
	})
	set.Group("What is at addresses", func() { c.remoteOptions.addTo(set) })
	set.Group("What is printed", func() { c.outputOptions.addTo(set) })
	return cmd
}

func (c *undoCommand) check(cmd *cobra.Command, _ []string) error {
	if c.all && c.number > 0 {
		return usage(cmd, errors.New("--run names one run, and --all means every one"))
	}
	if c.list && (c.all || c.number > 0 || c.dryRun) {
		return usage(cmd, errors.New("--list takes nothing back, and lists every run"))
	}
	return c.remoteOptions.check(cmd)
}

func (c *undoCommand) run(cmd *cobra.Command, args []string) (err error) {
	c.apply(c.streams)
	c.connect(cmd, c.streams)
	path := args[0]
	if err := checkReceipt(c.sites, path); err != nil {
		return err
	}
	past, err := receipt.Load(c.sites, path)
	if err != nil {
		return err
	}
	defer past.Close()
	for _, remark := range past.Remarks {
		c.Warn(remark)
	}
	shown := show.Undoing{Output: &c.Output, DryRun: c.dryRun, Started: time.Now()}
	runs, err := past.Runs()
	if err != nil {
		return err
	}
	if c.list {
		shown.Runs(runs)
		return nil
	}
	if err := receipt.CheckOwn(c.sites.Sites, path); err != nil {
		return err
	}
	o := undo.Options{Receipts: past, Sites: c.sites, Run: c.number, All: c.all, DryRun: c.dryRun, Workers: c.workers}
	chosen, _, err := o.Select(runs)
	if err != nil {
		return err
	}
	defer c.stayWithin(cmd, path, chosen)()
	if !c.dryRun {
		record, err := receipt.Append(c.sites, path, receipt.Run{Version: Version, Command: cmd.Name(), Options: map[string]string{}, Started: time.Now().UTC()}, say)
		if err != nil {
			return err
		}
		o.Done = record.Undone
		defer func() {
			if closed := record.Close(); err == nil {
				err = closed
			}
		}()
	}
	if err := undo.Run(cmd.Context(), o, shown.Event); err != nil {
		return err
	}
	shown.Finish()
	return shownError(&shown.Failures)
}

// stayWithin gives up what taking back some runs does not need.
func (c *undoCommand) stayWithin(cmd *cobra.Command, path string, runs []*receipt.PastRun) (release func()) {
	if c.confined {
		return func() {}
	}
	k := keeping{Rights: confine.Rights{Read: []string{"/"}, Empty: []string{"/"}}}
	for _, path := range append([]string{path}, rootsOf(runs)...) {
		if remote.IsAddress(path) {
			k.Network = true
		} else {
			k.write(path)
		}
	}
	return c.keep(cmd, k)
}

func rootsOf(runs []*receipt.PastRun) (roots []string) {
	for _, run := range runs {
		roots = append(roots, run.Report().Roots...)
	}
	return roots
}

// checkReceipt makes sure that a file is there, and a receipt.
func checkReceipt(sites newfile.Sites, path string) error {
	there, err := sites.Find(path)
	switch {
	case err != nil:
		return err
	case there.Info == nil:
		return fault.Reading(path, fs.ErrNotExist)
	case there.Info.Size() == 0 || receipt.Check(sites, path) != nil:
		return fault.At(path, fault.New(fault.Damaged, "it is no receipt").Suggest(fault.NameReceipt))
	}
	return nil
}
