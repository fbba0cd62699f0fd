//go:build linux && amd64

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// A scene is a command in a folder of its own, and what holds of it whenever it is
// stopped.
type scene struct {
	name    string
	make    []string          // commands that make the archives
	run     string            // the command that is attacked
	again   string            // the next run; empty: the same
	whole   []string          // files and folders that are, each, all as before or all as afterwards
	sources string            // a folder with sources that go when all of what came of them is there
	came    map[string]string // where that is, by their stems; else in an own folder in out
}

// none is for a scene after which the same command would not do the same again.
const none = "none"

// All of them work on in/ (a few files), more/ (others of the same names) and the
// archives made of them.
var scenes = []scene{
	{name: "own", make: day, run: "extract a.zip b.tar.gz --into out --workers 2", whole: []string{"out/a", "out/b"}},
	{name: "own on one", make: day, run: "extract a.zip b.tar.gz --into out --workers 1", whole: []string{"out/a", "out/b"}},
	{name: "auto", make: day, run: "extract a.zip b.tar.gz --into out --layout auto", whole: []string{"out/in", "out/more"}},
	{name: "shared", make: day, run: "extract a.zip b.tar.gz --into out --layout shared"},
	{name: "flatten", make: day, run: "extract a.zip --into out --flatten --rename {n}-{name} --ext csv,txt", whole: []string{"out/a"}},
	{name: "replace", make: old, run: "extract new.zip --into out --layout shared --clash replace"},
	{name: "replace stream", make: oldTar, run: "extract new.tar.zst --into out --layout shared --clash replace"},
	{name: "newer", make: old, run: "extract new.zip --into out --layout shared --clash newer"},
	{name: "number", make: old, run: "extract new.zip --into out --layout shared --clash number"},
	{name: "skip", make: old, run: "extract new.zip --into out --layout shared --clash skip"},
	{name: "fresh", make: []string{"create n.zip in", "extract n.zip --into out --layout own", "create n.zip more --clash replace"}, run: "extract n.zip --into out --fresh", whole: []string{"out/n"}},
	{name: "nested", make: nested, run: "extract outer.zip --nested --into out", whole: []string{"out/outer/inner", "out/outer/second"}},
	{name: "nested, renamed, halting", make: nested, run: "extract outer.zip --nested --into out --rename {stem}-x{ext} --halt --layout shared"},
	{name: "parts", make: []string{"create cut.tar in --part-size 20k"}, run: "extract cut.tar.001 --into out", whole: []string{"out/cut"}},
	{name: "series", make: []string{"create s-1.tar in", "create s-2.tar more"}, run: "extract . --series s-{n}.tar --into out --clash replace"},
	{name: "locked", make: []string{"create l.zip in --encrypt --password-file pw"}, run: "extract l.zip --into out --password-file pw", whole: []string{"out/l"}},
	{name: "staged elsewhere", make: day, run: "extract a.zip b.tar.gz --into out --staging work", whole: []string{"out/a", "out/b"}},
	{name: "names", make: []string{"create n.zip in --text x:y=1 --text X:Y=2"}, run: "extract n.zip --into out --names portable", whole: []string{"out/n"}},
	{name: "remove", make: sources, run: "extract src --into out --after remove", sources: "src"},
	{name: "move", make: sources, run: "extract src --into out --after move=done", sources: "src"},
	{name: "remove, shared", make: inbox, run: "extract inbox --into out --layout shared --clash replace --after remove", sources: "inbox", came: tops},
	{name: "move, auto", make: inbox, run: "extract inbox --into out --layout auto --clash number --after move=away", sources: "inbox", came: tops},
	{name: "remove, auto, fresh", make: inbox, run: "extract inbox --into out --layout auto --fresh --after remove", sources: "inbox", came: tops, whole: []string{"out/in", "out/more"}},
	{name: "move, fresh", make: inbox, run: "extract inbox --into out --fresh --after move=away", sources: "inbox", whole: []string{"out/a", "out/b"}},
	{name: "done below the inbox", make: inbox, run: "extract inbox --recursive --into out --after move=inbox/done", sources: "inbox"},
	{name: "moved by date", make: inbox, run: "extract inbox/a.zip inbox/b.tar.gz inbox/c.zip.002 --into out --after move=away/{today:yyyy}", again: "extract inbox --into out --after move=away/{today:yyyy}", sources: "inbox"},
	{name: "pairs", make: inbox, run: "extract --pairs pairs --after remove", again: none, sources: "inbox", came: map[string]string{"a": "out"}},
	{name: "receipt", make: day, run: "extract a.zip b.tar.gz --into out --receipt r.jsonl --skip-done", whole: []string{"out/a", "out/b"}},
	{name: "sums and page", make: day, run: "extract a.zip b.tar.gz --into out --sums s.sha256 --report p.html", whole: []string{"out/a", "out/b"}},
	{name: "create", run: "create x.zip in --reproducible", again: "create x.zip in --reproducible --clash replace", whole: []string{"x.zip"}},
	{name: "create tar", run: "create x.tar.zst in more --reproducible --read-back --workers 2", again: "create x.tar.zst in more --reproducible --clash replace", whole: []string{"x.tar.zst"}},
	{name: "create over", make: []string{"create x.zip in --reproducible"}, run: "create x.zip more --reproducible --clash replace", whole: []string{"x.zip"}},
	{name: "create parts", run: "create x.zip in --reproducible --part-size 20k", again: "create x.zip in --reproducible --part-size 20k --clash replace"},
	{name: "create split", run: "create x.zip in --reproducible --part-size 70k --part-style zip --clash replace"},
	{name: "create each", run: "create to/{stem}.tar.gz in more --each --reproducible --clash replace", whole: []string{"to/in.tar.gz", "to/more.tar.gz"}},
	{name: "create and remove", make: []string{"create spare.tar in --reproducible"}, run: "create x.tar in --reproducible --after remove", again: none, whole: []string{"x.tar"}, sources: "in"},
	{name: "create, noted", run: "create x.zip in --reproducible --receipt r.jsonl --skip-done --clash replace", whole: []string{"x.zip"}},
	{name: "edit", make: []string{"create x.zip in --reproducible"}, run: "edit x.zip --move in=2026 --add more", again: none, whole: []string{"x.zip"}},
	{name: "edit tar", make: []string{"create x.tar.gz in --reproducible"}, run: "edit x.tar.gz --remove in/big.bin", again: none, whole: []string{"x.tar.gz"}},
	{name: "convert", make: day, run: "convert a.zip b.tar.gz --to tar.xz --into made --clash replace", whole: []string{"made/a.tar.xz", "made/b.tar.xz"}},
	{name: "join", make: []string{"create cut.tar in --part-size 20k --reproducible"}, run: "parts join cut.tar.001 --into whole.tar --clash replace", whole: []string{"whole.tar"}},
	{name: "split", make: []string{"create cut.tar in --reproducible"}, run: "parts split cut.tar --part-size 20k --into pieces --clash replace"},
	{name: "job", make: []string{"create src/a.zip in", "create src/b.tar.gz more"}, run: "run job.yaml", whole: []string{"out/a", "out/b", "charts.tar.gz"}},
	{name: "addresses", make: day, run: "extract ADDRESS/a.zip ADDRESS/b.tar.gz --into out", whole: []string{"out/a", "out/b"}},
}

