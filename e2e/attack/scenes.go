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
	begin   []string          // commands before, in the folder of the attempt: a receipt has its path
	run     string            // the command that is attacked
	code    int               // what it ends with
	other   string            // a run that something else does in the meantime: nothing stops it
	again   string            // the next run; empty: the same
	whole   []string          // files and folders that are, each, all as before or all as afterwards
	sources string            // a folder with sources that go when all of what came of them is there
	came    map[string]string // where that is, by their stems; else in an own folder in out
	keeps   bool              // whatever is in a file before is in one afterwards, at any moment
	links   bool              // it needs links; a kill may leave a second copy of what is kept where there are none
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
	{name: "failed", make: mixed, run: "extract mixed --into out --failed move=failed --after remove", code: 7, sources: "mixed"},
	{name: "failed, checked", make: mixed, run: "verify mixed --failed move=mixed/failed", code: 7, sources: "mixed", keeps: true},
	{name: "replaced", make: old, run: "extract new.zip --into out --layout shared --clash replace --replaced kept", keeps: true, links: true},
	{name: "replaced, fresh", make: []string{"create n.zip in", "extract n.zip --into out", "create n.zip more --clash replace"}, run: "extract n.zip --into out --fresh --replaced kept", again: none, whole: []string{"out/n"}, keeps: true},
	{name: "replaced, edited", make: []string{"create x.zip in --reproducible"}, run: "edit x.zip --add more --top drop --replaced kept", again: none, whole: []string{"x.zip"}, keeps: true},
	{name: "replaced, created", make: []string{"create x.zip in --reproducible"}, run: "create x.zip more --reproducible --clash replace --replaced kept", again: none, whole: []string{"x.zip"}, keeps: true},
	{name: "undone", make: day, begin: []string{"extract a.zip b.tar.gz --into out --receipt r.jsonl"}, run: "undo r.jsonl", again: "undo r.jsonl"},
	{name: "undone, replaced", make: old, begin: []string{"extract new.zip --into out --layout shared --clash replace --replaced kept --receipt r.jsonl"}, run: "undo r.jsonl", again: "undo r.jsonl", links: true},
	{name: "undone, moved", make: sources, begin: []string{"extract src --into out --after move=done --receipt r.jsonl"}, run: "undo r.jsonl", again: "undo r.jsonl"},
	{name: "undone, swapped", make: []string{"create n.zip in", "extract n.zip --into out", "create n.zip more --clash replace"}, begin: []string{"extract n.zip --into out --fresh --replaced kept --receipt r.jsonl"}, run: "undo r.jsonl", again: "undo r.jsonl"},
	{name: "undone, edited", make: []string{"create x.zip in --reproducible"}, begin: []string{"edit x.zip --add more --top drop --replaced kept --receipt r.jsonl"}, run: "undo r.jsonl", again: "undo r.jsonl", whole: []string{"x.zip"}},
	{name: "undone, in parts", make: []string{"create x.zip in --reproducible --part-size 20k"}, begin: []string{"create x.zip more --reproducible --part-size 20k --clash replace --replaced kept --receipt r.jsonl"}, run: "undo r.jsonl", again: "undo r.jsonl"},
	{name: "undone, a job", make: []string{"create src/a.zip in", "create src/b.tar.gz more"}, begin: []string{"run job.yaml"}, run: "undo r.jsonl", again: "undo r.jsonl"},
	{name: "done before, removed", make: sources, begin: []string{"extract src --into out --receipt r.jsonl"}, run: "extract src --into out --receipt r.jsonl --skip-done --after remove", sources: "src"},
	{name: "sources below the destination", make: []string{"create out/in/a.zip in", "create out/in/b.tar.gz more"}, run: "extract out/in --into out --after move=out/done", sources: "out/in"},
	{name: "destination below the sources", make: inbox, run: "extract inbox --recursive --into inbox/out --after move=inbox/done", sources: "inbox", came: map[string]string{"a": "inbox/out/a", "b": "inbox/out/b", "c": "inbox/out/c"}},
	{name: "one destination below the other", make: day, run: "extract --pairs overlapping --clash replace", whole: []string{"out/a", "out/sub/b"}},
	{name: "inbox that is a link", make: inbox, run: "extract linked-inbox --into out --after remove", sources: "inbox", links: true},
	{name: "destination that is a link", make: inbox, run: "extract inbox --into linked-work --after move=done", sources: "inbox", came: map[string]string{"a": "work/a", "b": "work/b", "c": "work/c"}, links: true},
	{name: "done that is a link", make: inbox, run: "extract inbox --into out --layout shared --clash replace --after move=linked-work", sources: "inbox", came: tops, links: true},
	{name: "folders that are only read", make: []string{"create ro.tar only"}, run: "extract ro.tar --into out", whole: []string{"out/ro"}},
	{name: "folders that are only read, merged", make: []string{"create ro.tar only", "extract ro.tar --into out --layout shared"}, run: "extract ro.tar --into out --layout shared --clash replace"},
	{name: "long names", make: []string{"create l.zip long"}, run: "extract l.zip --into out --layout shared --clash number --replaced kept"},
	{name: "long names, moved", make: []string{"create src/l.zip long --top drop"}, run: "extract src --into out --layout shared --clash replace --after move=done", sources: "src", came: map[string]string{"l": "out/" + longest}},
	{name: "staged in another root", make: day, run: "extract a.zip --into out --staging work", other: "extract b.tar.gz --into work --clash replace", whole: []string{"out/a", "work/b"}},
	{name: "converted and removed", make: inbox, run: "convert inbox --to tar.xz --into made --clash replace --after remove", sources: "inbox", came: map[string]string{"a": "made/a.tar.xz", "b": "made/b.tar.xz", "c": "made/c.tar.xz"}},
	{name: "converted and moved", make: inbox, run: "convert inbox --to tar.zst --into inbox/made --clash replace --after move=inbox/done", again: none, sources: "inbox", came: map[string]string{"a": "inbox/made/a.tar.zst", "b": "inbox/made/b.tar.zst", "c": "inbox/made/c.tar.zst"}},
	{name: "each created and removed", run: "create to/{stem}.tar in more --each --reproducible --after remove", again: none, whole: []string{"to/in.tar", "to/more.tar"}},
	{name: "addresses", make: day, run: "extract ADDRESS/a.zip ADDRESS/b.tar.gz --into out", whole: []string{"out/a", "out/b"}},
}

