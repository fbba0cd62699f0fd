//go:build linux && amd64

package main

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"strconv"
	"strings"

	"widecrate/e2e/places"
)

// limit gives a run too little of something.
func (h *harness) limit(random *rand.Rand) error {
	p := h.some(random)
	how, attempt := "", func(string) error { return nil }
	switch random.IntN(4) {
	case 0:
		kind := map[string]string{"": "tmpfs", "tmpfs": "tmpfs", "ext2": "ext2", "ext4": "ext4"}[h.kind]
		if os.Geteuid() != 0 || kind == "" {
			return nil // only root can mount one, and others cannot be so small
		}
		return h.smallDisk(p, kind, random)
	case 1:
		files := 40 + random.IntN(60)
		how, attempt = fmt.Sprintf("%d open files", files), func(dir string) error { return h.limited(p, dir, "-n", files, false) }
	case 2:
		kib := 1 + random.IntN(80)
		how, attempt = fmt.Sprintf("files of %d KiB at most", kib), func(dir string) error { return h.limited(p, dir, "-f", kib*2, true) }
	case 3:
		full := random.IntN(2) == 0
		how, attempt = fmt.Sprintf("nothing can be printed (full: %v)", full), func(dir string) error { return h.silenced(p, dir, full) }
	}
	dir, done, err := h.play(p)
	if err == nil {
		err = attempt(dir)
	}
	if err != nil {
		return p.explain(how, err)
	}
	done()
	return nil
}

// smallDisk runs a scene on a file system with little room, or few files, and gives it
// more for the next run.
func (h *harness) smallDisk(p *prepared, kind string, random *rand.Rand) (err error) {
	var bytes, files int64
	for at, content := range p.before {
		files++
		if !strings.HasSuffix(at, "/") {
			bytes += (int64(len(content)) + 4095) &^ 4095
		}
	}
	size, inodes := bytes+random.Int64N(300<<10), files+8+random.Int64N(60)
	if kind != "tmpfs" { // it has tables, and a journal
		size, inodes = size+size/4+2<<20, inodes+12
	}
	how := fmt.Sprintf("a disk of %d KiB and %d files", size>>10, inodes)
	place, err := places.Small(kind, size, inodes)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, place.Unmount()) }()
	disk := place.Dir
	if copyTree(p.template, disk) != nil || h.all(disk, p.begin) != nil {
		return nil // the disk is too small to begin with
	}
	code, printed := h.command(disk, p.run)
	if err := h.afterTrouble(p, disk, code, printed); err != nil {
		return p.explain(how, err)
	}
	if code != 0 {
		h.ended("limits")
	}
	if kind != "tmpfs" {
		return nil // it cannot grow
	}
	if err := place.Grow(); err != nil {
		return err
	}
	return p.explain(how, h.rightInTheEnd(p, disk, p.sources != ""))
}

// afterTrouble checks what must hold of a run that had to do with too little.
func (h *harness) afterTrouble(p *prepared, dir string, code int, printed string) error {
	if err := p.rightNow(dir); err != nil {
		return err
	}
	if p.other != "" { // there may be no room for it
		return nil
	}
	now, hidden, err := look(dir)
	switch {
	case err != nil:
		return err
	case strings.Contains(printed, "goroutine "), code < 0, code == 1 && p.code == 0, code == 2:
		return fmt.Errorf("it ended with %d: %s", code, printed)
	case code == p.code && now.differs(p.after) != "":
		return fmt.Errorf("it ended as in peace, and this is wrong: %s", now.differs(p.after))
	case len(hidden) > 0:
		return fmt.Errorf("it left %s: %q", strings.Join(hidden, ", "), printed)
	}
	return nil
}

// limited runs a scene under a limit of the shell's.
func (h *harness) limited(p *prepared, dir, what string, much int, mayFail bool) error {
	r := h.during(dir, p.run, func(cmd *exec.Cmd) {
		cmd.Args = append([]string{"sh", "-c", `ulimit "$1" "$2"; shift 2; exec "$0" "$@"`, h.program, what, strconv.Itoa(much)}, cmd.Args[1:]...)
		cmd.Path = "/bin/sh"
	}, func(*os.Process) {})
	if err := h.afterTrouble(p, dir, r.code, r.output); err != nil {
		return err
	}
	if r.code != p.code {
		if !mayFail {
			return fmt.Errorf("it ended with %d: %s", r.code, r.output)
		}
		h.ended("limits")
	}
	return h.rightInTheEnd(p, dir, p.sources != "")
}

// silenced runs a scene where standard output is closed or full. What is done is done all
// the same.
func (h *harness) silenced(p *prepared, dir string, full bool) error {
	to := ">&-"
	if full {
		to = ">/dev/full"
	}
	r := h.during(dir, p.run, func(cmd *exec.Cmd) {
		cmd.Args = append([]string{"sh", "-c", `exec "$0" "$@" ` + to, h.program}, cmd.Args[1:]...)
		cmd.Path = "/bin/sh"
	}, func(*os.Process) {})
	if r.code != 0 {
		h.ended("limits")
	}
	if err := h.afterTrouble(p, dir, r.code, r.output); err != nil {
		return err
	}
	return h.rightInTheEnd(p, dir, p.sources != "")
}
