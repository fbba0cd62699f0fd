package cli

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/cli/show"
	"widecrate/core/claim"
	"widecrate/core/fault"
	"widecrate/core/job"
	"widecrate/core/place"
	"widecrate/core/report"
	"widecrate/core/storage"
)

type runCommand struct {
	*streams
	outputOptions
	progressOption
	shard    shardOption
	receipt  string
	report   string
	skipDone bool
	halt     bool
	only     []string
	values   []string // KEY=VALUE
	validate bool
	dryRun   bool
	schema   bool
	busy     option.Choice[bool] // whether to leave

	current string     // the job
	made    []foretold // in a dry run
}

func newRun(s *streams) *cobra.Command {
	c := &runCommand{streams: s, busy: option.Either([]string{"wait", "leave"}, false, true)}
	cmd := &cobra.Command{
		Use:   "run JOBFILE [OPTION…]",
		Short: "Run the jobs of a file",
		Long: `run does the jobs of a file, one after the other, in the order of the file. A
job that follows a failed one is not run; the others are. All mistakes in the
file are shown before anything is touched. Paths in the file are relative to its
folder. A second run of the same file waits for the first.`,
		Example: `  widecrate run month.yaml --validate
  widecrate run month.yaml --dry-run
  widecrate run month.yaml --report page.html
  widecrate run month.yaml --only tables --set to=elsewhere
  widecrate run --schema`,
		Args: func(cmd *cobra.Command, args []string) error {
			switch {
			case c.schema && len(args) > 0:
				return errors.New("--schema needs no job file")
			case !c.schema:
				return takes(1, 1, "job file")(cmd, args)
			}
			return nil
		},
		RunE: c.run,
	}
	set := option.Of(cmd)
	set.Group("Which jobs", func() {
		set.Texts(&c.only, "only")
		set.Texts(&c.values, "set")
		set.Value(&c.shard, "shard")
	})
	set.Group("How it runs", func() {
		set.Switch(&c.validate, "validate")
		set.Switch(&c.dryRun, "dry-run")
		set.Switch(&c.halt, "halt")
		set.Value(&c.busy, "if-busy")
		set.Switch(&c.schema, "schema")
	})
	set.Group("What was done", func() {
		set.Text(&c.receipt, "receipt")
		set.Switch(&c.skipDone, "skip-done")
		set.Text(&c.report, "report")
	})
	set.Group("What is printed", func() {
		c.outputOptions.addTo(set)
		c.progressOption.addTo(set)
	})
	return cmd
}

func (c *runCommand) run(cmd *cobra.Command, args []string) error {
	c.apply(c.streams)
	if c.schema {
		text, err := jobLanguage().Schema()
		if err == nil {
			_, err = c.Out.Write(text)
		}
		return err
	}
	for _, path := range []string{"receipt", "report"} { // they belong to the command line, and not to the file
		if f := cmd.Flags().Lookup(path); f.Changed {
			_ = option.Put(f, storage.Absolute(f.Value.String()))
		}
	}
	path, err := enter(args[0])
	if err != nil {
		return err
	}
	c.jobFile, c.job = storage.Absolute(path), strings.ToLower(rand.Text()[:12])
	file, err := c.read(cmd, path)
	if err != nil {
		return err
	}
	if err := c.checkWritten(cmd, nil); err != nil {
		return err
	}
	if c.validate {
		if !c.quiet {
			c.Summary().Printf("%s is right: %s\n", c.Out.Strong(c.Out.Name(path)), show.Count(len(file.tasks), "job"))
		}
		return nil
	}
	if c.dryRun {
		defer c.confineJobs(cmd, file)()
		return c.all(cmd.Context(), file)
	}
	held, waited, err := c.hold(cmd.Context(), path, file)
	if err != nil {
		return err
	}
	if held != nil {
		defer held.Release()
	}
	if waited { // dates and the file itself may be others now
		if file, err = c.read(cmd, path); err != nil {
			return err
		}
	}
	defer c.confineJobs(cmd, file)()
	return c.all(cmd.Context(), file)
}

// jobFile is a job file of which everything is right.
type jobFile struct {
	*job.File
	tasks  []*jobRun
	shard  string // of all its jobs
	report string
	halt   bool
}

