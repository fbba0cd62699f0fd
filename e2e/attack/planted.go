//go:build linux && amd64

package main

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"widecrate/core/claim"
)

// planted lets a user leave things in folders for all that look as if a dead run of another user, or of root, had left
// them: journals whose names climb, areas, claims, pipes, links. The next run of that user takes no notice of them,
// and they stay.
func (h *harness) planted(random *rand.Rand) (err error) {
	if os.Geteuid() != 0 {
		return nil // only root can be somebody else
	}
	own := h.scene("own")
	dir, err := os.MkdirTemp(h.dir, "planted-")
	if err != nil {
		return err
	}
	victim := []int{0, int(ordinary) - 1}[random.IntN(2)]
	p := planting{Rand: random, dir: dir, victim: victim}
	if err := p.world(own.template); err != nil {
		return err
	}
	for range 1 + random.IntN(5) {
		if err := p.plant(); err != nil {
			return err
		}
	}
	secret, _, err := look(filepath.Join(dir, "secret"))
	if err != nil {
		return err
	}
	line := []string{"extract inbox --into out --after move=done", "extract inbox --into out --after remove", "extract inbox --into out --staging work --after move=done",
		"extract inbox --into out --layout shared --clash replace --replaced work", "verify inbox --failed move=done", "create done/made.zip inbox/b.tar.gz --clash replace --after remove",
		"edit inbox/a.zip --text n=1 --replaced done", "convert inbox --to tar --into out --after move=done",
		"extract inbox --into out --after move=done/{from}"}[random.IntN(9)]
	defer func() {
		if err != nil {
			err = fmt.Errorf("%s, of user %d, beside %s: %w", line, victim, strings.Join(p.log, "; "), err)
		}
	}()
	var late *time.Timer
	r := h.during(dir, line, func(cmd *exec.Cmd) {
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(victim), Gid: uint32(victim)}}
	}, func(process *os.Process) {
		late = time.AfterFunc(20*time.Second, func() { _ = process.Kill() })
	})
	if late != nil {
		late.Stop()
	}
	if r.killed {
		return fmt.Errorf("it hangs: %s", r.output)
	}
	if inTheWay := slices.Contains(p.log, "done/inbox"); r.code != 0 && !(inTheWay && strings.Contains(line, "{from}")) {
		return fmt.Errorf("it ended with %d: %s", r.code, r.output)
	}
	now, _, err := look(filepath.Join(dir, "secret"))
	if err != nil {
		return err
	}
	if wrong := now.differs(secret); wrong != "" {
		return fmt.Errorf("elsewhere, something is not as it was: %s", wrong)
	}
	for _, path := range p.left {
		info, err := os.Lstat(path)
		if err != nil {
			return fmt.Errorf("what another user had left is gone: %w", err)
		}
		if info.Sys().(*syscall.Stat_t).Uid != ordinary {
			return fmt.Errorf("what another user had left has another owner: %s", path)
		}
	}
	for _, path := range p.left {
		if err := os.RemoveAll(path); err != nil {
			return err
		}
	}
	if strings.HasPrefix(line, "extract inbox --into out --") && !strings.Contains(line, "shared") {
		there, _, err := look(filepath.Join(dir, "out"))
		if err != nil {
			return err
		}
		if wrong := there.differs(own.after.below("out").from("out")); wrong != "" {
			return fmt.Errorf("what was delivered is not as it is to be: %s", wrong)
		}
	}
	for _, name := range []string{"a.zip", "b.tar.gz"} {
		_, stays := os.Lstat(filepath.Join(dir, "inbox", name))
		_, moved := os.Lstat(filepath.Join(dir, "done", name))
		_, below := os.Lstat(filepath.Join(dir, "done", "inbox", name))
		if stays != nil && moved != nil && below != nil && !strings.Contains(line, "remove") {
			return fmt.Errorf("%s is nowhere", name)
		}
	}
	return removeAll(dir)
}

// planting is what somebody leaves in folders for all.
type planting struct {
	*rand.Rand
	dir    string
	victim int
	left   []string
	log    []string
}

// world makes folders for all, in which everybody can remove only what is their own, and one that is nobody else's.
func (p *planting) world(template string) error {
	for _, name := range []string{"inbox", "out", "done", "work"} {
		path := filepath.Join(p.dir, name)
		if err := os.Mkdir(path, 0o777); err != nil {
			return err
		}
		if err := os.Chmod(path, 0o777|os.ModeSticky); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(filepath.Join(p.dir, "secret", "sub"), 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(p.dir, "secret", "precious"), []byte("precious"), 0o644); err != nil {
		return err
	}
	for _, name := range []string{"a.zip", "b.tar.gz"} {
		data, err := os.ReadFile(filepath.Join(template, name))
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(p.dir, "inbox", name), data, 0o644); err != nil {
			return err
		}
	}
	for _, path := range []string{"secret", "secret/sub", "secret/precious", "inbox/a.zip", "inbox/b.tar.gz"} {
		if err := os.Chown(filepath.Join(p.dir, path), p.victim, p.victim); err != nil {
			return err
		}
	}
	return os.Chmod(p.dir, 0o755)
}

