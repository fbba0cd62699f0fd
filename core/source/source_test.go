package source

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/format"
)

func TestFind(t *testing.T) {
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
		"any file by name":  {Request{Names: []string{"in/notes.txt"}}, "in/notes.txt|"},
		"missing":           {Request{Names: []string{"in/a?.zip", "in/a2.ZIP"}}, "!in/a?.zip| in/a2.ZIP|"},
		"once":              {Request{Names: []string{"in/a10.zip", "in", "./in/a2.ZIP"}}, "in/a10.zip| in/a2.ZIP| in/link.zip|"},
		"twice by two ways": {Request{Pairs: []Pair{{"in/a2.ZIP", "x"}, {"in/a2.ZIP", "y"}}}, "in/a2.ZIP| in/a2.ZIP|"},
	} {
		t.Run(name, func(t *testing.T) {
			found, err := Find(t.Context(), c.r)
			require.NoError(t, err)
			var got []string
			for _, s := range found {
				mark := ""
				if s.Err != nil {
					mark = "!"
					assert.ErrorIs(t, s.Err, fault.Unreadable)
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
	for text, want := range map[string][]string{"": nil, "a": {"a"}, "a\r\n\r\nb c\r\n": {"a", "b c"}, "\ufeffä\n": {"ä"},
		"\xff\xfea\x00\n\x00": {"a"}, "\xfe\xff\x00a\x00\n\x00b": {"a", "b"}, "a\x00b\x00": {"ab"}, "\x00a\x00b": {"ab"}} {
		got, err := ReadList(strings.NewReader(text), false)
		require.NoError(t, err)
		assert.Equal(t, want, got, "%q", text)
	}
	null, err := ReadList(strings.NewReader("a\n1\x00b\x00"), true)
	require.NoError(t, err)
	assert.Equal(t, []string{"a\n1", "b"}, null)
	_, err = ReadList(strings.NewReader("a\xffb"), false)
	assert.ErrorIs(t, err, fault.Usage)
	_, err = ReadList(iotest.ErrReader(errors.New("gone")), false)
	assert.ErrorIs(t, err, fault.Unreadable)

	pairs, err := ReadPairs(strings.NewReader("a b.zip\tout put\n"))
	require.NoError(t, err)
	assert.Equal(t, []Pair{{"a b.zip", "out put"}}, pairs)
	for _, bad := range []string{"a", "a\t", "\tb", "a\tb\tc"} {
		_, err := ReadPairs(strings.NewReader(bad))
		assert.ErrorIs(t, err, fault.Usage, "%q", bad)
	}
}

// content makes an archive of three entries of noise, in a format by its name.
func content(t *testing.T, name string) string {
	t.Helper()
	f, ok := format.ByName(name)
	require.True(t, ok)
	var b bytes.Buffer
	w, err := f.NewWriter(&b, archive.WriteOptions{})
	require.NoError(t, err)
	data, noise := make([]byte, 60_000), rand.NewChaCha8([32]byte{byte(len(name))})
	for _, path := range []string{"a.dat", "b.dat", "c.dat"} {
		noise.Read(data)
		_, err := w.Add(archive.Entry{Path: path, Size: int64(len(data))}, bytes.NewReader(data))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.String()
}

// readAll opens the one source there is and reads all of it.
func readAll(t *testing.T, r Request) (entries int, err error) {
	t.Helper()
	sources, err := Find(t.Context(), r)
	require.NoError(t, err)
	require.Len(t, sources, 1)
	a, err := sources[0].Open(archive.Options{})
	if err != nil {
		return 0, err
	}
	defer a.Close()
	if a.Reader == nil {
		for {
			_, err := a.Stream.Next()
			if err == io.EOF {
				return entries, nil
			}
			if err == nil {
				_, err = io.Copy(io.Discard, a.Stream)
			}
			if err != nil {
				return entries, err
			}
			entries++
		}
	}
	for i := range a.Entries() {
		data, err := a.Open(i)
		if err == nil {
			_, err = io.Copy(io.Discard, data)
		}
		if err != nil {
			return entries, err
		}
		entries++
	}
	return entries, nil
}

// A cut of any format is read as the whole; what only its data can tell is said
// where it breaks.
func TestCutSets(t *testing.T) {
	for _, name := range []string{"x.zip", "x.tar", "x.tar.gz", "x.tar.zst", "x.tar.xz", "x.tar.bz2", "x.tar.lz4", "x.csv.gz"} {
		whole := content(t, strings.Replace(name, ".csv.gz", ".tar.gz", 1))
		const size = 20_000
		for wrong, change := range map[string]func(parts []string) []string{
			"":                         func(p []string) []string { return p },
			"swapped":                  func(p []string) []string { p[3], p[4] = p[4], p[3]; return p },
			"first swapped":            func(p []string) []string { p[0], p[1] = p[1], p[0]; return p },
			"left out and renumbered":  func(p []string) []string { return append(p[:4], p[5:]...) },
			"the last part is missing": func(p []string) []string { return p[:len(p)-1] },
		} {
			t.Run(name+" "+wrong, func(t *testing.T) {
				dir := t.TempDir()
				var parts []string
				for at := 0; at < len(whole); at += size {
					parts = append(parts, whole[at:min(at+size, len(whole))])
				}
				for i, part := range change(parts) {
					require.NoError(t, os.WriteFile(fmt.Sprintf("%s/%s.%03d", dir, name, i+1), []byte(part), 0o666))
				}
				n, err := readAll(t, Request{Names: []string{dir}})
				if wrong == "" {
					require.NoError(t, err)
					assert.Equal(t, 3, n)
					return
				}
				require.ErrorIs(t, err, fault.Incomplete)
			})
		}
	}
}

// A series is one source, in the order of its numbers, from members of any kind.
func TestSeries(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"s-1.tar", "s-2.zip", "s-10.tar", "s-2.tar", "s-docs.tar", "s-4.tar.gz", "s-5.tar.gz"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(content(t, name)), 0o666))
	}
	for pattern, c := range map[string]struct {
		gaps bool
		kind fault.Kind
		want string
	}{
		"s-{n}.tar":    {true, 0, "s-1.tar s-2.tar s-10.tar"},
		"s-{n}.tar.gz": {true, 0, "s-4.tar.gz s-5.tar.gz"},
		"s-{n}.zip":    {false, fault.Incomplete, "s-1.zip"},
		"t-{n}.tar":    {false, fault.NoMatch, "t-{n}.tar"},
		"s/{n}.tar":    {false, fault.Usage, "s/{n}.tar"},
		"s.tar":        {false, fault.Usage, "s.tar"},
	} {
		t.Run(pattern, func(t *testing.T) {
			sources, err := Find(t.Context(), Request{Names: []string{dir}, Series: []string{pattern}, AllowGaps: c.gaps})
			at := slices.IndexFunc(sources, func(s Source) bool { return s.Members != nil })
			if err == nil {
				require.GreaterOrEqual(t, at, 0)
				assert.Equal(t, "s"+strings.TrimPrefix(pattern, "s-{n}"), sources[at].Name())
				err = sources[at].Err
			}
			if c.kind != 0 {
				require.ErrorIs(t, err, c.kind)
				assert.Contains(t, err.Error(), c.want)
				return
			}
			require.NoError(t, err)
			a, err := sources[at].Open(archive.Options{})
			require.NoError(t, err)
			defer a.Close()
			var members []string
			n := 3 * len(strings.Fields(c.want))
			if a.Stream != nil {
				for range n {
					_, err := a.Stream.Next()
					require.NoError(t, err)
				}
				_, err = a.Stream.Next()
				assert.Equal(t, io.EOF, err)
			} else {
				assert.Len(t, a.Entries(), n)
			}
			for i := range n {
				if m := a.Member(i); !slices.Contains(members, m) {
					members = append(members, m)
				}
			}
			assert.Equal(t, c.want, strings.Join(members, " "))
		})
	}
}
