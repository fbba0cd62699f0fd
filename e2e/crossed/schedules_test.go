package crossed

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// held are the system calls that are held up.
var held = []string{"mkdirat", "renameat2", "renameat", "linkat", "unlinkat", "openat", "newfstatat", "utimensat", "write", "pread64", "fstat", "close", "flock"}

// A delay holds up some of the calls of a process, so that others come in between.
type delay struct {
	calls         []string
	before, after int // microseconds
	first, each   int // of the calls: from the first one on, each so many
}

func drawDelay(t *rapid.T) (d delay) {
	d.calls = rapid.SliceOfNDistinct(rapid.SampledFrom(held), 1, 3, rapid.ID).Draw(t, "calls")
	for _, length := range []*int{&d.before, &d.after} {
		*length = rapid.SampledFrom([]int{0, 200, 2000, 20_000}).Draw(t, "delay")
	}
	d.first, d.each = rapid.IntRange(1, 8).Draw(t, "first"), rapid.IntRange(1, 9).Draw(t, "each")
	return d
}

func (d delay) String() string {
	return fmt.Sprintf("%s:delay_enter=%d:delay_exit=%d:when=%d+%d", strings.Join(d.calls, ","), d.before, d.after, d.first, d.each)
}

// run runs a command line in a process of its own that is held up.
func (d delay) run(t tester, strace, dir string, args []string) result {
	var stdout, stderr bytes.Buffer
	cmd := exec.Command(strace, "-f", "-qq", "-o", os.DevNull, "--seccomp-bpf", "-e", "trace="+strings.Join(d.calls, ","), "-e", "inject="+d.String(), os.Args[0])
	cmd.Args = append(cmd.Args, named(t, dir, args)...)
	cmd.Stdout, cmd.Stderr, cmd.Env = &stdout, &stderr, append(os.Environ(), asProgram+"=1")
	err := cmd.Run()
	if _, failed := errors.AsType[*exec.ExitError](err); !failed {
		require.NoError(t, err)
	}
	return resultOf(t, dir, cleaned(dir, stdout.String()), cleaned(dir, stderr.String()), cmd.ProcessState.ExitCode())
}

// Many tiny archives in few folders, with many workers whose system calls are held up at random,
// come out as they do one after the other.
func TestSchedules(t *testing.T) {
	strace, err := exec.LookPath("strace")
	if err != nil {
		t.Skip("without a way to hold up system calls")
	}
	rapid.Check(t, func(t *rapid.T) {
		w := &world{there: Tree{}, way: inFolder}
		if one(t, 3) {
			w.there["s/t/x"] = Thing{File, "mine", when.Unix()}
		}
		for i := range rapid.IntRange(4, 30).Draw(t, "archives") {
			below := rapid.SampledFrom([]string{"", "s/", "s/t/", "s/t/u/v/"}).Draw(t, "below")
			w.archives = append(w.archives, drawArchive(t, fmt.Sprintf("%sarch-%d", below, i), rapid.SampledFrom([]int{0, 3}).Draw(t, "depth")))
		}
		args := append(drawOptions(t, "recursive"), "--recursive")
		for _, more := range [][]string{{"--receipt", "DIR/r/s/receipt"}, {"--sums", "DIR/r/s/sums"}, {"--after", "move=DIR/done/a"}, {"--after", "remove"},
			{"--failed", "move=DIR/failed/a"}, {"--replaced", "DIR/replaced/a"}} {
			if one(t, 4) && !slices.Contains(args, more[0]) {
				args = append(args, more...)
			}
		}
		workers := rapid.SampledFrom([]string{"2", "4", "16"}).Draw(t, "workers")
		delayed := drawDelay(t)
		t.Logf("with %s workers and %s: extract in %s%s", workers, delayed, strings.Join(args, " "), w)
		dir := w.make(t)
		first, quiet := extract(t, w, dir, append(args, "--workers", "1")), beside(t, dir)
		var other result
		for tries := 1; tries == 1 || tries < 5 && strings.Contains(other.errs, strace+": ptrace("); tries++ { // it ended, and not the program
			dir = w.make(t)
			other = delayed.run(t, strace, dir, append(w.extracting(t, dir, args), "--workers", workers))
		}
		agree(t, first, other)
		assert.Empty(t, quiet.Differences(beside(t, dir)), other.errs)
	})
}

// beside is what a run leaves beside its destination, without times, also those in the texts.
func beside(t tester, dir string) Tree {
	all := Tree{}
	for _, name := range []string{"in", "r", "done", "failed", "replaced"} {
		tree, err := Look(filepath.Join(dir, name))
		require.NoError(t, err)
		for at, thing := range tree {
			thing.Time = 0
			if name == "r" || strings.HasSuffix(at, ".reason.txt") {
				thing.Data = ""
			}
			all[name+"/"+at] = thing
		}
	}
	return all
}
