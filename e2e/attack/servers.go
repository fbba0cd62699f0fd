//go:build linux && amd64

package main

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"widecrate/demo/standin"
	"widecrate/demo/standin/dav"
)

// atServers are commands whose sources, archives or receipts lie at a server. AT is its folder.
var atServers = []string{
	"extract AT/inbox/ --into out --after move=AT/done/ --failed move=AT/failed/",
	"extract AT/inbox/ --into out --after remove --failed move=AT/failed/",
	"extract AT/inbox/ --into out --after move=AT/done/ --failed move=AT/failed/ --receipt AT/receipts/r.jsonl --skip-done",
	"convert AT/inbox/ --to tar --into AT/conv/ --after move=AT/done/ --failed move=AT/failed/ --clash replace",
	"verify AT/inbox/ --failed move=AT/failed/",
	"create AT/made.zip files --clash replace",
	"create AT/new/one.zip files --clash replace --receipt AT/receipts/c.jsonl --sums AT/c.sums",
	"create AT/cut.zip files --part-size 64k --part-style zip --clash replace",
	"create AT/each/{name}.tar.gz files inbox --each --clash replace",
	"parts split files/big.bin --part-size 90k --into AT/parts --clash replace",
}

// served is what atServers work on: a folder, and what comes of each when nothing disturbs it.
type served struct {
	once     sync.Once
	err      error
	template string
	known    map[string]bool // what files hold, before and after
	after    map[string]tree
	codes    map[string]int
	took     map[string]time.Duration
}

// servers kills commands that work at servers, at any moment, and lets the next run go on: in the end all is as if
// nobody had been killed, nothing is lost, and nothing is there twice.
func (h *harness) servers(random *rand.Rand) error {
	h.served.once.Do(func() { h.served.err = h.serve() })
	if h.served.err != nil {
		return h.served.err
	}
	line, sftp := atServers[random.IntN(len(atServers))], random.IntN(2) == 0
	dir, at, stop, err := h.newServer(sftp)
	if err != nil {
		return err
	}
	defer stop()
	var log []string
	kills := 1 + random.IntN(3)
	for range kills {
		after := time.Duration(random.Float64() * 1.2 * float64(h.served.took[line]))
		log = append(log, after.String())
		r := h.during(dir, at(line), func(*exec.Cmd) {}, func(process *os.Process) {
			time.Sleep(after)
			_ = process.Signal(syscall.SIGKILL)
		})
		if r.killed {
			h.ended("servers")
		} else if r.code != h.served.codes[line] && r.code != 0 {
			return fmt.Errorf("%s (SFTP: %t), killed after %s: it ended with %d: %s", line, sftp, strings.Join(log, ", "), r.code, r.output)
		}
	}
	r := h.during(dir, at(line), func(*exec.Cmd) {}, func(*os.Process) {})
	if err := h.asServed(dir, line, r); err != nil {
		return fmt.Errorf("%s (SFTP: %t), killed after %s, then ended with %d: %w\n%s", line, sftp, strings.Join(log, ", "), r.code, err, r.output)
	}
	return removeAll(dir)
}

// asServed makes sure that all is as if nobody had been killed.
func (h *harness) asServed(dir, line string, r result) error {
	if want := h.served.codes[line]; r.code != want && r.code != 0 { // what failed may have been dealt with already
		return fmt.Errorf("it should have ended with %d", want)
	}
	now, err := h.lookServed(dir)
	if err != nil {
		return err
	}
	if wrong := now.differs(h.served.after[line]); wrong != "" {
		return fmt.Errorf("what is there is not what should be: %s", wrong)
	}
	return nil
}

// lookServed is what is there, without folders. Receipts can be read. A file that was set aside, so that it could come
// back, may stay if the run was killed just then; it has to be one that was there, or was to be.
func (h *harness) lookServed(dir string) (tree, error) {
	now, hidden, err := look(dir)
	if err != nil {
		return nil, err
	}
	for _, name := range hidden {
		text, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(name)))
		switch {
		case err != nil:
			return nil, err
		case !strings.HasSuffix(name, "-moved"):
			return nil, fmt.Errorf("%s is left", name)
		case !h.served.known[string(text)]:
			return nil, fmt.Errorf("%s was never there", name)
		}
	}
	receipts, err := filepath.Glob(filepath.Join(dir, "receipts", "*.jsonl"))
	for _, path := range receipts {
		text, unread := os.ReadFile(path)
		if err = errors.Join(err, unread); !bytes.HasSuffix(text, []byte("}\n")) {
			err = errors.Join(err, fmt.Errorf("the last line of %s is cut off", path))
		}
	}
	maps.DeleteFunc(now, func(path, _ string) bool { return strings.HasSuffix(path, "/") })
	return now, err
}

