//go:build linux && amd64

// Package traced runs a program and decides about each of its system calls that changes
// something. It looks at the calls of all threads from outside, as a debugger does: a build
// that fails on purpose would be another program than the one that is used, and could not be
// killed between two calls of the libraries.
package traced

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

// A Call is a system call that a program is about to make, and that changes something.
type Call struct {
	N    int // from 1, over all threads
	Name string
	Path string // of what is written to; empty: not known
}

// A Verdict is what becomes of a call: it fails with an error number, or the program is
// killed before it; zero: it is made.
type Verdict struct {
	Kill  bool
	Errno syscall.Errno
}

// changing are the calls that change something, of the Linux of this machine.
var changing = map[uint64]string{
	unix.SYS_OPENAT: "create", unix.SYS_WRITE: "write", unix.SYS_PWRITE64: "write", unix.SYS_FSYNC: "sync", unix.SYS_FDATASYNC: "sync", unix.SYS_SYNCFS: "sync",
	unix.SYS_RENAMEAT: "rename", unix.SYS_RENAMEAT2: "rename", unix.SYS_LINKAT: "link", unix.SYS_SYMLINKAT: "link", unix.SYS_UNLINKAT: "remove",
	unix.SYS_MKDIRAT: "mkdir", unix.SYS_UTIMENSAT: "chtimes", unix.SYS_FCHMOD: "chmod", unix.SYS_FCHMODAT: "chmod", unix.SYS_FTRUNCATE: "truncate", unix.SYS_FALLOCATE: "allocate",
	unix.SYS_COPY_FILE_RANGE: "copy", unix.SYS_FLOCK: "lock",
}

// Run runs a command, which was not started, and asks what is to become of each call. The
// usage is that of the whole program.
func Run(cmd *exec.Cmd, judge func(Call) Verdict) (status unix.WaitStatus, usage unix.Rusage, err error) {
	runtime.LockOSThread() // a thread that traces waits for all children of its own
	defer runtime.UnlockOSThread()
	if cmd.SysProcAttr == nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{}
	}
	cmd.SysProcAttr.Ptrace, cmd.SysProcAttr.Pdeathsig = true, syscall.SIGKILL
	if err := cmd.Start(); err != nil {
		return status, usage, err
	}
	defer cmd.Process.Release()
	main := cmd.Process.Pid
	if _, err := unix.Wait4(main, &status, unix.WALL, nil); err != nil {
		return status, usage, err
	}
	if err := unix.PtraceSetOptions(main, unix.PTRACE_O_TRACESYSGOOD|unix.PTRACE_O_TRACECLONE|unix.PTRACE_O_EXITKILL); err != nil {
		return status, usage, err
	}
	t := tracer{main: main, judge: judge, inside: map[int]bool{}, failing: map[int]syscall.Errno{}}
	if err := unix.PtraceSyscall(main, 0); err != nil {
		return status, usage, err
	}
	for {
		pid, err := unix.Wait4(-1, &status, unix.WALL|unix.WNOTHREAD, &usage)
		switch {
		case errors.Is(err, unix.EINTR):
			continue
		case err != nil:
			return status, usage, fmt.Errorf("the program was lost: %w", err)
		case pid == main && (status.Exited() || status.Signaled()):
			return status, usage, nil
		case status.Exited() || status.Signaled():
			continue
		}
		signal := 0
		switch stop := status.StopSignal(); {
		case stop == unix.SIGTRAP|0x80:
			if err := t.stopped(pid); err != nil && !errors.Is(err, unix.ESRCH) {
				return status, usage, err
			}
		case stop == unix.SIGTRAP, stop == unix.SIGSTOP: // a new thread
		default:
			signal = int(stop)
		}
		if err := unix.PtraceSyscall(pid, signal); err != nil && !errors.Is(err, unix.ESRCH) {
			return status, usage, err
		}
	}
}

// tracer follows the threads of a program.
type tracer struct {
	main    int
	judge   func(Call) Verdict
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
	v := t.judge(Call{t.n, name, path})
	if v.Kill {
		return unix.Kill(t.main, unix.SIGKILL)
	}
	if v.Errno == 0 {
		return nil
	}
	regs.Orig_rax = ^uint64(0) // no call at all
	t.failing[thread] = v.Errno
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
