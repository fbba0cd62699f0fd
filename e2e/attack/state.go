//go:build linux && amd64

package main

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"widecrate/e2e/traced"
)

// tree is what is in a folder: the contents of files by path, "" for folders, whose
// paths end in a slash, and "→ target" for links.
type tree map[string]string

// look reads a folder, and lists apart what is hidden there as unfinished. Of folders in which
// nothing lies, one may be made and not needed; and of what says when it was made, the content is
// not looked at.
func look(dir string) (found tree, hidden []string, err error) {
	found = tree{}
	err = filepath.WalkDir(dir, func(at string, d fs.DirEntry, err error) error {
		if err != nil || at == dir {
			return err
		}
		rel, err := filepath.Rel(dir, at)
		if err != nil {
			return err
		}
		rel = filepath.ToSlash(rel)
		if strings.HasPrefix(d.Name(), ".fuse_hidden") { // what is removed while it is open goes a moment later
			return nil
		}
		if strings.HasPrefix(d.Name(), ".widecrate-") {
			if d.IsDir() {
				children, err := os.ReadDir(at)
				if len(children) > 1 || len(children) == 1 && children[0].Name() != "owner-draft" { // else it was just being made, and goes when it is old
					hidden = append(hidden, rel)
				}
				return cmp.Or(err, fs.SkipDir)
			}
			hidden = append(hidden, rel)
			return nil
		}
		switch {
		case d.IsDir():
			found[rel+"/"] = ""
		case d.Type()&fs.ModeSymlink != 0:
			target, err := os.Readlink(at)
			found[rel] = "→ " + target
			return err
		case slices.Contains([]string{".jsonl", ".html", ".sha256"}, path.Ext(rel)), strings.HasSuffix(rel, ".reason.txt"):
		default:
			data, err := os.ReadFile(at)
			found[rel] = string(data)
			return err
		}
		return nil
	})
	maps.DeleteFunc(found, func(at, _ string) bool { return strings.HasSuffix(at, "/") && !found.holds(at) })
	return found, hidden, err
}

// holds reports whether there is a file or link below a folder.
func (t tree) holds(folder string) bool {
	for at := range t {
		if strings.HasPrefix(at, folder) && !strings.HasSuffix(at, "/") {
			return true
		}
	}
	return false
}

// below is the part of a tree that is at or below a path.
func (t tree) below(at string) tree {
	part := tree{}
	for p, content := range t {
		if p == at || strings.HasPrefix(p, at+"/") {
			part[p] = content
		}
	}
	return part
}

// data is what of a tree has data: no folders, no empty files.
func (t tree) data() tree {
	files := maps.Clone(t)
	maps.DeleteFunc(files, func(_, content string) bool { return content == "" })
	return files
}

// differs says what is in one of two trees alone, or different; empty: nothing.
func (t tree) differs(other tree) string {
	var all []string
	for p := range t {
		if content, there := other[p]; !there || content != t[p] {
			all = append(all, p)
		}
	}
	for p := range other {
		if _, there := t[p]; !there {
			all = append(all, p)
		}
	}
	slices.Sort(all)
	return strings.Join(all, ", ")
}

// numbered is a path that got a number, as it was without it.
var numbered = regexp.MustCompile(`-[0-9]+(\.[^./]*)?$`)

// dropSecond drops what a run kept once more because an earlier one had been killed before it replaced anything: nobody
// could tell that from a snapshot, which is not ours.
func (t tree) dropSecond() {
	for at, content := range t {
		if first, is := t[numbered.ReplaceAllString(at, "$1")]; is && first == content && numbered.MatchString(at) {
			delete(t, at)
		}
	}
}

// prepared is a scene with what comes of it when nothing disturbs it.
type prepared struct {
	scene
	template      string
	before, after tree
	calls         int // that change something, of the run that is attacked
	took          time.Duration
	steps         bool // what is replaced goes aside first, as the place has no links, or cannot exchange folders
}

// prepare makes the folders of all scenes, and runs each once in peace. Those with links are left
// out where there are none.
func (h *harness) prepare() error {
	links, exchanges, err := h.abilities()
	if err != nil {
		return err
	}
	for _, s := range scenes {
		if s.links && !links {
			fmt.Println("left out, as there are no links here:", s.name)
			continue
		}
		p := &prepared{scene: s, template: filepath.Join(h.dir, "scene "+s.name), steps: !links || !exchanges && strings.Contains(s.run, "--fresh")}
		if err := h.rehearse(p); err != nil {
			return fmt.Errorf("%s, in peace: %w", s.name, err)
		}
		h.prepared = append(h.prepared, p)
	}
	return nil
}

