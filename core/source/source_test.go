package source

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/fault"
	"widecrate/core/storage"
	"widecrate/core/systemtest"
)

func TestFind(t *testing.T) {
	systemtest.NeedsLinks(t)
	t.Chdir(t.TempDir())
	for _, path := range []string{"in/a10.zip", "in/a2.ZIP", "in/notes.txt", "in/.widecrate-x/left.zip", "in/sub/deep/b.zip", "in/sub/c.dat"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o777))
		require.NoError(t, os.WriteFile(path, nil, 0o666))
	}
	require.NoError(t, os.MkdirAll("in/folder.zip", 0o777))
	require.NoError(t, os.Symlink("a2.ZIP", "in/link.zip"))
	require.NoError(t, os.Symlink("..", "in/sub/up"))
	for name, c := range map[string]struct {
		r    Request
		want string // path, '|' and sub of each; '!' in front of one with an error
	}{
		"a folder":          {Request{Names: []string{"in"}}, "in/a2.ZIP| in/a10.zip| in/link.zip|"},
		"below too":         {Request{Names: []string{"in"}, Recursive: true}, "in/a2.ZIP| in/a10.zip| in/link.zip| in/sub/deep/b.zip|sub/deep"},
		"other extensions":  {Request{Names: []string{"in/sub"}, Archives: []string{"*.dat"}}, "in/sub/c.dat|"},
		"only some":         {Request{Names: []string{"in"}, Archives: []string{"a2*", "l*"}}, "in/a2.ZIP| in/link.zip|"},
		"only some by path": {Request{Names: []string{"in"}, Recursive: true, Archives: []string{"sub/**/b*"}}, "in/sub/deep/b.zip|sub/deep"},
		"any file by name":  {Request{Names: []string{"in/notes.txt"}}, "in/notes.txt|"},
		"missing":           {Request{Names: []string{"in/none.zip", "in/a2.ZIP"}}, "!in/none.zip| in/a2.ZIP|"},
		"missing first":     {Request{Names: []string{"in/a2.ZIP", "in/none.zip"}}, "!in/none.zip| in/a2.ZIP|"},
		"once":              {Request{Names: []string{"in/a10.zip", "in", "./in/a2.ZIP"}}, "in/a10.zip| in/a2.ZIP| in/link.zip|"},
		"twice by two ways": {Request{Pairs: []Pair{{"in/a2.ZIP", To{Into: "x"}}, {"in/a2.ZIP", To{Into: "y"}}}}, "in/a2.ZIP| in/a2.ZIP|"},
	} {
		t.Run(name, func(t *testing.T) {
			found, err := Find(t.Context(), c.r)
			require.NoError(t, err)
			var got []string
			for _, s := range found {
				mark := ""
				if s.Err() != nil {
					mark = "!"
					assert.ErrorIs(t, s.Err(), fault.Unreadable)
				}
				got = append(got, mark+filepath.ToSlash(s.Path)+"|"+s.Sub)
			}
			assert.Equal(t, c.want, strings.Join(got, " "))
		})
	}
	_, err := Find(t.Context(), Request{Archives: []string{"[a"}})
	assert.ErrorIs(t, err, fault.Usage)
}

