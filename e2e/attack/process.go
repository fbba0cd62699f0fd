//go:build linux && amd64

package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"time"

	"widecrate/demo/standin"
	"widecrate/e2e/traced"
)

// result is what came of a run.
type result struct {
	killed bool
	code   int
	output string
	memory int64 // at its peak, in bytes
}

// output is the file that a run prints into, and what stands for its web server.
type output struct {
	*os.File
	stop func()
}

// Close ends both.
func (o *output) Close() {
	o.File.Close()
	o.stop()
}

// into reads what was printed.
func (o *output) into(r *result) error {
	text, err := os.ReadFile(o.Name())
	r.output = string(text)
	return err
}

// ready makes a command of a scene ready to be started.
func (h *harness) ready(dir, line string) (*exec.Cmd, *output, error) {
	file, err := os.CreateTemp(h.dir, "output-")
	if err != nil {
		return nil, nil, err
	}
	out := &output{file, func() { os.Remove(file.Name()) }}
	if strings.Contains(line, "ADDRESS") {
		address, stop, err := (&standin.Server{Folder: dir}).Start()
		if err != nil {
			return nil, nil, err
		}
		line = strings.ReplaceAll(line, "ADDRESS", strings.TrimSuffix(address, "/"))
		out.stop = func() { stop(); os.Remove(file.Name()) }
	}
	cmd := exec.Command(h.program, strings.Fields(line)...)
	cmd.Dir, cmd.Stdout, cmd.Stderr = dir, file, file
	cmd.Env = append(os.Environ(), "TMPDIR="+filepath.Dir(h.program), "SOURCE_DATE_EPOCH=1777000000")
	return cmd, out, nil
}

// trace runs a command, and asks what is to become of each call that changes something.
func (h *harness) trace(dir, line string, judge func(traced.Call) traced.Verdict) (result, error) {
	return h.traced(dir, line, func(*exec.Cmd) {}, judge)
}

// traced is trace for a command that is prepared.
func (h *harness) traced(dir, line string, prepare func(*exec.Cmd), judge func(traced.Call) traced.Verdict) (result, error) {
	cmd, out, err := h.ready(dir, line)
	if err != nil {
		return result{}, err
	}
	defer out.Close()
	prepare(cmd)
	status, usage, err := traced.Run(cmd, judge)
	if err != nil {
		return result{}, err
	}
	r := result{killed: status.Signaled(), code: status.ExitStatus()}
	h.note(usage.Maxrss<<10, usage.Utime.Nano()+usage.Stime.Nano())
	return r, out.into(&r)
}

// command runs a command in peace.
func (h *harness) command(dir, line string) (code int, printed string) {
	r := h.during(dir, line, func(*exec.Cmd) {}, func(*os.Process) {})
	return r.code, r.output
}

// during runs a command while something else happens. One that cannot be started has
// the code -1.
func (h *harness) during(dir, line string, prepare func(*exec.Cmd), while func(*os.Process)) result {
	runtime.LockOSThread() // a thread that traces waits for all children of its own
	defer runtime.UnlockOSThread()
	cmd, out, err := h.ready(dir, line)
	if err != nil {
		return result{code: -1, output: err.Error()}
	}
	defer out.Close()
	prepare(cmd)
	if err := cmd.Start(); err != nil {
		return result{code: -1, output: err.Error()}
	}
	while(cmd.Process)
	_ = cmd.Wait() // the state has it
	r := result{code: cmd.ProcessState.ExitCode(), killed: cmd.ProcessState.ExitCode() < 0}
	if usage, ok := usageOf(cmd.ProcessState); ok {
		r.memory = usage
		h.note(usage, int64(cmd.ProcessState.UserTime()+cmd.ProcessState.SystemTime()))
	}
	if err := out.into(&r); err != nil {
		return result{code: -1, output: err.Error()}
	}
	return r
}

// note keeps the largest memory, in bytes, and the longest time, in nanoseconds, of a run.
func (h *harness) note(memory, nanoseconds int64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.peak, h.longest = max(h.peak, memory), max(h.longest, time.Duration(nanoseconds))
}

// usageOf is the peak memory of a process that ended, in bytes.
func usageOf(state *os.ProcessState) (int64, bool) {
	usage, ok := state.SysUsage().(*syscall.Rusage)
	if !ok {
		return 0, false
	}
	return usage.Maxrss << 10, true
}
