//go:build linux && amd64

package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// call is a system call that a program is about to make, and that changes something.
type call struct {
	n    int // from 1, over all threads
	name string
	path string // of what is written to; empty: not known
}

// verdict is what becomes of a call: it fails with errno, or the program is killed
// before it; zero: it is made.
type verdict struct {
	kill  bool
	errno syscall.Errno
}

// changing are the calls that change something, of the Linux of this machine.
var changing = map[uint64]string{
	unix.SYS_OPENAT: "create", unix.SYS_WRITE: "write", unix.SYS_PWRITE64: "write", unix.SYS_FSYNC: "sync", unix.SYS_FDATASYNC: "sync", unix.SYS_SYNCFS: "sync",
	unix.SYS_RENAMEAT: "rename", unix.SYS_RENAMEAT2: "rename", unix.SYS_LINKAT: "link", unix.SYS_SYMLINKAT: "link", unix.SYS_UNLINKAT: "remove",
	unix.SYS_MKDIRAT: "mkdir", unix.SYS_UTIMENSAT: "chtimes", unix.SYS_FCHMOD: "chmod", unix.SYS_FCHMODAT: "chmod", unix.SYS_FTRUNCATE: "truncate", unix.SYS_FALLOCATE: "allocate",
	unix.SYS_COPY_FILE_RANGE: "copy", unix.SYS_FLOCK: "lock",
}

// trace runs the program and asks what is to become of each call that changes
// something. It looks at the calls of all threads from outside, as a debugger does: a
// build that fails on purpose would be another program than the one that is used, and
// could not be killed between two calls of the libraries.
func (h *harness) trace(dir, line string, judge func(call) verdict) (result, error) {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	cmd, out, err := h.start(dir, line, func(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Ptrace: true, Pdeathsig: syscall.SIGKILL} })
	if err != nil {
		return result{}, err
	}
	defer out.Close()
	main := cmd.Process.Pid
	var status unix.WaitStatus
	if _, err := unix.Wait4(main, &status, unix.WALL, nil); err != nil {
		return result{}, err
	}
	if err := unix.PtraceSetOptions(main, unix.PTRACE_O_TRACESYSGOOD|unix.PTRACE_O_TRACECLONE|unix.PTRACE_O_EXITKILL); err != nil {
		return result{}, err
	}
	t := tracer{main: main, judge: judge, inside: map[int]bool{}, failing: map[int]syscall.Errno{}}
	if err := unix.PtraceSyscall(main, 0); err != nil {
		return result{}, err
	}
	var usage unix.Rusage
	for {
		pid, err := unix.Wait4(-1, &status, unix.WALL|unix.WNOTHREAD, &usage)
		switch {
		case errors.Is(err, unix.EINTR):
			continue
		case err != nil:
			return result{}, fmt.Errorf("the program was lost: %w", err)
		case pid == main && (status.Exited() || status.Signaled()):
			_ = cmd.Process.Release()
			r := result{killed: status.Signaled(), code: status.ExitStatus()}
			h.note(usage.Maxrss<<10, usage.Utime.Nano()+usage.Stime.Nano())
			return r, out.into(&r)
		case status.Exited() || status.Signaled():
			continue
		}
		signal := 0
		switch stop := status.StopSignal(); {
		case stop == unix.SIGTRAP|0x80:
			if err := t.stopped(pid); err != nil && !errors.Is(err, unix.ESRCH) {
				return result{}, err
			}
		case stop == unix.SIGTRAP, stop == unix.SIGSTOP: // a new thread
		default:
			signal = int(stop)
		}
		if err := unix.PtraceSyscall(pid, signal); err != nil && !errors.Is(err, unix.ESRCH) {
			return result{}, err
		}
	}
}

// tracer follows the threads of a program.
type tracer struct {
	main    int
	judge   func(call) verdict
	n       int
	inside  map[int]bool // threads that are in a call
	failing map[int]syscall.Errno
}

// stopped is called where a thread goes into a call, or comes out of it.
func (t *tracer) stopped(thread int) error {
	t.inside[thread] = !t.inside[thread]
	var regs unix.PtraceRegs
	if !t.inside[thread] {
		errno, fails := t.failing[thread]
		if !fails {
			return nil
		}
		delete(t.failing, thread)
		if err := unix.PtraceGetRegs(thread, &regs); err != nil {
			return err
		}
		regs.Rax = -uint64(errno)
		return unix.PtraceSetRegs(thread, &regs)
	}
	if err := unix.PtraceGetRegs(thread, &regs); err != nil {
		return err
	}
	name, path := t.named(&regs)
	if name == "" {
		return nil
	}
	t.n++
	v := t.judge(call{t.n, name, path})
	if v.kill {
		return unix.Kill(t.main, unix.SIGKILL)
	}
	if v.errno == 0 {
		return nil
	}
	regs.Orig_rax = ^uint64(0) // no call at all
	t.failing[thread] = v.errno
	return unix.PtraceSetRegs(thread, &regs)
}

// named is what a call is called, and the file that it is about where that is open;
// empty for one that changes nothing.
func (t *tracer) named(regs *unix.PtraceRegs) (name, path string) {
	name = changing[regs.Orig_rax]
	switch {
	case regs.Orig_rax == unix.SYS_OPENAT:
		if regs.Rdx&(unix.O_CREAT|unix.O_TMPFILE&^unix.O_DIRECTORY) == 0 {
			return "", ""
		}
	case name == "write", name == "sync", name == "truncate", name == "copy", name == "allocate", name == "lock":
		fd := regs.Rdi
		if name == "copy" {
			fd = regs.Rdx
		}
		path, _ = os.Readlink(fmt.Sprintf("/proc/%d/fd/%d", t.main, fd))
		if fd == 1 || fd == 2 || !strings.HasPrefix(path, "/") || strings.HasPrefix(path, "/dev/null") {
			return "", "" // what is printed, and what wakes threads
		}
	}
	return name, path
}