// abilities reports whether the place has symbolic and hard links, and exchanges folders in one step.
func (h *harness) abilities() (links, exchanges bool, err error) {
	at := filepath.Join(h.dir, "abilities")
	if err := os.WriteFile(at, nil, 0o644); err != nil {
		return false, false, err
	}
	links = os.Link(at, at+" hard") == nil && os.Symlink(at, at+" symbolic") == nil
	err = os.WriteFile(at+" other", nil, 0o644)
	return links, unix.Renameat2(unix.AT_FDCWD, at, unix.AT_FDCWD, at+" other", unix.RENAME_EXCHANGE) == nil, err
}

// scene is the one of a name.
func (h *harness) scene(name string) *prepared {
	return h.prepared[slices.IndexFunc(h.prepared, func(p *prepared) bool { return p.name == name })]
}

// rehearse finds out what comes of a scene when nothing disturbs it.
func (h *harness) rehearse(p *prepared) error {
	if err := furnish(p.template); err != nil {
		return err
	}
	if err := h.all(p.template, p.make); err != nil {
		return err
	}
	if err := os.Chmod(filepath.Join(p.template, "only/read"), 0o755); err != nil { // so that it can be removed
		return err
	}
	dir, done, err := h.play(p)
	if err != nil {
		return err
	}
	if p.before, _, err = look(dir); err != nil {
		return err
	}
	began := time.Now()
	r, err := h.trace(dir, p.run, func(traced.Call) traced.Verdict { p.calls++; return traced.Verdict{} })
	p.took = time.Since(began)
	if err != nil {
		return err
	}
	if r.code != p.code {
		return fmt.Errorf("%s: %d %s", p.run, r.code, r.output)
	}
	if err := h.meanwhile(p, dir); err != nil {
		return err
	}
	if p.after, _, err = look(dir); err != nil {
		return err
	}
	if err := p.rightNow(dir); err != nil {
		return err
	}
	if err := h.rightInTheEnd(p, dir, false); err != nil {
		return err
	}
	done()
	return nil
}

// all runs commands that have to succeed.
func (h *harness) all(dir string, lines []string) error {
	for _, line := range lines {
		if code, printed := h.command(dir, line); code != 0 {
			return fmt.Errorf("%s: %d %s", line, code, printed)
		}
	}
	return nil
}

// meanwhile does the other run of a scene, which nothing stops.
func (h *harness) meanwhile(p *prepared, dir string) error {
	if p.other == "" {
		return nil
	}
	return h.all(dir, []string{p.other})
}

// some chooses a scene.
func (h *harness) some(random *rand.Rand) *prepared {
	return h.prepared[random.IntN(len(h.prepared))]
}

// play copies the folder of a scene, for one attempt; done removes it.
func (h *harness) play(p *prepared) (dir string, done func(), err error) {
	if dir, err = os.MkdirTemp(h.dir, "play-"); err != nil {
		return "", nil, err
	}
	if err = copyTree(p.template, dir); err == nil {
		err = h.all(dir, p.begin)
	}
	return dir, func() { _ = removeAll(dir) }, err // what stays goes with the place
}

// removeAll removes a folder, with those in it that are only to be read.
func removeAll(dir string) error {
	if os.RemoveAll(dir) == nil {
		return nil
	}
	_ = filepath.WalkDir(dir, func(at string, d fs.DirEntry, err error) error {
		if d != nil && d.IsDir() {
			_ = os.Chmod(at, 0o755)
		}
		return nil
	})
	return os.RemoveAll(dir)
}

// copyTree copies a folder, with times.
func copyTree(from, to string) error {
	type made struct {
		path string
		at   time.Time
	}
	var folders []made // whose times change with what is put into them
	err := filepath.WalkDir(from, func(at string, d fs.DirEntry, err error) error {
		if err != nil || at == from {
			return err
		}
		rel, err := filepath.Rel(from, at)
		if err != nil {
			return err
		}
		target := filepath.Join(to, rel)
		info, err := d.Info()
		if err != nil {
			return err
		}
		switch {
		case d.IsDir():
			folders = append(folders, made{target, info.ModTime()})
			return os.Mkdir(target, 0o755)
		case d.Type()&fs.ModeSymlink != 0:
			to, err := os.Readlink(at)
			return cmp.Or(err, os.Symlink(to, target))
		}
		data, err := os.ReadFile(at)
		if err != nil {
			return err
		}
		if err := os.WriteFile(target, data, info.Mode().Perm()); err != nil {
			return err
		}
		return os.Chtimes(target, info.ModTime(), info.ModTime())
	})
	for _, dir := range folders {
		err = cmp.Or(err, os.Chtimes(dir.path, dir.at, dir.at))
	}
	return err
}