var (
	day     = []string{"create a.zip in", "create b.tar.gz more"}
	old     = []string{"create seed.zip in --top drop", "extract seed.zip --into out --layout shared", "create new.zip more --top drop"}
	oldTar  = []string{"create seed.zip in --top drop", "extract seed.zip --into out --layout shared", "create new.tar.zst more --top drop"}
	nested  = []string{"create inner.zip in", "create second.tar.gz more", "create outer.zip inner.zip second.tar.gz in/text.csv"}
	inbox   = []string{"create inbox/a.zip in", "create inbox/b.tar.gz more", "create inbox/c.zip in/deep --top drop --part-size 300"}
	mixed   = []string{"create mixed/a.zip in", "create mixed/b.tar.gz more"}
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

// longest is a name as long as it can be where names are encrypted.
var longest = strings.Repeat("gauge-", 23) + "1.csv"

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
		"only/read/a.csv": line("harrow", 9), "long/" + longest: line("gull", 30), "mixed/bad.zip": "PK and nothing else",
		"overlapping": "a.zip\tout\nb.tar.gz\tout/sub\na.zip\tout\n", "pw": "tide\n", "job.yaml": job, "pairs": "inbox/a.zip\tout/one\ninbox/a.zip\tout/two\n",
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
	for link, to := range map[string]string{"linked-inbox": "inbox", "linked-work": "work"} {
		_ = os.Symlink(to, filepath.Join(dir, link)) // where there are none, scenes without links are played
	}
	return os.Chmod(filepath.Join(dir, "only/read"), 0o555)
}
