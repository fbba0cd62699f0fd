package crossed

import (
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// A world is what there is before a command: an inbox, and a destination.
type world struct {
	archives []*Archive
	way      string // how they are named: in a folder, as files …
	there    Tree   // in the destination
}

// The ways to name archives.
const (
	inFolder = "folder"
	asFiles  = "files"
	inList   = "list"
	inPairs  = "pairs"
	onServer = "server"
	onPlain  = "plain server" // without ranges
	asInput  = "input"        // the first is standard input, a file
	inPipe   = "pipe"         // it comes through a pipe
)

// called is the name of an archive below a folder, or a server.
func (a *Archive) called() string {
	if a.Parts > 1 {
		return a.Name + ".001"
	}
	return a.Name
}

// sources are the archives as a command finds them.
func (w *world) sources(words []string) (list []Source) {
	c := choose(words)
	if w.way != inFolder {
		for i, a := range w.archives {
			root := "."
			if w.way == inPairs {
				root = pairRoot(i)
			}
			s := Source{a, w.prefix() + a.called(), path.Dir(a.Name), root, "."}
			named := *a
			s.Archive = &named
			picks := slices.ContainsFunc([]string{"entry", "entry-list", "pick", "ext", "min-size", "max-size", "since", "until"}, c.has)
			switch {
			case i == 0 && w.reads():
				named.Name = "standard-input" + path.Base(a.Name)[len(stem(path.Base(a.Name))):]
				named.Passes = w.way == inPipe
				s.Called, s.Parent = "standard-input", "crossed"
			case w.way == onPlain, w.way == onServer && !picks && !c.has("nested"): // it is read as a whole
				named.Passes = a.Parts < 2
			}
			list = append(list, s)
		}
		return list
	}
	for _, below := range []string{".", "s", "s/t", "s/t/u/v"} { // a folder comes before those in it
		for _, a := range w.archives {
			if path.Dir(a.Name) == below && (below == "." || c.has("recursive")) && c.archive(a.Name) {
				list = append(list, Source{a, w.prefix() + a.called(), below, ".", below})
			}
		}
	}
	return list
}

// reads reports whether the first archive is standard input.
func (w *world) reads() bool { return w.way == asInput || w.way == inPipe }

// input is standard input for a command, until it is closed.
func (w *world) input(t require.TestingT, dir string) *os.File {
	if !w.reads() {
		file, err := os.Open(os.DevNull)
		require.NoError(t, err)
		return file
	}
	file, err := os.Open(filepath.Join(dir, "in", filepath.FromSlash(w.archives[0].Name)))
	require.NoError(t, err)
	if w.way == asInput {
		return file
	}
	defer file.Close()
	out, in, err := os.Pipe()
	require.NoError(t, err)
	data, err := io.ReadAll(file)
	require.NoError(t, err)
	go func() {
		defer in.Close()
		_, _ = in.Write(data) // the command may not want all of it
	}()
	return out
}

// prefix is what the names of archives begin with.
func (w *world) prefix() string {
	switch w.way {
	case onServer:
		return "SERVER/in/"
	case onPlain:
		return "PLAIN/in/"
	}
	return "DIR/in/"
}

func pairRoot(i int) string { return fmt.Sprintf("p%d", i%2) }

// words name the sources and the destination, for a world in dir.
func (w *world) words(t require.TestingT, dir string) []string {
	var list []string
	for i, a := range w.archives {
		at := w.prefix() + a.called()
		switch {
		case w.reads() && i == 0:
			at = "-"
		case w.way == inPairs:
			at = strings.ReplaceAll(at, "DIR", dir) + "\t" + filepath.Join(dir, "out", pairRoot(i))
		case w.way == inList:
			at = strings.ReplaceAll(at, "DIR", dir)
		}
		list = append(list, at)
	}
	switch into := []string{"--into", "DIR/out"}; w.way {
	case inFolder:
		return append([]string{"DIR/in"}, into...)
	case inPairs, inList:
		require.NoError(t, os.WriteFile(filepath.Join(dir, w.way), []byte(strings.Join(list, "\n")+"\n"), 0o666))
		if w.way == inPairs {
			return []string{"--pairs", "DIR/pairs"}
		}
		return append([]string{"--source-list", "DIR/list"}, into...)
	default:
		return append(list, into...)
	}
}

func (w *world) String() string {
	var b strings.Builder
	fmt.Fprintf(&b, "\n  by %s", w.way)
	for _, a := range w.archives {
		fmt.Fprintf(&b, "\n  in/%s", a)
	}
	for _, at := range sorted(w.there) {
		fmt.Fprintf(&b, "\n  out/%s%s", at, w.there[at])
	}
	return b.String()
}

// when is the earliest time of an entry; the others are seconds, or hours, later.
var when = time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)

