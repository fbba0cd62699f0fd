package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/core/fault"
	"widecrate/core/job"
)

// jobCommand is a command that jobs can run. Its arguments are keys of their own.
type jobCommand struct {
	name      string
	command   func(*streams) *cobra.Command
	arguments []job.Key
}

var (
	sourcesKey = job.Key{Name: "sources", Form: job.Texts, Help: "files, folders and addresses"}
	archiveKey = job.Key{Name: "archive", Help: "the archive"}
)

// jobCommands are those that there are.
var jobCommands = []jobCommand{
	{"extract", newExtract, []job.Key{sourcesKey}},
	{"create", newCreate, []job.Key{archiveKey, sourcesKey}},
	{"convert", newConvert, []job.Key{sourcesKey}},
	{"verify", newVerify, []job.Key{sourcesKey}},
	{"parts-join", newPartsJoin, []job.Key{{Name: sourcesKey.Name, Form: job.Texts, Help: "parts of the sets, and folders"}}},
	{"edit", newEdit, []job.Key{sourcesKey, archiveKey}},
}

// forAll are options that a run has for all of its jobs, and a job cannot have.
var forAll = []string{"dry-run", "as", "null-out", "progress", "color", "quiet", "verbose"}

// refused are other options that a job cannot have, and why.
var refused = map[string]string{
	"ask-password": "nobody is there to type it; password-env or password-file says where it is",
	"stdin-as":     "a job has no standard input; put names a file",
	"password":     "a job file holds none; password-env or password-file says where it is",
}

// shared are the options that a job file can have at its top.
var shared = []string{"receipt", "skip-done", "report", "shard", "halt"}

// jobLanguage is what job files may say.
func jobLanguage() *job.Language {
	l := &job.Language{}
	for _, j := range jobCommands {
		cmd := j.command(&streams{})
		c := job.Command{Name: j.name, Help: cmd.Short, Keys: slices.Clone(j.arguments), Refused: map[string]string{}}
		for name, why := range refused {
			c.Refused[name] = why
		}
		for _, k := range option.Keys(cmd) {
			switch {
			case slices.Contains(forAll, k.Name):
				c.Refused[k.Name] = "it is said on the command line, for all jobs: widecrate run --" + k.Name
			case refused[k.Name] == "":
				c.Keys = append(c.Keys, k)
			}
			if j.name == "extract" && slices.Contains(shared, k.Name) {
				l.Common = append(l.Common, k)
			}
		}
		l.Commands = append(l.Commands, c)
	}
	return l
}

// jobRun is a job that is ready to run.
type jobRun struct {
	*job.Job
	cmd  *cobra.Command
	args []string
}

// run runs the command of a job.
func (t *jobRun) run(ctx context.Context) error {
	t.cmd.SetContext(ctx)
	return t.cmd.RunE(t.cmd, t.args)
}

// addTasks makes commands of the jobs of a file. What is wrong about them is noted in the
// file; an error is about the command line.
func (c *runCommand) addTasks(cmd *cobra.Command, f *jobFile) error {
	for i := range f.Defaults {
		d := &f.Defaults[i]
		c.set(f, c.start(d.Command), d.Command, d.Settings)
	}
	for i := range f.Jobs {
		j := &f.Jobs[i]
		if c.only != nil && !slices.Contains(c.only, j.Name) {
			continue
		}
		t := &jobRun{Job: j, cmd: c.start(j.Command)}
		if c.shard.Count > 0 && t.cmd.Flags().Lookup("shard") == nil {
			return usage(cmd, fmt.Errorf("--shard: %s", unshared(j)))
		}
		t.args = c.set(f, t.cmd, j.Command, append(forThis(f, t), j.Settings...))
		c.forAllJobs(cmd, t)
		c.check(f, t)
		if shard := t.cmd.Flags().Lookup("shard"); shard != nil && f.shard == "" {
			f.shard = shard.Value.String()
		}
		f.tasks = append(f.tasks, t)
	}
	return nil
}

// forThis are the settings for all jobs that are for this one.
func forThis(f *jobFile, t *jobRun) (settings []job.Setting) {
	for _, s := range f.Common {
		has := t.cmd.Flags().Lookup(s.Key) != nil
		switch {
		case s.Key == "report":
		case s.Key == "shard" && !has:
			f.Mistake(t.At, unshared(t.Job), "")
		case has:
			settings = append(settings, s)
		}
	}
	return settings
}

// unshared says why a job cannot be shared among several runs.
func unshared(j *job.Job) string {
	return fmt.Sprintf("%s has no shares: what it makes would depend on the others; leave %s to a run of its own after them, with --only", j.Command, j.Name)
}

func indexOf(name string) int {
	return slices.IndexFunc(jobCommands, func(j jobCommand) bool { return j.name == name })
}

func argumentsOf(name string) []job.Key { return jobCommands[indexOf(name)].arguments }