// one of some texts.
func (p *planting) one(of ...string) string { return of[p.IntN(len(of))] }

// plant leaves one thing more.
func (p *planting) plant() error {
	in := filepath.Join(p.dir, p.one("inbox", "out", "done", "work"))
	target := p.one("secret/precious", "inbox/link/../precious", "inbox/../secret/precious", "inbox/a.zip", "inbox/b.tar.gz", "secret/sub/new")
	if !strings.HasPrefix(target, "/") && p.IntN(4) > 0 {
		target = p.dir + "/" + target
	}
	to := p.one("", p.dir+"/done/precious", p.dir+"/done/a.zip", p.dir+"/secret/new", p.dir+"/inbox/link/../new")
	name := claim.NewRun()
	size, modified := int64(8), time.Now()
	if info, err := os.Stat(target); err == nil {
		size, modified = info.Size(), info.ModTime()
	}
	taking, err := json.Marshal(map[string]any{"Begun": time.Now().Add(-time.Hour), "Failed": p.IntN(2) == 0, "Files": []map[string]any{
		{"Path": target, "To": to, "Size": size, "Modified": modified, "Aside": p.one("", p.dir+"/secret/precious")}}})
	if err != nil {
		return err
	}
	switch what := p.IntN(6); what {
	case 0:
		return p.put(filepath.Join(in, name+claim.TakingSuffix), taking)
	case 1: // an area, with a journal
		area := filepath.Join(in, claim.NewRun())
		if err := p.made(area, os.Mkdir(area, 0o755)); err != nil {
			return err
		}
		owner, err := json.Marshal(map[string]any{"pid": 1 << 22, "host": hostname(), "root": filepath.Join(p.dir, "out"), "key": "key"})
		if err != nil {
			return err
		}
		journal, err := json.Marshal(map[string]any{"key": "key", "moves": []map[string]any{{"staged": "evil", "target": p.one("a/text.csv", "link/x", "evil")}, {"staged": "evil", "target": "b"}}})
		if err != nil {
			return err
		}
		for at, text := range map[string]string{"owner": string(owner), "1-journal": string(journal), "evil": "evil", "1-old": "evil"} {
			if err := p.put(filepath.Join(area, at), []byte(text)); err != nil {
				return err
			}
		}
		return p.made(filepath.Join(in, "link"), os.Symlink("../secret/sub", filepath.Join(in, "link")))
	case 2, 3: // a pipe, or a link, where a run would look
		path := filepath.Join(in, p.one(name+"-0", name+claim.TakingSuffix, name+"-1-old", ".widecrate-turn-a.zip", ".widecrate-run-night.yaml", "a.zip.reason.txt", "a.zip.sha256"))
		if what == 2 {
			return p.made(path, syscall.Mkfifo(path, 0o666))
		}
		return p.made(path, os.Symlink(p.one("../secret/precious", "../secret/sub/new", p.dir+"/secret"), path))
	case 4:
		return p.put(filepath.Join(in, p.one(name+"-0", "a.zip.reason.txt")), []byte("evil"))
	}
	path := filepath.Join(p.dir, p.one("inbox/link", "out/link", "done/link", "done/inbox"))
	return p.made(path, os.Symlink("../secret/sub", path))
}

func hostname() string {
	name, _ := os.Hostname()
	return name
}

func (p *planting) put(path string, text []byte) error {
	if _, err := os.Lstat(path); err == nil {
		return nil
	}
	return p.made(path, os.WriteFile(path, text, fs.FileMode([]int{0o600, 0o644, 0o666}[p.IntN(3)])))
}

// made gives what was just made to the one who plants, long ago.
func (p *planting) made(path string, err error) error {
	if os.IsExist(err) {
		return nil
	}
	if err == nil {
		err = os.Lchown(path, int(ordinary), int(ordinary))
	}
	if info, stat := os.Lstat(path); err == nil && stat == nil && info.Mode()&fs.ModeSymlink == 0 {
		then := time.Now().Add(-3 * time.Hour)
		err = os.Chtimes(path, then, then)
	}
	p.left, p.log = append(p.left, path), append(p.log, strings.TrimPrefix(path, p.dir+"/"))
	return err
}