// read reads the job file and makes tasks of its jobs.
func (c *runCommand) read(cmd *cobra.Command, path string) (*jobFile, error) {
	set := map[string]string{}
	for _, text := range c.values {
		name, value, found := strings.Cut(text, "=")
		switch {
		case !found || name == "":
			return nil, usage(cmd, fmt.Errorf("--set %q is not KEY=VALUE", text))
		case value == "":
			return nil, usage(cmd, fmt.Errorf("--set %s has no value: is a variable not set?", text))
		}
		set[name] = value
	}
	parsed, err := job.Read(path, jobLanguage(), set, os.LookupEnv)
	if err != nil {
		return nil, err
	}
	for _, stray := range parsed.Strays {
		return nil, usage(cmd, fmt.Errorf("--set %s: nothing in the file uses a variable of that name%s", stray, nearest(stray, parsed.Variables)))
	}
	if err := c.onlyKnown(cmd, parsed); err != nil {
		return nil, err
	}
	if c.report, err = c.shard.perShare(c.report); err != nil {
		return nil, usage(cmd, err)
	}
	f := &jobFile{File: parsed, shard: c.shard.String(), report: c.report, halt: c.halt}
	for _, s := range parsed.Common {
		switch value := s.Values[0].Text; {
		case s.Key == "report" && c.report == "":
			if f.report, err = c.shard.perShare(value); err != nil {
				return nil, usage(cmd, err)
			}
		case s.Key == "halt" && value == "true":
			f.halt = true
		}
	}
	if err := c.addTasks(cmd, f); err != nil {
		return nil, err
	}
	if err := parsed.Err(); err != nil {
		return nil, c.mistakes(err)
	}
	return f, nil
}

// onlyKnown finds names after --only that no job has.
func (c *runCommand) onlyKnown(cmd *cobra.Command, file *job.File) error {
	if file.Err() != nil {
		return nil // some jobs may not have been understood
	}
	var names []string
	for _, j := range file.Jobs {
		names = append(names, j.Name)
	}
	for _, name := range c.only {
		if !slices.Contains(names, name) {
			return usage(cmd, fmt.Errorf("--only %s: no job has that name%s", name, nearest(name, names)))
		}
	}
	return nil
}

func nearest(word string, words []string) string {
	if nearest := fault.Nearest(word, words); nearest != "" {
		return "; the nearest is " + nearest
	}
	return ""
}

// mistakes shows what is wrong in a job file.
func (c *runCommand) mistakes(err error) error {
	wrong, ok := errors.AsType[*job.Mistakes](err)
	if !ok {
		return err
	}
	for i := range wrong.List {
		m := &wrong.List[i]
		c.Event(&report.Mistake{File: wrong.File, Line: m.Line, Column: m.Column, Why: m.Why, Do: m.Do})
		c.Problem(fault.At(fmt.Sprintf("%s, line %d, column %d", wrong.File, m.Line, m.Column), fault.New(fault.Usage, "%s", m.Why).Advise(m.Do)))
		line, caret := m.Mark()
		number := fmt.Sprintf("%6d", m.Line)
		c.Err.Printf("%s  %s\n%s  %s\n", c.Err.Faint(number), show.Plain(show.DiscreetLine(line)), strings.Repeat(" ", len(number)), c.Err.Bad(caret))
	}
	c.Err.Flush()
	return reported{err}
}

// hold keeps other runs of a job file, or of the same share of it, away until this one
// ends, and reports whether it had to wait for one.
func (c *runCommand) hold(ctx context.Context, path string, file *jobFile) (held *claim.Claim, waited bool, err error) {
	const interval = 500 * time.Millisecond
	name := place.StagingPrefix + "run-" + filepath.Base(path)
	if file.shard != "" {
		name += "-" + strings.ReplaceAll(file.shard, "/", "-of-")
	}
	for {
		held, err := claim.Take(name)
		busy, ok := errors.AsType[*claim.HeldError](err)
		switch {
		case err == nil:
			return held, waited, nil
		case !ok: // a folder that cannot be written to, such as one of a system's configuration
			c.Warn("another run of this file would not wait for this one: " + fault.Writing(name, err).Error())
			return nil, waited, nil
		case c.busy.Value():
			err := fault.At(path, fault.New(fault.Refused, "another run of it is under way: %w", busy).Advise("--if-busy wait waits for it"))
			c.Event(&report.Failed{Err: err})
			if !c.quiet { // this is what was asked for
				c.Warn("nothing was done: " + err.Error())
			}
			return nil, false, reported{err}
		case !waited:
			waited = true
			c.Warn(fmt.Sprintf("waiting for another run of %s: %s", path, busy))
		}
		select {
		case <-ctx.Done():
			return nil, waited, ctx.Err()
		case <-time.After(interval):
		}
	}
}