func TestLists(t *testing.T) {
	for text, want := range map[string][]string{"a": {"a"}, "a\r\n\r\nb c\r\n": {"a", "b c"}, "\ufeffä\n": {"ä"},
		"\xff\xfea\x00\n\x00": {"a"}, "\xfe\xff\x00a\x00\n\x00b": {"a", "b"}, "a\x00b\x00": {"ab"}, "\x00a\x00b": {"ab"}} {
		got, err := ReadList(strings.NewReader(text), false)
		require.NoError(t, err)
		assert.Equal(t, want, got, "%q", text)
	}
	for _, text := range []string{"", "\ufeff", "\r\n\n"} {
		_, err := ReadList(strings.NewReader(text), false)
		assert.ErrorIs(t, err, fault.Usage, "%q", text)
	}
	null, err := ReadList(strings.NewReader("a\n1\x00b\x00"), true)
	require.NoError(t, err)
	assert.Equal(t, []string{"a\n1", "b"}, null)
	_, err = ReadList(strings.NewReader("a\xffb"), false)
	assert.ErrorIs(t, err, fault.Usage)
	_, err = ReadList(iotest.ErrReader(errors.New("gone")), false)
	assert.ErrorIs(t, err, fault.Unreadable)

	for text, want := range map[string][]string{"a b.zip\tout put\n": {"a b.zip", "out put"}, "a,b.zip\tx\r\n\r\n": {"a,b.zip", "x"}, "a;b.zip,x;y\n": {"a;b.zip", "x;y"}, "a\"b.zip,x\n": {`a"b.zip`, "x"},
		"source,into\n\"a,b.zip\",\"say \"\"x\"\"\"\n": {"a,b.zip", `say "x"`}, "\ufeffInto;Source\nx;a.zip\n": {"a.zip", "x"}} {
		pairs, err := ReadPairs(strings.NewReader(text), "source", "into")
		require.NoError(t, err, "%q", text)
		assert.Equal(t, [][]string{want}, pairs, "%q", text)
	}
	pairs, err := ReadPairs(strings.NewReader("into;own-name;source;Ext\nx;n;a.zip;\"csv,json\"\ny;;b.zip;\n"), PairTitles...)
	require.NoError(t, err)
	own := &Own{Ext: "csv,json", OwnName: "n"}
	assert.Equal(t, []Pair{{"a.zip", To{"x", own}}, {"b.zip", To{Into: "y"}}}, []Pair{PairOf(pairs[0]), PairOf(pairs[1])})
	for _, bad := range []string{"", "a", "a\t", "\tb", "a\tb\tc", "source,into\n", "a,b\nc\n"} {
		_, err := ReadPairs(strings.NewReader(bad), "source", "into")
		assert.ErrorIs(t, err, fault.Usage, "%q", bad)
	}
}

// What was begun in a folder is finished before archives are looked for there, once.
func TestBegun(t *testing.T) {
	t.Chdir(t.TempDir())
	require.NoError(t, os.WriteFile("a.zip", nil, 0o666))
	asked := 0
	found, err := Find(t.Context(), Request{Names: []string{"."}, Begun: func(_ storage.Sites, folder string, names []string) (bool, error) {
		asked++
		assert.Equal(t, []string{"a.zip"}, names)
		return true, os.Rename(filepath.Join(folder, "a.zip"), filepath.Join(folder, "b.zip"))
	}})
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.Equal(t, "b.zip", found[0].Path)
	assert.Equal(t, 1, asked)
	// Of a file that is named as well: the part of a set may be gone already.
	found, err = Find(t.Context(), Request{Names: []string{"c.zip"}, Begun: func(_ storage.Sites, folder string, names []string) (bool, error) {
		assert.Equal(t, []string{"b.zip"}, names)
		return true, os.Rename(filepath.Join(folder, "b.zip"), filepath.Join(folder, "c.zip"))
	}})
	require.NoError(t, err)
	assert.NoError(t, found[0].Err())
}

// What is of a moment ago, or a moment ahead, may still be arriving; a time far ahead says
// nothing.
func TestSettled(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"old.zip", "new.zip", "ahead.zip", "far.zip"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o666))
		when := time.Now().Add(map[string]time.Duration{"old.zip": -2 * time.Hour, "ahead.zip": time.Minute, "far.zip": 48 * time.Hour}[name])
		require.NoError(t, os.Chtimes(filepath.Join(dir, name), when, when))
	}
	found, err := Find(t.Context(), Request{Names: []string{dir}, Settled: time.Hour})
	require.NoError(t, err)
	require.Len(t, found, 2)
	assert.Equal(t, []string{"far.zip", "old.zip"}, []string{found[0].Name(), found[1].Name()})
}

// Stars and question marks match any letters in either case, in folders too; brackets
// and braces are what they are.
func TestMatch(t *testing.T) {
	t.Chdir(t.TempDir())
	for _, path := range []string{"in/a10.zip", "in/A2.ZIP", "in/[a].zip", "in/{b,c}.zip", "other/a2.zip", "other/sub/a2.zip"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o777))
		require.NoError(t, os.WriteFile(path, nil, 0o666))
	}
	absolute, err := filepath.Abs("in")
	require.NoError(t, err)
	for pattern, want := range map[string]string{
		"in/a*.zip": "in/A2.ZIP in/a10.zip", "in/[A]*": "in/[a].zip", "in/{B,?}.zip": "in/{b,c}.zip", "*/A2.*": "in/A2.ZIP other/a2.zip",
		"o*/s?b/*": "other/sub/a2.zip", "in/x*": "", "none/*": "", "in/a10.zip/*": "", "*n": "in", "in//a1*": "in/a10.zip", absolute + "/a1*": filepath.ToSlash(absolute) + "/a10.zip",
	} {
		found, err := Match(pattern)
		require.NoError(t, err, pattern)
		assert.Equal(t, want, filepath.ToSlash(strings.Join(found, " ")), pattern)
	}
}
