//go:build linux && amd64

package main

import (
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"

	"widecrate/e2e/traced"
)

// users lets one user's run be killed, and another user's go on in the same folder: nothing that
// was left stops it, and the first one's next run puts things right.
func (h *harness) users(random *rand.Rand) (err error) {
	if os.Geteuid() != 0 {
		return nil // only root can be somebody else
	}
	own := h.scene("own")
	dir, err := os.MkdirTemp(h.dir, "users-")
	if err != nil {
		return err
	}
	people := []uint32{ordinary - 1, ordinary}
	for i, name := range []string{"a.zip", "b.tar.gz"} {
		in := filepath.Join(dir, fmt.Sprint("in", i))
		err := os.Mkdir(in, 0o755)
		if err == nil {
			err = os.Link(filepath.Join(own.template, name), filepath.Join(in, name))
			if errors.Is(err, syscall.EPERM) || errors.Is(err, syscall.ENOTSUP) {
				return nil // a place that has neither links nor users
			}
		}
		if err == nil {
			err = os.Chown(in, int(people[i]), int(people[i]))
		}
		if err != nil {
			return err
		}
	}
	for _, shared := range []string{"", "out", "work"} {
		if err := os.MkdirAll(filepath.Join(dir, shared), 0o777); err != nil {
			return err
		}
		if err := os.Chmod(filepath.Join(dir, shared), 0o777); err != nil {
			return err
		}
	}
	option := []string{"", " --staging work", " --layout shared", " --fresh", " --after move=DONE", " --replaced work --clash replace"}[random.IntN(6)]
	mask := []string{"077", "022", "007"}[random.IntN(3)]
	at := 1 + random.IntN(own.calls)
	line := func(i int) string {
		return strings.ReplaceAll(fmt.Sprintf("extract in%d --into out%s", i, option), "DONE", fmt.Sprintf("in%d/done", i))
	}
	defer func() {
		if err != nil {
			err = fmt.Errorf("two users, umask %s, widecrate %s, killed at call %d: %w", mask, line(0), at, err)
		}
	}()
	as := func(i int) func(*exec.Cmd) {
		return func(cmd *exec.Cmd) {
			cmd.Args = append([]string{"sh", "-c", `umask "$1"; shift; exec "$0" "$@"`, h.program, mask}, cmd.Args[1:]...)
			cmd.Path = "/bin/sh"
			cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: people[i], Gid: people[i]}}
		}
	}
	first, err := h.traced(dir, line(0), as(0), func(c traced.Call) traced.Verdict { return traced.Verdict{Kill: c.N == at} })
	if err != nil {
		return err
	}
	if first.killed {
		h.ended("users")
	} else if first.code != 0 {
		return fmt.Errorf("the first ended with %d: %s", first.code, first.output)
	}
	for i := range 2 {
		who := 1 - i // the other one, and then the first again
		if r := h.during(dir, line(who), as(who), func(*os.Process) {}); r.code != 0 {
			return fmt.Errorf("then %s ended with %d: %s", line(who), r.code, r.output)
		}
	}
	now, hidden, err := look(filepath.Join(dir, "out"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	want := own.after.below("out").from("out")
	if option == " --layout shared" {
		want = h.scene("shared").after.below("out").from("out")
	}
	switch wrong := now.differs(want); {
	case wrong != "":
		return fmt.Errorf("in the end, this is not as it is to be: %s", wrong)
	case len(hidden) > 0:
		return fmt.Errorf("in the end, this is left: %s", strings.Join(hidden, ", "))
	}
	return removeAll(dir)
}