var (
	day     = []string{"create a.zip in", "create b.tar.gz more"}
	old     = []string{"create seed.zip in --top drop", "extract seed.zip --into out --layout shared", "create new.zip more --top drop"}
	oldTar  = []string{"create seed.zip in --top drop", "extract seed.zip --into out --layout shared", "create new.tar.zst more --top drop"}
	nested  = []string{"create inner.zip in", "create second.tar.gz more", "create outer.zip inner.zip second.tar.gz in/text.csv"}
	inbox   = []string{"create inbox/a.zip in", "create inbox/b.tar.gz more", "create inbox/c.zip in/deep --top drop --part-size 300"}
	tops    = map[string]string{"a": "out/in", "b": "out/more", "c": "out/er"}
	sources = []string{"create src/a.zip in", "create src/b.tar.gz more", "create src/c.zip in more --part-size 30k"}
)

const job = `widecrate: 1
receipt: r.jsonl
skip-done: true
jobs:
  - name: unpack
    extract: {sources: src, into: out}
  - name: pack
    follows: unpack
    create: {archive: charts.tar.gz, sources: [out], reproducible: true, clash: replace}
`

// furnish makes the files that the scenes begin with, of a few bytes to several blocks.
func furnish(dir string) error {
	when := time.Date(2026, 5, 1, 6, 0, 0, 0, time.UTC)
	line := func(what string, n int) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, "2026-05-01T%02d:%02dZ,%s,%d\n", i/60%24, i%60, what, i*i%2711)
		}
		return b.String()
	}
	for _, name := range []string{"src", "inbox", "work"} {
		if err := os.MkdirAll(filepath.Join(dir, name), 0o755); err != nil {
			return err
		}
	}
	for path, text := range map[string]string{
		"in/text.csv": line("osk", 300), "in/deep/er/one.txt": "one", "in/empty": "", "in/big.bin": noise(70_000, 1), "in/deep/two.csv": line("pell", 20),
		"more/text.csv": line("merrin", 200), "more/deep/er/one.txt": "another", "more/big.bin": noise(50_000, 2), "more/late/x.csv": line("x", 3),
		"pw": "tide\n", "job.yaml": job, "pairs": "inbox/a.zip\tout/one\ninbox/a.zip\tout/two\n",
	} {
		at := filepath.Join(dir, filepath.FromSlash(path))
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(at, []byte(text), 0o644); err != nil {
			return err
		}
		if strings.HasPrefix(path, "more/") {
			when = when.Add(24 * time.Hour)
		}
		if err := os.Chtimes(at, when, when); err != nil {
			return err
		}
	}
	return nil
}
