// Package cli is the command line: commands, options, and what they print. It
// asks the core to do the work and does none of it itself.
package cli

import (
	"context"
	"errors"
	"io"
	"os"
	"os/signal"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/cli/page"
	"widecrate/cli/show"
	"widecrate/core/fault"
	"widecrate/core/newfile"
)

// patience is how soon a second interrupt counts: some senders send each twice.
const patience = 500 * time.Millisecond

// The collector comes no sooner than when there is as much garbage as this: with small files
// that would be a tenth of the time. It is address space only.
var ballast = sync.OnceValue(func() []byte { return make([]byte, 16<<20) })

// Program is Main for a process of its own, which gives up what the command does not need.
func Program() int { return run(os.Args[1:], os.Stdout, os.Stderr, true) }

// Main runs the command line and returns the exit code. The first interrupt
// lets what is under way clean up; a later one ends the program at once.
func Main(args []string, stdout, stderr io.Writer) int { return run(args, stdout, stderr, false) }

func run(args []string, stdout, stderr io.Writer, alone bool) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	go func() {
		<-ctx.Done()
		time.Sleep(patience)
		stop()
	}()
	running, cancel := context.WithCancel(ctx)
	defer cancel()
	s := &streams{Output: show.Output{Out: show.NewScreen(stdout), Err: show.NewScreen(stderr)}, confined: !alone}
	s.Out.Say, s.Err.Say = say, say
	signal.Ignore(syscall.SIGPIPE) // the program would end at once, and leave what is not complete
	var unread atomic.Bool
	s.Out.WhenClosed(func() {
		unread.Store(true)
		s.Err.Silence() // the exit code tells
		cancel()
	})
	root := newRoot(s)
	prepareFor(root, args)
	if completes(args) { // else nobody needs them
		completeOptions(root)
	}
	root.SetArgs(args)
	root.SetIn(standardInput(running))
	root.SetOut(s.Out)
	root.SetErr(s.Err)
	root.PersistentPreRun = func(*cobra.Command, []string) { ballast() }
	var cmd *cobra.Command
	err := fault.Guard(func() (err error) {
		cmd, err = root.ExecuteContextC(running)
		return err
	})
	if cmd == nil {
		cmd = root
	}
	if err == nil {
		err = usage(cmd, s.wrong)
	}
	if err == errShortHelp {
		s.Out.Printf("%s", shortHelp(cmd))
		err = nil
	}
	if flushed := s.Out.Flush(); flushed != nil {
		err = s.both(err, fault.At("standard output", fault.New(fault.Unwritable, "%w", flushed)))
	}
	s.Err.Flush() // an error stream that cannot be written to leaves the exit code to tell
	if unread.Load() {
		return exitUnread
	}
	code := exitCode(err)
	switch _, done := errors.AsType[reported](err); {
	case code == exitInterrupted:
		s.Warn(interrupted)
	case err != nil && !done:
		if s.Form = show.People; wantsJSON(args) { // it may have failed before its options were read
			s.Form = show.JSON
		}
		s.Failed(err)
	}
	return code
}

// wantsJSON reports whether a command line asks for that, whatever else is wrong with it.
func wantsJSON(args []string) bool {
	at := slices.Index(args, "--as")
	return slices.Contains(args, "--as=json") || at >= 0 && at+1 < len(args) && args[at+1] == "json"
}

// streams are what a command prints to.
type streams struct {
	show.Output
	page    *page.Page    // about a run of several commands; nil: each is alone
	jobFile string        // that the command is run by; empty: none
	job     string        // names its run in receipts; empty: there is none
	sites   newfile.Sites // where it may write
	wrong   error         // of a command line that asks for help; nil: nothing

	confined bool // the process has given up what it does not need, or has more to do
}

