package crossed

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// A shelf is a folder with a tree called src, and archives that were made of it.
type shelf struct {
	t        *rapid.T
	dir      string
	src      Tree
	archives map[string]*Archive // by what they are called
	steps    int
}

// drawTree draws a folder to be packed.
func drawTree(t *rapid.T) Tree {
	tree := Tree{"always.txt": {File, "1", when.Unix()}} // folders alone are nothing to compare
	for range rapid.IntRange(1, 6).Draw(t, "things") {
		at := folders.Draw(t, "folder") + names.Draw(t, "name")
		switch {
		case one(t, 8):
			tree.put(strings.TrimSuffix(folders.Draw(t, "empty")+"empty", "/"), Thing{Kind: Folder})
		case one(t, 8):
			tree.put(folders.Draw(t, "folder")+"link", Thing{Kind: Symlink, Data: rapid.SampledFrom([]string{"a.csv", "d", "e/a.csv", "../a.csv", "../d/e"}).Draw(t, "target")})
		default:
			tree.put(at, Thing{File, content(t), when.Add(later.Draw(t, "later")).Unix()})
		}
	}
	return tree
}

// choices are values of the options that choose among entries, whose paths begin with src or not.
var choices = map[string][]string{
	"entry": {"a.csv", "src/d/a.csv", "none"}, "entry-list": {"ENTRIES"}, "pick": {"*.csv", "d", "src/**", "**/e/*", "A*"}, "drop": {"b.*", "src/d/e", "*.json"},
	"ext": {"csv", "csv,json"}, "no-clutter": nil, "min-size": {"1", "2"}, "max-size": {"1", "100"}, "since": {"2026-05-01T12:00:05Z", "2026-05-02"}, "until": {"2026-05-01", "2026-05-02"},
	"ignore-case": nil,
}

func with(more map[string][]string) map[string][]string {
	all := maps.Clone(choices)
	maps.Copy(all, more)
	return all
}

var (
	methods = []string{"deflate", "store", "bzip2", "zstd", "xz"}
	into    = []string{"zip", "tar", "tar.gz", "tar.zst", "tar.xz", "tar.bz2", "tar.lz4"}
)

// options are those of each command that are drawn.
var options = map[string]map[string][]string{
	"create": with(map[string][]string{
		"method": methods, "level": {"0", "best", "fast"}, "part-size": {"100", "1k"}, "clash": {"refuse", "replace", "number"}, "encrypt": nil, "password-env": {"CROSSED"}, "reproducible": nil,
		"put": {"DIR/src/always.txt=src/put.txt", "DIR/src/always.txt=src/a.csv"}, "text": {"t/new.txt=hello", "src/a.csv=hello"}, "links": {"keep", "follow", "skip"},
		"top": {"keep", "drop"}, "under": {"u", "src/d"}, "dry-run": nil, "read-back": nil, "workers": {"1", "3"}, "sums": {"DIR/made.sums"}, "entry-sums": {"DIR/archives.sums"}, "receipt": {"DIR/made.receipt"}, "relative-to": {"DIR/src"}, "after": {"remove"}, "skip-done": nil, "replaced": {"DIR/replaced"},
	}),
	"convert": with(map[string][]string{
		"to": into, "method": methods, "level": {"0", "best"}, "part-size": {"100", "1k"}, "clash": {"refuse", "replace", "number"}, "encrypt": nil, "new-password-env": {"CROSSED"}, "password-env": {"CROSSED"},
		"flatten": nil, "peel": {"1", "2"}, "under": {"u"}, "rename": {"{stem}-{archive}{ext}", "f{ext}"}, "workers": {"1", "3"}, "entry-sums": {"DIR/made.sums"}, "sums": {"DIR/archives.sums"}, "dry-run": nil,
		"read-back": nil, "receipt": {"DIR/made.receipt"}, "skip-done": nil, "after": {"remove", "move=DIR/gone"}, "even-if-partial": nil, "failed": {"move=DIR/failed"}, "replaced": {"DIR/replaced"}, "dictionary": {"DIR/src/always.txt"},
	}),
	"edit": {
		"add": {"DIR/src", "DIR/src/always.txt"}, "put": {"DIR/src/always.txt=src/put.txt", "DIR/src/always.txt=src/a.csv"}, "text": {"t/new.txt=hello", "src/a.csv=hello", "a.csv=hello", "d=hello"},
		"remove": {"*.csv", "d", "src/d/**", "none"}, "move": {"src=deep/er", "src/a.csv=src/d/moved.csv", "a.csv=z.csv", "src/d=d", "d=e/d", "none=x", "link=d/link"}, "top": {"keep", "drop"}, "under": {"u"},
		"method": methods, "level": {"0", "best"}, "encrypt": nil, "password-env": {"CROSSED"}, "workers": {"1"}, "dry-run": nil, "receipt": {"DIR/made.receipt"}, "replaced": {"DIR/replaced"}, "read-back": nil, "dictionary": {"DIR/src/always.txt"},
	},
	"compare": with(map[string][]string{"peel": {"1"}, "peel-a": {"1", "2"}, "peel-b": {"1"}, "times": nil, "dictionary": {"DIR/src/always.txt"}, "password-env": {"CROSSED"}, "workers": {"1"}}),
}

