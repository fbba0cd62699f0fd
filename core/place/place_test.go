package place

import (
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

func TestClean(t *testing.T) {
	for stored, want := range map[string]string{
		"a": "a", "a/b": "a/b", "./a//b/.": "a/b", "a b/[c]": "a b/[c]", ".": ".", "./": ".",
		"...": "...", "..a/b..": "..a/b..", "c:x": "c:x", "ab:/c": "ab:/c", `a\b`: `a\b`,
	} {
		got, err := Clean(stored)
		require.NoError(t, err, stored)
		assert.Equal(t, want, got)
	}
	for _, stored := range []string{"", "..", "../a", "a/../../b", "a/..", "/a", "//a", `\a`, `\\host\share`, "C:/a", `c:\a`, "z:",
		`a\..\..\b`, `..\a`, "a\x00b", strings.Repeat("x/", 3000), strings.Repeat("x/", 300) + "y"} {
		_, err := Clean(stored)
		assert.ErrorIs(t, err, fault.Unsafe, "%.20q", stored)
	}
}

func TestCheckLink(t *testing.T) {
	for _, c := range []struct {
		at, target string
		safe       bool
	}{
		{"a", "b", true}, {"a", "./b/c", true}, {"d/a", "../b", true}, {"d/e/a", "../../b", true}, {"d/a", "..", true}, {"a", ".", true},
		{"a", "..", false}, {"a", "../b", false}, {"d/a", "../../b", false}, {"a", "/etc", false}, {"a", `\x`, false}, {"a", "c:/x", false},
		{"a", "", false}, {"a", "b\x00", false}, {"d/a", `..\..\b`, false},
		// If b is a link to the top, this leads out of it.
		{"d/a", "b/../c", false},
	} {
		err := CheckLink(c.at, c.target)
		if c.safe {
			assert.NoError(t, err, "%s → %s", c.at, c.target)
		} else {
			assert.ErrorIs(t, err, fault.Unsafe, "%s → %s", c.at, c.target)
		}
	}
}

func TestTarget(t *testing.T) {
	parent, err := NewTemplate("{from}/{stem}-{today}", "from", "stem", "today")
	require.NoError(t, err)
	today := time.Date(2026, 5, 1, 23, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		p    *Placement
		a    Archive
		want Target
	}{
		{&Placement{}, Archive{Path: "in/osk bay [v1].zip", Name: "osk bay [v1].zip"}, Target{"in", "osk bay [v1]"}},
		{&Placement{}, Archive{Path: "levels.v2.ZIP", Name: "levels.v2.ZIP"}, Target{".", "levels.v2"}},
		{&Placement{}, Archive{Path: "in/sub/a.zip", Sub: "sub", Name: "a.zip"}, Target{"in/sub", "a"}},
		{&Placement{Into: "out"}, Archive{Path: "in/sub/a.zip", Sub: "sub", Name: "a.zip"}, Target{"out", "sub/a"}},
		{&Placement{Into: "out"}, Archive{Path: "in/levels", Name: "levels"}, Target{"out", "levels"}},
		{&Placement{Into: "out"}, Archive{Path: "in/.zip", Name: ".zip"}, Target{"out", ".zip"}},
		{&Placement{Into: "out"}, Archive{Path: "in/a.zip", Name: "a.zip", Into: "mine"}, Target{"mine", "a"}},
		{&Placement{Into: "out", Layout: Shared}, Archive{Path: "in/a.zip", Name: "a.zip", Sub: "sub"}, Target{"out", ""}},
		{&Placement{Into: "out", OwnName: parent, Today: today}, Archive{Path: "in/a.zip", Name: "a.zip"}, Target{"out", "in/a-2026-05-01"}},
	} {
		got, err := c.p.Target(c.a)
		require.NoError(t, err)
		c.want.Root = filepath.FromSlash(c.want.Root)
		assert.Equal(t, c.want, got)
	}
	for _, text := range []string{"../{stem}", ".", ".widecrate-{stem}"} {
		up, err := NewTemplate(text, "stem")
		require.NoError(t, err)
		_, err = (&Placement{OwnName: up}).Target(Archive{Path: "a.zip", Name: "a.zip"})
		assert.ErrorIs(t, err, fault.Usage, text)
	}
}

// hostileNames lead elsewhere, or pass for unfinished work, on some system.
var hostileNames = []string{"..", ".widecrate-abcdefghij", ".WideCrate-x", ".wide\u200ccrate-x", "\ufeff.widecrate-x", "WIDECR~1", `..\x`, `a\.widecrate-x\owner`}

// Whatever a name from outside is to become, it goes through the same cleaning.
func TestEveryNameIsCleaned(t *testing.T) {
	template := func(text string) *Template {
		made, err := NewTemplate(text, "name", "stem", "archive", "from")
		require.NoError(t, err)
		return made
	}
	ways := map[string]func(name string) error{
		"entry":       func(name string) error { _, err := Clean(name); return err },
		"entry below": func(name string) error { _, err := Clean("a/" + name + "/b"); return err },
		"link target": func(name string) error { return CheckLink("a", name+"/x") },
		"single name": func(name string) error { _, err := Name(name); return err },
		"own folder": func(name string) error {
			_, err := (&Placement{}).Target(Archive{Path: "in/a", Name: name + ".zip"})
			return err
		},
		"inner folder": func(name string) error {
			_, err := (&Placement{}).Inner(Target{"out", "a"}, name+".zip", name+".zip")
			return err
		},
		"own name, stem": func(name string) error {
			_, err := (&Placement{OwnName: template("{stem}")}).Target(Archive{Path: "in/a", Name: name + ".zip"})
			return err
		},
		"own name, parent": func(name string) error {
			_, err := (&Placement{OwnName: template("{from}/{stem}")}).Target(Archive{Path: name + "/a.zip", Name: "a.zip"})
			return err
		},
		"rename, stem": func(name string) error {
			_, err := (&Placement{Rename: template("{stem}")}).Paths([]*archive.Entry{{Path: name + ".csv"}}, Naming{Archive: "a", Folder: "/out", Counter: new(Counter)})
			return err
		},
		"rename, archive": func(name string) error {
			_, err := (&Placement{Rename: template("{archive}")}).Paths([]*archive.Entry{{Path: "a.csv"}}, Naming{Archive: name, Folder: "/out", Counter: new(Counter)})
			return err
		},
	}
	for way, clean := range ways {
		require.NoError(t, clean("harmless"), way)
		for _, name := range hostileNames {
			if filepath.Base(name) != name && way == "own name, parent" || name == ".." && way == "own name, parent" {
				continue // a name on the disk, which cannot have separators in it
			}
			assert.ErrorIs(t, clean(name), fault.Unsafe, "%s %q", way, name)
		}
	}
	for _, name := range []string{".widecrate", "widecrate-x", "widecr", "x.widecrate-1", "mywidecr~1"} {
		assert.False(t, IsStaging(name), name)
	}
}

func TestPaths(t *testing.T) {
	stored := []string{"day/", "day/chart10.png", "day/chart2.png", "day/sub/x.tar.gz", "top.csv", "./day/sub/.hidden"}
	entries := make([]*archive.Entry, len(stored))
	for i, path := range stored {
		entries[i] = &archive.Entry{Path: strings.TrimSuffix(path, "/"), Modified: time.Date(2026, 5, i+1, 0, 0, 0, 0, time.UTC)}
		if entries[i].Path != path {
			entries[i].Kind = archive.Folder
		}
	}
	placeholders := []string{"name", "stem", "ext", "archive", "from", "folder", "n", "modified", "today"}
	for _, c := range []struct {
		p      *Placement
		rename string
		want   []string
	}{
		{&Placement{}, "", []string{"day", "day/chart10.png", "day/chart2.png", "day/sub/x.tar.gz", "top.csv", "day/sub/.hidden"}},
		{&Placement{Peel: 1}, "", []string{"", "chart10.png", "chart2.png", "sub/x.tar.gz", "", "sub/.hidden"}},
		{&Placement{Flatten: true}, "", []string{"", "chart10.png", "chart2.png", "x.tar.gz", "top.csv", ".hidden"}},
		{&Placement{Flatten: true, Peel: 2}, "", []string{"", "", "", "x.tar.gz", "", ".hidden"}},
		{&Placement{}, "{nnn}{ext}", []string{"day", "day/002.png", "day/001.png", "day/sub/002.tar.gz", "001.csv", "day/sub/001"}},
		{&Placement{Flatten: true}, "{archive}-{folder}-{n}-{stem}", []string{"", "a-day-2-chart10", "a-day-1-chart2", "a-sub-4-x", "a-a-5-top", "a-sub-3-.hidden"}},
		{&Placement{}, "{modified} {name}", []string{"day", "day/2026-05-02 chart10.png", "day/2026-05-03 chart2.png", "day/sub/2026-05-04 x.tar.gz", "2026-05-05 top.csv", "day/sub/2026-05-06 .hidden"}},
		{&Placement{Flatten: true}, "{modified:yymmdd}-{name}", []string{"", "260502-chart10.png", "260503-chart2.png", "260504-x.tar.gz", "260505-top.csv", "260506-.hidden"}},
	} {
		if c.rename != "" {
			var err error
			c.p.Rename, err = NewTemplate(c.rename, placeholders...)
			require.NoError(t, err)
		}
		counter := new(Counter)
		got, err := c.p.Paths(entries, Naming{Archive: "a", Folder: "/out", Counter: counter})
		require.NoError(t, err)
		assert.Equal(t, c.want, got, "peel %d, rename %q", c.p.Peel, c.rename)
		if c.rename == "{nnn}{ext}" {
			again, err := c.p.Paths(entries[:2], Naming{Archive: "b", Folder: "/out", Counter: counter})
			require.NoError(t, err)
			assert.Equal(t, "day/003.png", again[1], "the next archive counts on")
		}
	}
	for _, bad := range []string{"{x}", "{stem", "{}", "{today:}", "{today:day}", "{today:MM}", "{name:yyyy}"} {
		_, err := NewTemplate(bad, placeholders...)
		assert.ErrorIs(t, err, fault.Usage, bad)
	}
	slash, err := NewTemplate("a/{name}", placeholders...)
	require.NoError(t, err)
	_, err = (&Placement{Rename: slash}).Paths(entries, Naming{Archive: "a", Folder: "/out", Counter: new(Counter)})
	assert.ErrorIs(t, err, fault.Usage)
}

func TestTopFolder(t *testing.T) {
	for _, c := range []struct {
		paths string // those that end in '/' are folders
		peel  int
		want  string
	}{{"day/ day/a day/b/c", 0, "day"}, {"day/ day/a b", 0, ""}, {"a", 0, ""}, {"a/b c/d", 0, ""}, {"a/b/c a/b/d", 1, "b"}, {"day/a .x", 0, "day"}, {"", 0, ""}} {
		var entries []archive.Entry
		for _, path := range strings.Fields(c.paths) {
			e := archive.Entry{Path: strings.TrimSuffix(path, "/")}
			if e.Path != path {
				e.Kind = archive.Folder
			}
			entries = append(entries, e)
		}
		p := &Placement{Peel: c.peel}
		assert.Equal(t, c.want, p.TopFolder(entries, func(path string) bool { return path == ".x" }), c.paths)
	}
}

// What every system can hold stays, everything else is percent-encoded, and all of it
// comes back by decoding. What is left has no twin.
func TestSpelling(t *testing.T) {
	for name, want := range map[string]string{"a.csv": "a.csv", "08:30?.csv": "08%3A30%3F.csv", "a. ": "a.%20", "...": "..%2E", "con": "%63on", "Nul.txt": "%4Eul.txt",
		"COM1": "%43OM1", "lpt³.x": "%6Cpt³.x", "CONIN$": "%43ONIN$", "console": "console", "com10": "com10", `a\b`: "a%5Cb", "a\x01\x7f": "a%01%7F",
		"küste ": "küste%20", "100%": "100%", "5%-7%ab": "5%-7%25ab", "%3A": "%253A", "\xff\xfea": "%FF%FEa", "\ufffd": "\ufffd", "": ""} {
		assert.Equal(t, want, SpellName(name))
		held := heldOnWindows("x/" + name)
		assert.Equal(t, strings.ReplaceAll(want, "%25", "%") != name, held != nil, "%q: %v", name, held)
	}
	s := &Spelling{}
	paths := []string{"Day/Readme", "Day/README", "day/Readme", "Day/readme", "Day/%52eadme", "gr\u00fcn", "gru\u0308n", "Day/a:b", "Day/A:B", "Day/Readme", "a/b/c", "A/b/c", "A/B/c"}
	want := []string{"Day/Readme", "Day/%52EADME", "%64ay/Readme", "Day/%72eadme", "Day/%2552eadme", "gr\u00fcn", "%67ru\u0308n", "Day/a%3Ab", "Day/%41%3AB", "Day/Readme", "a/b/c", "%41/b/c", "%41/%42/c"}
	seen := map[string]bool{}
	for i, stored := range paths {
		spelt := s.Path(stored)
		assert.Equal(t, want[i], spelt)
		assert.Equal(t, stored, decoded(t, spelt))
		assert.Equal(t, stored == paths[9] && i == 9, seen[folded(spelt)], stored)
		seen[folded(spelt)] = true
	}
	assert.Equal(t, "../%64ay/./x%3F", s.Link("Day/l", "../day/./x?"))
	assert.Equal(t, "%41/%42", s.Link("l", "A/B"))

	p := &Placement{Into: "out", Names: Portable}
	got, err := p.Target(Archive{Path: "in/a: b .zip", Sub: "aux", Name: "a: b .zip"})
	require.NoError(t, err)
	assert.Equal(t, "%61ux/a%3A b%20", got.Folder)
}

// All names of two characters out of those that matter are told apart, on systems that
// fold too.
func TestSpellingIsReversible(t *testing.T) {
	s, seen := &Spelling{}, map[string]string{}
	alphabet := []string{"a", "A", "%", "2", "5", ".", " ", ":", "é", "É", "e\u0301", "\xff"}
	for _, a := range alphabet {
		for _, b := range append(alphabet, "") {
			for _, c := range append(alphabet, "") {
				stored := "d/" + a + b + c
				spelt := s.Path(stored)
				require.Equal(t, stored, decoded(t, spelt))
				require.NoError(t, heldOnWindows(spelt))
				other, taken := seen[folded(spelt)]
				require.True(t, !taken || other == stored, "%q and %q are both %q", stored, other, spelt)
				seen[folded(spelt)] = stored
			}
		}
	}
}

// decoded reverses percent-encoding.
func decoded(t *testing.T, spelt string) string {
	t.Helper()
	return regexp.MustCompile("%[0-9A-Fa-f]{2}").ReplaceAllStringFunc(spelt, func(hex string) string {
		b, err := strconv.ParseUint(hex[1:], 16, 8)
		require.NoError(t, err)
		return string([]byte{byte(b)})
	})
}