var (
	folders  = rapid.SampledFrom([]string{"", "", "d/", "d/", "d/e/", "Ü/"})
	names    = rapid.SampledFrom([]string{"a.csv", "a.csv", "b.csv", "A.csv", "c.json", "c.tar.bak", "x", ".env", ".DS_Store", "шум 潮.csv", "-v", "e\u0301.csv"})
	contents = rapid.SampledFrom([]string{"", "1", "1", "2", "33", "many"})
	later    = rapid.SampledFrom([]time.Duration{0, 0, 10 * time.Second, 48 * time.Hour})
	formats  = rapid.SampledFrom([]string{".zip", ".zip", ".tar", ".tar.gz", ".tar.zst", ".tgz", ".tar.xz", ".tar.bz2", ".tar.lz4"})
)

func content(t *rapid.T) string {
	text := contents.Draw(t, "content")
	switch {
	case text == "many" && rapid.IntRange(1, 40).Draw(t, "size") == 37: // small numbers are drawn more often
		return large
	case text == "many":
		return strings.Repeat("tide ", 3000)
	}
	return text
}

// large is more than any buffer, and does not get much smaller.
var large = func() string {
	random := rand.New(rand.NewPCG(1, 2))
	data := make([]byte, 3<<20/2)
	for i := range data {
		data[i] = "0123456789abcdef"[random.IntN(16)]
	}
	return string(data)
}()

func one(t *rapid.T, in int) bool { return rapid.IntRange(1, in).Draw(t, "of") == 1 }

// drawArchive draws an archive that lies so many archives deep.
func drawArchive(t *rapid.T, name string, depth int) *Archive {
	a := &Archive{Name: name + formats.Draw(t, "format")}
	taken := map[string]Kind{}
	for range rapid.IntRange(0, 5).Draw(t, "entries") {
		e := Entry{Path: folders.Draw(t, "folder") + names.Draw(t, "name"), Time: when.Add(later.Draw(t, "later"))}
		switch {
		case depth < 4 && one(t, 6):
			e.Path = folders.Draw(t, "folder") + "inner" + fmt.Sprint(rapid.IntRange(1, 2).Draw(t, "number"))
			e.Inner = drawArchive(t, e.Path, depth+1)
			e.Path = e.Inner.Name
		case depth == 0 && one(t, 30):
			e.Path = "../" + e.Path
		case one(t, 8):
			e.Kind, e.Path = Folder, strings.TrimSuffix(folders.Draw(t, "empty")+"empty", "/")
		case one(t, 8):
			e.Kind, e.Path, e.Link = Symlink, "link"+path.Ext(e.Path), rapid.SampledFrom([]string{"a.csv", "d/a.csv", "d"}).Draw(t, "target")
		case one(t, 2) && strings.Contains(a.Name, ".t"):
			if i := slices.IndexFunc(a.Entries, func(e Entry) bool { return e.Kind == File && e.Inner == nil }); i >= 0 {
				e.Kind, e.Link, e.Path = Hardlink, a.Entries[i].Path, "hard"+path.Ext(e.Path)
				break
			}
			fallthrough
		default:
			e.Data = content(t)
		}
		above, isThere := taken[path.Dir(e.Path)]
		if isThere && above != Folder || has(taken, e.Path) && (e.Kind != File || taken[e.Path] != File || !one(t, 3)) {
			continue // a file may have the path of another
		}
		taken[e.Path] = e.Kind
		a.Entries = append(a.Entries, e)
	}
	if depth == 0 {
		a.Damage = rapid.SampledFrom([]Damage{Sound, Sound, Sound, Sound, Sound, Sound, Cut, Junk, Flipped}).Draw(t, "damage")
		if one(t, 6) {
			a.Parts = 3
		}
		if i := slices.IndexFunc(a.Entries, func(e Entry) bool { return e.Kind == File && e.Inner == nil }); i >= 0 && a.Damage == Flipped {
			a.Entries[i].Data = brokenText
		}
		if strings.HasSuffix(a.Name, ".zip") && one(t, 6) {
			a.Key = rapid.SampledFrom(keys).Draw(t, "key")
		}
	}
	return a
}