// undrawn are the other options of those commands, with the reason.
var undrawn = map[string]string{
	"help": "ends the program", "ask-password": "needs a terminal", "null-out": "of names", "color": "looks", "progress": "looks", "quiet": "looks", "verbose": "looks", "report": "a page", "as": "always json",
	"format": "the extension says it", "part-style": "64 KiB at least", "pick-list": "as entry-list", "password-file": "as password-env", "each": "several archives", "each-in": "several archives", "folders-only": "several archives", "stdin-as": "needs standard input", "names": "as extract's, which has tests of its own", "done-in": "as skip-done",
	"recursive": "one archive", "halt": "one archive", "archives-by": "one archive", "pairs": "one archive", "archives": "one archive", "source-list": "one archive", "null-in": "one archive", "series": "one archive", "series-count": "one archive", "allow-gaps": "one archive",
	"parts-in": "needs folders", "wait": "takes time", "settled": "depends on the clock", "others": "one archive", "shard": "one archive", "name-encoding": "names are UTF-8", "zone": "times say theirs",
	"max-total": "law of extract", "max-ratio": "law of extract", "max-memory": "law of extract", "max-entries": "law of extract",
	"token-env": "of addresses", "login-env": "of addresses", "identity": "of addresses", "known-hosts": "of addresses", "ca-file": "of addresses", "retries": "of addresses", "connections": "of addresses", "idle": "of addresses", "keep-fetched": "of addresses", "into": "always", "check-sums": "needs a list", "nested": "tests of its own", "nested-depth": "as nested",
}

// draw draws options of a command.
func (s *shelf) draw(command string, always ...string) []string {
	args := always
	all := options[command]
	for range rapid.IntRange(0, 4).Draw(s.t, "options") {
		name := rapid.SampledFrom(sorted(all)).Draw(s.t, "option")
		if slices.Contains(args, "--"+name) {
			continue
		}
		if args = append(args, "--"+name); all[name] != nil {
			args = append(args, rapid.SampledFrom(all[name]).Draw(s.t, name))
		}
	}
	return args
}

// do runs a command, and returns its lines.
func (s *shelf) do(words ...string) (lines []map[string]any, errs string, code int) {
	s.t.Logf("%s", strings.Join(words, " "))
	out, errs, code := cli(s.t, s.dir, append(words, "--as", "json")...)
	return parse(s.t, out), errs, code
}

// pick is one of the archives.
func (s *shelf) pick() *Archive {
	if len(s.archives) == 0 {
		s.t.Skip("there is none")
	}
	return s.archives[rapid.SampledFrom(sorted(s.archives)).Draw(s.t, "archive")]
}

// keyOf are the words that open an archive.
func keyOf(a *Archive) []string {
	if a.Key == "" {
		return nil
	}
	return []string{"--password-env", "CROSSED"}
}

// put notes an archive that a command has made, and makes sure that it has come out as it should.
func (s *shelf) put(a *Archive, errs string) {
	s.archives[a.called()] = a
	s.steps++
	out := fmt.Sprintf("DIR/out%d", s.steps)
	_, wrong, code := s.do(slices.Concat([]string{"extract", "DIR/" + a.called(), "--layout", "shared", "--into", out}, keyOf(a))...)
	require.Zero(s.t, code, "%s%s", errs, wrong)
	got, err := Look(filepath.Join(s.dir, filepath.Base(out)))
	require.NoError(s.t, err)
	want := tree(a.Entries)
	for at, thing := range got {
		if wanted, there := want[at]; there && wanted.Time > when.AddDate(0, 1, 0).Unix() { // made just now
			wanted.Time = thing.Time
			want[at] = wanted
		}
	}
	different := want.Differences(got)
	slices.Sort(different)
	require.Empty(s.t, different, errs)
	_, wrong, code = s.do(slices.Concat([]string{"verify", "DIR/" + a.called()}, keyOf(a))...)
	require.Zero(s.t, code, wrong)
}