func newRoot(s *streams) *cobra.Command {
	root := &cobra.Command{
		Use:   "widecrate COMMAND",
		Short: "Unpack many archives at once, look inside them, and make them",
		Long: `widecrate unpacks many archives in one call, each into its own folder or all
into one, keeping only the entries that are wanted. It looks inside archives
without unpacking them, checks and compares them, and makes new ones.

Exit codes:

     0  done, or nothing to do
     1  several kinds of failure; compare: not the same
     2  wrong command line, nothing was touched
     3  refused, it would change what is there
     4  a set is incomplete
     5  a password is missing or wrong
     6  nothing matched
     7  damaged, or in no format that is read
     8  a source is missing or unreadable
     9  unsafe: a path leaves its folder, or a limit is reached
    10  cannot write
   130  interrupted, and cleaned up`,
		Example: `  widecrate extract readings --into landing --ext csv
  widecrate inspect readings/gull-ness-2026-05-01.zip
  widecrate create hand-over.zip landing --top drop
  widecrate parts scan survey  # exit code 4
  widecrate demo`,
		SilenceErrors: true,
		SilenceUsage:  true,
		Args:          noCommand,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if isOn(cmd, "version") {
				s.version()
				return nil
			}
			return cmd.Help()
		},
	}
	root.Flags().Bool("version", false, "say which version this is")
	_ = root.Flags().MarkHidden("version") // it is a command as well
	root.SuggestionsMinimumDistance = 0
	root.DisableSuggestions = true
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error { return usage(cmd, err) })
	root.SetHelpFunc(func(cmd *cobra.Command, _ []string) {
		if cmd.HasSubCommands() {
			s.wrong = noCommand(cmd, cmd.Flags().Args())
		}
		if s.wrong == nil {
			cmd.Print(help(cmd))
		}
	})
	root.SetHelpCommand(newHelp(s))
	root.CompletionOptions.HiddenDefaultCmd = false
	root.AddCommand(newExtract(s), newInspect(s), newVerify(s), newCompare(s), newCreate(s), newParts(s), newEdit(s), newConvert(s), newUndo(s), newWeigh(s), newRun(s), newDemo(s), newVersion(s))
	addCompletion(root)
	return root
}

// prepareFor prepares what a command line needs: the command that it calls, or where it asks about
// commands, or there is none of that name, all of them.
func prepareFor(root *cobra.Command, args []string) {
	called, _, err := root.Find(args)
	plain := err == nil && !completes(args)
	for above := called; plain && above != root; above = above.Parent() {
		plain = above.Name() != "help" && above.Name() != "completion"
	}
	if !plain || called == root && len(args) > 0 && !slices.Equal(args, []string{"--help"}) {
		prepareAll(root)
		return
	}
	prepare(root)
	if called != root {
		prepare(called)
	}
}

// prepareAll prepares a command and those below it.
func prepareAll(cmd *cobra.Command) {
	prepare(cmd)
	for _, below := range cmd.Commands() {
		prepareAll(below)
	}
}

// prepare gives a command its options, and what all commands have in common.
func prepare(cmd *cobra.Command) {
	option.Declare(cmd)
	cmd.Flags().Bool("help", false, "show all of the help; -h: a line for each option")
	short := cmd.Flags().BoolP("short-help", "h", false, "show a line for each option")
	cmd.Flags().Lookup("short-help").Hidden = true
	cmd.Flags().SortFlags = false
	cmd.DisableFlagsInUseLine = true
	check := cmd.Args
	cmd.Args = func(cmd *cobra.Command, args []string) error {
		if *short {
			return errShortHelp
		}
		if check != nil {
			if err := check(cmd, args); err != nil {
				return usage(cmd, err)
			}
		}
		wrong := option.Check(cmd)
		if wrong == nil {
			return nil
		}
		if local, is := wrong[0].(*option.Local); is {
			return fault.New(fault.Usage, "%w", local).Advise(adviceOn(cmd, local))
		}
		return usage(cmd, wrong[0])
	}
}