func drawWorld(t *rapid.T) *world {
	w := &world{there: Tree{}, way: rapid.SampledFrom([]string{inFolder, inFolder, inFolder, asFiles, inList, inPairs, onServer, onPlain, asInput, inPipe}).Draw(t, "way")}
	for i := range rapid.SampledFrom([]int{1, 1, 2, 2, 3, 4, 5, 12, 30}).Draw(t, "archives") {
		below := rapid.SampledFrom([]string{"", "", "", "s/", "s/t/", "s/t/u/v/"}).Draw(t, "below")
		w.archives = append(w.archives, drawArchive(t, fmt.Sprintf("%sarch-%d", below, i), 0))
	}
	if w.reads() {
		w.archives[0].Parts = 0
	}
	for range rapid.IntRange(0, 3).Draw(t, "there") {
		at := rapid.SampledFrom([]string{"", "arch-0/", "arch-1/"}).Draw(t, "root") + folders.Draw(t, "folder") + names.Draw(t, "name")
		thing := Thing{File, content(t), when.Add(later.Draw(t, "later")).Unix()}
		if one(t, 8) {
			thing = Thing{Kind: Folder}
		}
		w.there[at] = thing
	}
	return w
}

// make writes the world into a new folder.
func (w *world) make(t tester) (dir string) {
	dir = newDir(t)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "in"), 0o777))
	for _, a := range w.archives {
		require.NoError(t, a.Write(filepath.Join(dir, "in")))
	}
	require.NoError(t, w.there.Plant(filepath.Join(dir, "out")))
	return dir
}

// newDir is a folder for one case.
func newDir(t tester) string {
	dir, err := os.MkdirTemp(root, "case-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// root is where cases are tried: in memory, where there is such a folder.
var root = func() string {
	if info, err := os.Stat("/dev/shm"); err == nil && info.IsDir() && filepath.Separator == '/' {
		return "/dev/shm"
	}
	return os.TempDir()
}()

// aside are options of extract that are not drawn, with the reason.
var aside = map[string]string{
	"help": "ends the program", "wait": "takes time", "settled": "depends on the clock", "others": "as a damaged archive", "source-list": "a way", "null-in": "of lists",
	"pairs": "a way", "check-sums": "needs a list", "parts-in": "needs folders", "pick-list": "as entry-list", "failed": "tests of its own", "series": "needs names of a series", "series-count": "as series", "allow-gaps": "as series",
	"shard": "a law", "workers": "a law", "dry-run": "a law", "skip-done": "a law", "receipt": "a law", "after": "a law", "into": "always", "as": "always json",
	"done-in": "as receipt", "token-env": "of addresses", "login-env": "of addresses", "identity": "of addresses", "known-hosts": "of addresses", "ca-file": "of addresses", "retries": "of addresses", "connections": "of addresses", "idle": "of addresses", "keep-fetched": "of addresses",
	"ask-password": "needs a terminal", "null-out": "of names", "color": "looks", "progress": "looks",
	"quiet": "looks", "verbose": "looks", "report": "a page", "sums": "a list", "zone": "times say theirs", "name-encoding": "names are UTF-8", "even-if-partial": "as after", "replaced": "a law", "staging": "a folder",
}

// drawn are the values of the other options.
var drawn = map[string][]string{
	"recursive": nil, "nested": nil, "fresh": nil, "flatten": nil, "no-clutter": nil, "ignore-case": nil, "salvage": nil, "halt": nil,
	"archives": {"*.zip", "*.t*", "s/*"}, "nested-depth": {"1", "2", "4"},
	"entry": {"a.csv", "d/a.csv", "none"}, "entry-list": {"ENTRIES"}, "pick": {"*.csv", "d", "d/**", "**/e/*", "A*"}, "drop": {"b.*", "d/e", "*.json", "inner1*"},
	"ext": {"csv", "csv,json", "json"}, "min-size": {"1", "2"}, "max-size": {"1", "100"}, "since": {"2026-05-01T12:00:05Z", "2026-05-02"}, "until": {"2026-05-01", "2026-05-02"},
	"layout": {"own", "shared", "auto"}, "own-name": {"{stem}-x", "one", "{from}"}, "peel": {"1", "2"}, "rename": {"{stem}-{archive}{ext}", "f-{nn}{ext}", "{name}"},
	"clash": {"refuse", "skip", "replace", "newer", "number"}, "names": {"portable", "as-is"}, "links": {"keep", "skip", "refuse", "rebase"},
	"password-env": {"CROSSED"}, "password-file": {"KEYS"},
	"max-total": {"10", "1M"}, "max-ratio": {"1", "1000"}, "max-memory": {"1G"}, "max-entries": {"2", "100"}, "dictionary": {"KEYS"},
}

// drawOptions draws a few of them.
func drawOptions(t *rapid.T, without ...string) (args []string) {
	all := sorted(drawn)
	for range rapid.IntRange(0, 5).Draw(t, "options") {
		name := rapid.SampledFrom(all).Draw(t, "option")
		if slices.Contains(args, "--"+name) || slices.Contains(without, name) {
			continue
		}
		if args = append(args, "--"+name); drawn[name] != nil {
			args = append(args, rapid.SampledFrom(drawn[name]).Draw(t, name))
		}
	}
	return args
}