// files are the tree and the archives, with sums of them.
func (s *shelf) files() map[string]string {
	all := map[string]string{}
	tree, err := Look(s.dir)
	require.NoError(s.t, err)
	for at, thing := range tree {
		aside := strings.HasPrefix(at, "out") || strings.HasPrefix(at, "replaced/") || slices.Contains([]string{"made.sums", "archives.sums", "made.receipt", "entries", "keys"}, at)
		if !aside && thing.Kind != Folder {
			sum := sha256.Sum256([]byte(thing.Data))
			all[at] = hex.EncodeToString(sum[:])
		}
	}
	return all
}

// place gives an archive a name of its own, as --clash says; false: it is refused.
func (s *shelf) place(a *Archive, clash string) bool {
	dir, name := path.Split(a.Name)
	for n := 2; has(s.archives, a.called()) && clash != "replace"; n++ {
		if clash != "number" {
			return false
		}
		a.Name = dir + fmt.Sprintf("%s-%d%s", stem(name), n, name[len(stem(name)):])
	}
	return true
}

// made is what a command makes, of entries.
func (s *shelf) made(name string, entries []Entry, c *Choice) *Archive {
	a := &Archive{Name: name, Entries: entries}
	if c.has("encrypt") {
		a.Key = keys[0]
	}
	if c.has("part-size") {
		a.Parts = 2
	}
	return a
}

// create packs some of the tree.
func (s *shelf) create() {
	var sources []string
	for _, at := range rapid.SliceOfNDistinct(rapid.SampledFrom(append(sorted(s.src), ".", ".")), 1, 2, rapid.ID[string]).Draw(s.t, "sources") {
		if s.src[at].Kind != Symlink {
			sources = append(sources, at)
		}
	}
	if len(sources) == 0 {
		s.t.Skip("a link")
	}
	name := rapid.SampledFrom([]string{"x.", "y."}).Draw(s.t, "name") + rapid.SampledFrom(into).Draw(s.t, "format")
	args := s.draw("create")
	c := choose(args)
	entries, left, want := Create(s.src, sources, args)
	if want == notModelled {
		s.t.Skip("a link to a folder is followed")
	}
	made := s.made(name, entries, c)
	free := s.place(made, c.of("clash", "refuse"))
	words := []string{"create", "DIR/" + name}
	for _, source := range sources {
		words = append(words, "DIR/"+path.Join("src", source))
	}
	before := s.files()
	_, errs, code := s.do(append(words, args...)...)
	if code == 2 {
		require.Equal(s.t, before, s.files(), errs)
		return
	}
	if entries != nil && !free {
		want, entries = 3, nil
	}
	require.Equal(s.t, want, code, "%d left out: %s", left, errs)
	if entries == nil || c.has("dry-run") {
		require.Equal(s.t, before, s.files(), errs)
		return
	}
	s.put(made, errs)
	if left == 0 && c.has("after") { // also where an --entry was nowhere
		s.gone(sources, entries, errs)
	}
	if c.has("sums") {
		s.summed(entries)
	}
	if c.has("receipt") && !c.has("after") {
		_, errs, code := s.do("verify", "--against", "DIR/made.receipt")
		require.Zero(s.t, code, errs)
	}
}

// gone makes sure that what was packed is gone from the tree, with the folders that were named,
// and that the rest is there; and makes it whole again.
func (s *shelf) gone(sources []string, packed []Entry, errs string) {
	now, err := Look(filepath.Join(s.dir, "src"))
	require.NoError(s.t, err)
	want := Tree{}
	for at, thing := range s.src {
		if !slices.Contains(sources, at) && !slices.ContainsFunc(packed, func(e Entry) bool { return e.from == at }) {
			want.put(at, thing)
		}
	}
	require.Empty(s.t, want.Differences(now), errs)
	require.NoError(s.t, os.RemoveAll(filepath.Join(s.dir, "src")))
	require.NoError(s.t, s.src.Plant(filepath.Join(s.dir, "src")))
}