// start makes a command.
func (c *runCommand) start(name string) *cobra.Command {
	cmd := jobCommands[indexOf(name)].command(c.streams)
	root := &cobra.Command{Use: "widecrate"}
	root.AddCommand(cmd)
	prepareAll(root)
	cmd.SetIn(strings.NewReader(""))
	cmd.SetOut(c.Out)
	cmd.SetErr(c.Err)
	return cmd
}

// forAllJobs gives a job the options of the command line for all jobs; they are stronger
// than the file.
func (c *runCommand) forAllJobs(cmd *cobra.Command, t *jobRun) {
	for _, name := range append(slices.Clone(forAll), shared...) {
		from, to := cmd.Flags().Lookup(name), t.cmd.Flags().Lookup(name)
		if from.Changed && to != nil && name != "report" {
			_ = option.Put(to, from.Value.String()) // what was taken there is taken here
			to.Changed = true
		}
	}
}

// set gives a command what a job says, and returns its arguments; nil where something
// of it is wrong.
func (c *runCommand) set(f *jobFile, cmd *cobra.Command, name string, settings []job.Setting) []string {
	arguments := argumentsOf(name)
	given := map[string][]string{}
	right := true
	wrong := func(at job.Place, why error) {
		f.Mistake(at, undashed(why.Error()), "")
		right = false
	}
	for _, s := range settings {
		if s.Rows != nil {
			rows := make([][]string, len(s.Rows))
			for i, row := range s.Rows {
				rows[i] = []string{row[0].Text, row[1].Text}
			}
			option.SetRows(cmd.Flags().Lookup(s.Key), rows)
			continue
		}
		for _, v := range s.Values {
			switch {
			case v.Text == "-" && slices.Contains(streamed, s.Key):
				wrong(v.At, errors.New("a job has neither standard input nor standard output; name a file or a folder"))
			case slices.ContainsFunc(arguments, func(k job.Key) bool { return k.Name == s.Key }):
				if v.Text == "" {
					wrong(v.At, fmt.Errorf("%s is empty: is a variable not set?", s.Key))
				}
				given[s.Key] = append(given[s.Key], v.Text)
			default:
				if err := cmd.Flags().Lookup(s.Key).Value.Set(v.Text); err != nil {
					wrong(v.At, fmt.Errorf("%s: %w", strings.TrimSpace(s.Key+" "+v.Text), err))
				}
			}
		}
		if flag := cmd.Flags().Lookup(s.Key); flag != nil {
			flag.Changed = true
		}
	}
	if !right {
		return nil
	}
	args := []string{}
	for _, k := range arguments {
		args = append(args, given[k.Name]...)
	}
	return args
}

// streamed are the keys of which - would be standard input or output.
var streamed = []string{"sources", "archive", "into", "source-list", "entry-list", "pick-list", "pairs", "password-file"}

// check finds what is wrong about a job as a whole, and about its options together.
func (c *runCommand) check(f *jobFile, t *jobRun) {
	at := func(key string) job.Place {
		for _, s := range t.Settings {
			if s.Key == key {
				return s.At
			}
		}
		return t.At
	}
	together := option.Check(t.cmd)
	for _, err := range together {
		switch err := err.(type) {
		case *option.Conflict:
			key, _, _ := strings.Cut(err.A, "=")
			f.Mistake(at(key), undashed(err.Error()), "")
		case *option.Need:
			f.Mistake(at(err.A), undashed(err.Error()), "")
		case *option.Local:
			f.Mistake(at(err.Name), undashed(err.Error()), adviceOn(t.cmd, err))
		}
	}
	if together != nil || t.args == nil { // what else is wrong may come of that
		return
	}
	if k := argumentsOf(t.Command)[0]; k.Name == archiveKey.Name && at(k.Name) == t.At {
		f.Mistake(t.At, t.Command+" needs "+k.Name, "")
		return
	}
	err := t.cmd.Args(t.cmd, t.args)
	if err == nil && t.cmd.PreRunE != nil {
		err = t.cmd.PreRunE(t.cmd, t.args)
	}
	if err == nil {
		return
	}
	do := ""
	if e, ok := errors.AsType[*fault.Error](err); ok && !strings.Contains(e.Do, "see: ") {
		do = undashed(say.Advice(e))
	}
	f.Mistake(t.At, undashed(err.Error()), do)
}

var dashed = regexp.MustCompile(`--([a-z])`)

// undashed is a text about options in the words of a job file.
func undashed(text string) string { return dashed.ReplaceAllString(text, "$1") }

// enter makes the folder of a job file the one that all runs in, and returns the name of
// the file there: paths in it are relative to it.
func enter(path string) (string, error) {
	full, err := filepath.Abs(path)
	if err == nil {
		err = os.Chdir(filepath.Dir(full))
	}
	return filepath.Base(full), fault.Reading(path, err)
}