// know takes note of what all files of a folder hold.
func (s *served) know(dir string) error {
	return filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := os.ReadFile(path)
		s.known[string(text)] = true
		return err
	})
}

// serve makes the folder, and lets each command do its work in peace.
func (h *harness) serve() (err error) {
	s := &h.served
	s.template = filepath.Join(h.dir, "served")
	s.known, s.after, s.codes, s.took = map[string]bool{}, map[string]tree{}, map[string]int{}, map[string]time.Duration{}
	if err := os.MkdirAll(filepath.Join(s.template, "files"), 0o777); err != nil {
		return err
	}
	noise := make([]byte, 300_000)
	for i := range noise {
		noise[i] = byte(i * i >> 7)
	}
	if err := os.WriteFile(filepath.Join(s.template, "files", "big.bin"), noise, 0o666); err != nil {
		return err
	}
	for i := range 5 {
		if err := os.WriteFile(filepath.Join(s.template, "files", fmt.Sprintf("level-%d.csv", i)), fmt.Appendf(nil, "%d,%d\n", i, i*i), 0o666); err != nil {
			return err
		}
	}
	for _, line := range []string{
		"create inbox/a.zip files/level-0.csv files/level-1.csv", "create inbox/b.tar.gz files/level-2.csv", "create inbox/same.zip files/level-3.csv",
		"create inbox/bad.zip files/level-4.csv files/level-3.csv", "create inbox/set.zip files --part-size 64k --part-style zip",
		"create done/same.zip files/level-3.csv", "create made.zip files/level-0.csv", "create cut.zip files/big.bin --part-size 100k --part-style zip",
		"parts split files/big.bin --part-size 50k --into parts",
	} {
		if r := h.during(s.template, line, func(*exec.Cmd) {}, func(*os.Process) {}); r.code != 0 {
			return fmt.Errorf("%s: %s", line, r.output)
		}
	}
	bad := filepath.Join(s.template, "inbox", "bad.zip")
	text, err := os.ReadFile(bad)
	if err == nil {
		err = os.WriteFile(bad, text[:len(text)-30], 0o666)
	}
	if err == nil {
		err = s.know(s.template)
	}
	for _, line := range atServers {
		if err != nil {
			return err
		}
		err = h.servedOnce(line)
	}
	return err
}

func (h *harness) servedOnce(line string) error {
	dir, at, stop, err := h.newServer(true)
	if err != nil {
		return err
	}
	defer stop()
	began := time.Now()
	r := h.during(dir, at(line), func(*exec.Cmd) {}, func(*os.Process) {})
	h.served.took[line], h.served.codes[line] = time.Since(began), r.code
	if !slices.Contains([]int{0, 1, 7}, r.code) {
		return fmt.Errorf("%s: it ended with %d: %s", line, r.code, r.output)
	}
	if h.served.after[line], err = h.lookServed(dir); err != nil {
		return fmt.Errorf("%s: %w", line, err)
	}
	if err := h.served.know(dir); err != nil {
		return err
	}
	return removeAll(dir)
}

// newServer serves a new folder with what is in the template; at makes a command for it.
func (h *harness) newServer(sftp bool) (dir string, at func(line string) string, stop func(), err error) {
	if dir, err = os.MkdirTemp(h.dir, "served-"); err != nil {
		return "", nil, nil, err
	}
	if err := copyTree(h.served.template, dir); err != nil {
		return "", nil, nil, err
	}
	if !sftp {
		server := httptest.NewServer(&dav.Server{Folder: dir})
		return dir, func(line string) string { return strings.ReplaceAll(line, "AT/", server.URL+"/") }, server.Close, nil
	}
	keys, err := os.MkdirTemp(filepath.Dir(h.program), "keys-")
	if err != nil {
		return "", nil, nil, err
	}
	server, err := standin.StartSSH(keys)
	if err != nil {
		return "", nil, nil, err
	}
	return dir, func(line string) string {
			if !strings.Contains(line, "AT/") {
				return line
			}
			return strings.ReplaceAll(line, "AT/", server.Address+dir+"/") + " --identity " + server.Identity + " --known-hosts " + server.KnownHosts
		}, func() {
			server.Stop()
			os.RemoveAll(keys)
		}, nil
}