// all runs the jobs.
func (c *runCommand) all(ctx context.Context, file *jobFile) (err error) {
	if file.report != "" && !c.dryRun {
		c.page = newPage("run")
		defer func() { err = c.both(err, c.page.Write(file.report, exitCode(err))) }()
	}
	if c.quiet && !c.Err.Terminal { // somebody gets it as a mail
		started, release := time.Now(), c.Err.Hold()
		defer func() { release(headOf(c.jobFile, started, exitCode(err)), false) }()
	}
	var failures report.Failures
	ended := map[string]report.JobState{} // by name; the worst of those that are repeated
	var done []*report.Job
	for _, t := range file.tasks {
		j := &report.Job{Name: t.Name, With: t.With, Command: t.Command, State: report.JobNotRun}
		if j.Err = c.unable(t, ended, file.halt && failures.Count() > 0); j.Err == nil {
			c.one(ctx, t, j)
		} else {
			c.ended(t, j)
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if j.State == report.JobFailed {
			failures.Add(j.Err)
		}
		if j.State != report.JobDone || ended[t.Name] == "" {
			ended[t.Name] = j.State
		}
		done = append(done, j)
	}
	c.Jobs(done)
	return shownError(&failures)
}

// headOf says what was run, where and when, and how it ended.
func headOf(path string, started time.Time, code int) string {
	host, err := os.Hostname()
	if err != nil {
		host = "a machine without a name"
	}
	return fmt.Sprintf("%s on %s, %s: exit code %d after %s\n\n", show.Plain(path), show.Plain(host), started.Format("2006-01-02 15:04:05 -0700"), code, show.Took(time.Since(started)))
}

// unable is why a job is not run; nil: it can be.
func (c *runCommand) unable(t *jobRun, ended map[string]report.JobState, halted bool) error {
	for _, before := range t.Follows {
		if t.EvenIf && ended[before] == report.JobFailed {
			continue
		}
		if state := ended[before]; state == report.JobFailed || state == report.JobNotRun && !c.dryRun {
			return fault.New(fault.Other, "not run: it comes after %s, which %s", before, map[report.JobState]string{report.JobFailed: "failed", report.JobNotRun: "was not run"}[state])
		}
	}
	switch {
	case halted:
		return fault.New(fault.Other, "not run: a job before it failed")
	case c.dryRun && t.cmd.Flags().Lookup("dry-run") == nil:
		return fault.New(fault.Other, "not run: %s has no dry run", t.Command)
	}
	return nil
}

// one runs a job.
func (c *runCommand) one(ctx context.Context, t *jobRun, j *report.Job) {
	if j.State = report.JobStarted; !c.dryRun {
		c.Event(j)
	}
	if !c.quiet {
		c.Summary().Printf("%s\n", c.Summary().Strong(t.Title()+": "+t.Command))
	}
	if c.page != nil {
		c.page.Job = t.Title()
	}
	started := time.Now()
	c.Last, c.current = nil, t.Title()
	settle := func(bool) {}
	if c.dryRun {
		c.Watch = c.would
		if t.Follows != nil { // perhaps of what would be there by then
			out, err := c.Out.Hold(), c.Err.Hold()
			settle = func(drop bool) { err("", drop); out("", drop) }
		}
	}
	j.Err = fault.Guard(func() error { return t.run(ctx) })
	j.Took = report.Since(started)
	kind := fault.Of(j.Err)
	early := c.dryRun && t.Follows != nil && j.Err != nil && (kind == fault.Unreadable || kind == fault.NoMatch)
	settle(early)
	if ctx.Err() != nil {
		return
	}
	j.State = report.JobDone
	_, shown := errors.AsType[reported](j.Err)
	switch {
	case j.Err == nil:
	case early:
		j.State, j.Err = report.JobNotRun, c.before(t)
	default:
		if !shown {
			c.Problem(j.Err)
		}
		if j.State = report.JobFailed; c.enough(t) {
			j.State, j.Err = report.JobDone, nil
		}
	}
	c.ended(t, j)
}

// failed says what a job that failed came to.
func (c *runCommand) failed(t *jobRun, j *report.Job) {
	said := []string{}
	if n := c.Last; n != nil {
		for _, one := range []struct {
			n    int
			what string
		}{{n.Archives, "succeeded"}, {n.Done, "done before"}, {n.Failed, "failed"}} {
			if one.n > 0 {
				said = append(said, show.Number(one.n)+" "+one.what)
			}
		}
	}
	said = append(said, show.Took(j.Took.Duration))
	c.Err.Printf("%s: failed: %s (%d); %s\n\n", c.Err.Bad(t.Title()), fault.Of(j.Err), c.Err.Say.Code(fault.Of(j.Err)), strings.Join(said, ", "))
	c.Err.Flush()
}

// enough reports whether as many archives of a job succeeded as it needs, though not all.
func (c *runCommand) enough(t *jobRun) bool {
	n := c.Last
	if t.Needs == 0 || n == nil || n.Failed == 0 {
		return false
	}
	well := n.Archives + n.Done
	all := well + n.Failed
	if well*100 < t.Needs*all {
		return false
	}
	c.Warn(fmt.Sprintf("%s: %d of %d archives failed, and %d %% are enough", t.Title(), n.Failed, all, t.Needs))
	return true
}

// ended reports what became of a job.
func (c *runCommand) ended(t *jobRun, j *report.Job) {
	c.Event(j)
	if j.State == report.JobNotRun && !c.dryRun {
		c.Warn(t.Title() + ": " + j.Err.Error())
		if c.page != nil {
			c.page.Event(&report.Failed{Err: fault.At(t.Title(), j.Err)})
		}
	}
	if j.State == report.JobFailed && c.quiet {
		c.failed(t, j)
	}
	if s := c.Summary(); !c.quiet && j.State != report.JobNotRun {
		s.Printf("\n")
	}
	c.Out.Flush()
}