// summed makes sure that the list of sums has the files that were packed, by their paths.
func (s *shelf) summed(entries []Entry) {
	text, err := os.ReadFile(filepath.Join(s.dir, "made.sums"))
	require.NoError(s.t, err)
	want, got := map[string]string{}, map[string]string{}
	for _, e := range entries {
		if e.Kind == File {
			sum := sha256.Sum256([]byte(e.Data))
			want[e.Path] = hex.EncodeToString(sum[:])
		}
	}
	for line := range strings.Lines(string(text)) {
		sum, at, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "  ")
		got[at] = sum
	}
	require.Equal(s.t, want, got)
}

// edit changes an archive.
func (s *shelf) edit() {
	a := s.pick()
	args := s.draw("edit")
	c := choose(args)
	before := s.files()
	entries, want := Edit(s.src, a.Entries, args)
	_, errs, code := s.do(append([]string{"edit", "DIR/" + a.called()}, args...)...)
	if code == 2 {
		require.Equal(s.t, before, s.files(), errs)
		return
	}
	require.Equal(s.t, want, code, errs)
	if code != 0 || c.has("dry-run") {
		require.Equal(s.t, before, s.files(), errs)
		return
	}
	edited := &Archive{Name: a.Name, Entries: entries, Key: a.Key, Parts: a.Parts}
	if c.has("encrypt") {
		edited.Key = keys[0]
	}
	s.put(edited, errs)
}

// convert makes another of an archive.
func (s *shelf) convert() {
	a := s.pick()
	args := s.draw("convert", "--to", rapid.SampledFrom(into).Draw(s.t, "to"))
	c := choose(args)
	before := s.files()
	entries, want := Convert(a.Name, a.Entries, args)
	made := s.made("c/"+stem(path.Base(a.Name))+"."+c.of("to", ""), entries, c)
	if a.Key != "" && c.of("to", "") == "zip" {
		made.Key = keys[0]
	}
	free := s.place(made, c.of("clash", "refuse")) && made.called() != a.called() // a source is never replaced
	lines, errs, code := s.do(append([]string{"convert", "DIR/" + a.called(), "--into", "DIR/c"}, args...)...)
	if code == 2 {
		require.Equal(s.t, before, s.files(), errs)
		return
	}
	if slices.ContainsFunc(lines, func(line map[string]any) bool { return line["done"] == true }) { // the same once more
		require.True(s.t, c.has("skip-done") && c.has("receipt"), errs)
		require.Equal(s.t, before, s.files(), errs)
		return
	}
	switch {
	case !free:
		if entries = nil; c.missed() {
			want = 1 // two kinds: nothing of it was looked at
		} else {
			want = 3
		}
	case entries != nil && !c.opens(a):
		want, entries = 5, nil
	}
	require.Equal(s.t, want, code, errs)
	if entries == nil && want == 5 && c.has("failed") && !c.has("dry-run") {
		s.went(a, "failed", before, errs)
		return
	}
	if entries == nil || c.has("dry-run") {
		require.Equal(s.t, before, s.files(), errs)
		return
	}
	s.put(made, errs)
	if c.has("entry-sums") {
		s.summed(entries)
	}
	if source := lines[slices.IndexFunc(lines, func(line map[string]any) bool { return line["kind"] != "archive" })]; c.has("after") {
		require.Equal(s.t, "source", source["kind"], errs)
		files := func(e Entry) bool { return e.Kind == Folder || c.has("no-clutter") && path.Base(e.Path) == ".DS_Store" }
		if all := len(slices.DeleteFunc(slices.Clone(a.Entries), files)) == len(slices.DeleteFunc(slices.Clone(entries), files)); source["after"] == "kept" {
			require.False(s.t, c.has("even-if-partial"), errs)
		} else {
			require.True(s.t, all || c.has("even-if-partial"), errs)
			s.went(a, strings.TrimPrefix(c.of("after", ""), "move=DIR/"), before, errs)
		}
	}
}