// rightNow checks what must hold at any moment: every file is as it was or as it is to
// be, none is missing that was there and is to be, what is to appear at once is there as
// a whole or not at all, and sources only go when all that came of them is there.
func (p *prepared) rightNow(dir string) error {
	now, _, err := look(dir)
	if err != nil {
		return err
	}
	for at, content := range now {
		old, was := p.before[at]
		made, comes := p.after[at]
		if (!was || old != content) && (!comes || made != content) {
			return fmt.Errorf("%s is neither as it was nor as it is to be (%d bytes)", at, len(content))
		}
	}
	if p.steps { // what is put aside, the next run puts back
		return nil
	}
	for at, old := range p.before {
		if _, there := now[at]; there {
			continue
		}
		if _, stays := p.after[at]; stays {
			return fmt.Errorf("%s is missing", at)
		}
		if p.sources == "" || !strings.HasPrefix(at, p.sources+"/") || strings.HasSuffix(at, "/") {
			continue
		}
		stem, _, _ := strings.Cut(path.Base(at), ".")
		came := cmp.Or(p.came[stem], "out/"+stem) // what an archive became
		for to, made := range p.after {
			if _, was := p.before[to]; !was && path.Base(to) == path.Base(at) && made == old { // it is moved
				if now[to] != old {
					return fmt.Errorf("%s is gone, and not at %s", at, to)
				}
				continue
			}
			if content, there := now[to]; (p.sources == "in" || to == came || strings.HasPrefix(to, came+"/")) && (!there || content != made) {
				return fmt.Errorf("%s is gone, and %s is not there", at, to)
			}
		}
	}
	if p.keeps {
		if err := p.kept(dir); err != nil {
			return err
		}
	}
	for _, group := range p.whole {
		part := now.below(group)
		if was, comes := part.differs(p.before.below(group)), part.differs(p.after.below(group)); was != "" && comes != "" {
			return fmt.Errorf("%s is a mixture: not as it was in %s, not as it is to be in %s", group, was, comes)
		}
	}
	return nil
}

// kept checks that what was in files is in some, of unfinished work too, which the next run puts
// in its place.
func (p *prepared) kept(dir string) error {
	there := map[string]bool{}
	err := filepath.WalkDir(dir, func(at string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		data, err := os.ReadFile(at)
		there[string(data)] = true
		return err
	})
	if err != nil {
		return err
	}
	for at, content := range p.before {
		if !there[content] && !strings.HasSuffix(at, "/") && !strings.HasPrefix(content, "→ ") {
			return fmt.Errorf("what was in %s is nowhere", at)
		}
	}
	return nil
}

// rightInTheEnd lets the next run put things right, and checks that it did: nothing of
// unfinished work is left, unless it had nothing to do there and that may stay, and what
// it wrote down of the runs is true.
func (h *harness) rightInTheEnd(p *prepared, dir string, mayStay bool) error {
	if err := h.meanwhile(p, dir); err != nil {
		return err
	}
	line := p.again
	switch line {
	case none:
		return nil
	case "":
		line = p.run
	}
	code, out := h.command(dir, line)
	if code != 0 && code != p.code {
		return fmt.Errorf("the next run ends with %d: %s", code, out)
	}
	now, hidden, err := look(dir)
	if err != nil {
		return err
	}
	if strings.Contains(p.run, "--replaced") {
		now.dropSecond()
	}
	if wrong := now.differs(p.after); wrong != "" {
		return fmt.Errorf("after the next run, this is not as it is to be: %s", wrong)
	}
	if len(hidden) > 0 && !mayStay {
		return fmt.Errorf("after the next run, this is left: %s", strings.Join(hidden, ", "))
	}
	receipt := filepath.Join(dir, "r.jsonl")
	text, err := os.ReadFile(receipt)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	broken := 0
	for line := range bytes.Lines(text) {
		if !json.Valid(line) && len(bytes.TrimSpace(line)) > 0 {
			broken++
		}
	}
	if broken > 1 { // one may be cut off, where a run was killed
		return fmt.Errorf("%d lines of the receipt are broken", broken)
	}
	if code, out := h.command(dir, "verify --against r.jsonl"); code != 0 {
		return fmt.Errorf("the receipt does not say what is there: %d %s", code, out)
	}
	return nil
}

// noise is data that cannot be packed.
func noise(n int, seed uint64) string {
	b := make([]byte, n)
	r := rand.NewChaCha8([32]byte{byte(seed)})
	_, _ = r.Read(b) // it never fails
	return string(b)
}