// went makes sure that an archive is where it went, as it was; remove: nowhere.
func (s *shelf) went(a *Archive, to string, before map[string]string, errs string) {
	now := s.files()
	for at, sum := range before {
		if at == a.called() || a.Parts > 1 && strings.HasPrefix(at, a.Name+".") && !strings.HasSuffix(at, ".sha256") {
			require.NotContains(s.t, now, at, errs)
			if to != "remove" {
				require.Contains(s.t, slices.Collect(maps.Values(now)), sum, errs)
			}
		}
	}
	delete(s.archives, a.called())
}

// compare compares two archives, or one with the tree.
func (s *shelf) compare() {
	a := s.pick()
	var b []Entry
	name, locked := "DIR/src", a.Key != ""
	if rapid.Bool().Draw(s.t, "with the tree") {
		for at, thing := range s.src {
			b = append(b, entryOf(at, thing))
		}
	} else {
		other := s.pick()
		name, b, locked = "DIR/"+other.called(), other.Entries, locked || other.Key != ""
	}
	args := s.draw("compare")
	if locked && !choose(args).has("password-env") {
		args = append(args, "--password-env", "CROSSED")
	}
	n, want := Compare(a.Entries, b, args)
	lines, errs, code := s.do(append([]string{"compare", "DIR/" + a.called(), name}, args...)...)
	if code == 2 {
		return
	}
	require.Equal(s.t, want, code, errs)
	if n != (Compared{}) {
		last := lines[slices.IndexFunc(lines, func(line map[string]any) bool { return line["kind"] == "comparison" })]
		count := func(key string) int { return int(last[key].(float64)) }
		require.Equal(s.t, n, Compared{count("same"), count("different"), count("only_a"), count("only_b")}, errs)
	}
}

// parts cuts an archive, or joins its parts again: the bytes stay.
func (s *shelf) parts() {
	a := s.pick()
	made := &Archive{Name: "p/" + path.Base(a.Name), Entries: a.Entries, Key: a.Key, Parts: 2}
	words := []string{"parts", "split", "DIR/" + a.Name, "--into", "DIR/p", "--part-size", rapid.SampledFrom([]string{"90", "1k"}).Draw(s.t, "size")}
	if a.Parts > 1 {
		made.Name, made.Parts = "j/"+path.Base(a.Name), 0
		words = []string{"parts", "join", "DIR/" + a.called(), "--into", "DIR/" + made.Name}
	}
	clash := rapid.SampledFrom([]string{"refuse", "replace"}).Draw(s.t, "clash")
	free, before := s.place(made, clash), s.files()
	_, errs, code := s.do(append(words, "--clash", clash)...)
	if !free {
		require.Equal(s.t, 3, code, errs)
		require.Equal(s.t, before, s.files(), errs)
		return
	}
	require.Zero(s.t, code, errs)
	s.put(made, errs)
}

// Whatever is packed, changed, rewritten, cut and joined is what the model says.
func TestShelf(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		dir, err := os.MkdirTemp(root, "shelf-")
		require.NoError(t, err)
		t.Cleanup(func() { os.RemoveAll(dir) })
		s := &shelf{t: t, dir: dir, src: drawTree(t), archives: map[string]*Archive{}}
		require.NoError(t, s.src.Plant(filepath.Join(dir, "src")))
		require.NoError(t, os.Mkdir(filepath.Join(dir, "j"), 0o777)) // where joined ones go
		t.Logf("src: %v", s.src)
		steps := map[string]func(){"create": s.create, "edit": s.edit, "convert": s.convert, "compare": s.compare, "parts": s.parts}
		s.create()
		for range rapid.IntRange(0, 4).Draw(t, "steps") {
			steps[rapid.SampledFrom(sorted(steps)).Draw(t, "step")]()
			assert.False(t, t.Failed())
		}
	})
}

// Every option of the commands is drawn, or is left out for a reason.
func TestEveryOptionIsDrawn(t *testing.T) {
	options["extract"] = drawn
	for command, drawn := range options {
		left := undrawn
		if command == "extract" {
			left = aside
		}
		out, _, code := cli(t, "", command, "--help")
		require.Zero(t, code)
		n := 0
		for _, word := range strings.Fields(out) {
			if name, is := strings.CutPrefix(word, "--"); is && strings.Trim(name, "abcdefghijklmnopqrstuvwxyz-") == "" {
				n++
				require.True(t, has(drawn, name) != has(left, name), "%s --%s", command, name)
			}
		}
		require.Greater(t, n, 20, command)
	}
}
