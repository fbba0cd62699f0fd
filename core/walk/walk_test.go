package walk

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/format"
	"widecrate/core/source"
)

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
func readAll(t *testing.T, r source.Request) (entries int, err error) {
	t.Helper()
	sources, err := source.Find(t.Context(), r)
	require.NoError(t, err)
	require.Len(t, sources, 1)
	a, err := Open(t.Context(), sources[0], Opening{})
	if err != nil {
		return 0, err
	}
	defer a.Close()
	for e, err := range a.Walk(t.Context()) {
		if err == nil {
			_, err = io.Copy(io.Discard, e)
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
				n, err := readAll(t, source.Request{Names: []string{dir}})
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
			sources, err := source.Find(t.Context(), source.Request{Names: []string{dir}, Series: []string{pattern}, AllowGaps: c.gaps})
			at := slices.IndexFunc(sources, func(s source.Source) bool { return s.Members() != nil })
			if err == nil {
				require.GreaterOrEqual(t, at, 0)
				assert.Equal(t, "s"+strings.TrimPrefix(pattern, "s-{n}"), sources[at].Name())
				err = sources[at].Err()
			}
			if c.kind != 0 {
				require.ErrorIs(t, err, c.kind)
				assert.Contains(t, err.Error(), c.want)
				return
			}
			require.NoError(t, err)
			a, err := Open(t.Context(), sources[at], Opening{})
			require.NoError(t, err)
			defer a.Close()
			var members []string
			n := 3 * len(strings.Fields(c.want))
			entries := 0
			for _, err := range a.Walk(t.Context()) {
				require.NoError(t, err)
				entries++
			}
			assert.Equal(t, n, entries)
			for i := range n {
				if m := a.Member(i); !slices.Contains(members, m) {
					members = append(members, m)
				}
			}
			assert.Equal(t, c.want, strings.Join(members, " "))
		})
	}
}

// A series knows how many there must be, and is waited for.
func TestSeriesCount(t *testing.T) {
	for name, c := range map[string]struct {
		pattern string
		count   int
		kind    fault.Kind
		called  string
	}{
		"all there":           {"s-{n}.tar", 3, 0, "s.tar"},
		"the last is missing": {"s-{n}.tar", 4, fault.Incomplete, ""},
		"too many":            {"s-{n}.tar", 2, fault.Incomplete, ""},
		"its name says it":    {"d {n} of 3.tar", 0, 0, "d.tar"},
		"and one is missing":  {"e {n} von 4.tar", 0, fault.Incomplete, ""},
		"anything after it":   {"f-{n}-*.tar", 3, 0, "f-.tar"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			for _, f := range []string{"s-%d.tar", "d %d of 3.tar", "e %d von 4.tar", "f-%d-x.tar"} {
				for n := range 3 {
					require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf(f, n+1)), []byte(content(t, "x.tar")), 0o666))
				}
			}
			sources, err := source.Find(t.Context(), source.Request{Names: []string{dir}, Series: []string{c.pattern}, SeriesCount: c.count})
			require.NoError(t, err)
			at := slices.IndexFunc(sources, func(s source.Source) bool { return s.Members() != nil })
			require.GreaterOrEqual(t, at, 0)
			if c.kind != 0 {
				assert.ErrorIs(t, sources[at].Err(), c.kind)
				return
			}
			require.NoError(t, sources[at].Err())
			assert.Equal(t, c.called, sources[at].Name())
		})
	}
	dir := t.TempDir()
	time.AfterFunc(300*time.Millisecond, func() {
		for _, name := range []string{"s-2.tar", "s-1.tar"} {
			assert.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(content(t, name)), 0o666))
		}
	})
	sources, err := source.Find(t.Context(), source.Request{Names: []string{dir}, Series: []string{"s-{n}.tar"}, SeriesCount: 2, Wait: time.Minute})
	require.NoError(t, err)
	require.NoError(t, sources[0].Err())
	assert.Len(t, sources[0].Members(), 2)
}

// So many bytes may be kept, and not one more.
func TestKeepInput(t *testing.T) {
	for most, want := range map[int64]error{3: fault.Unsafe, 4: nil, 0: nil} {
		kept, err := KeepInput(t.Context(), strings.NewReader("four"), most)
		if want != nil {
			require.ErrorIs(t, err, want, most)
			continue
		}
		require.NoError(t, err, most)
		require.NoError(t, kept.Close())
	}
}

// A tar in volumes is read as one, as a series and as a set, wherever it was cut: in the middle of a
// file, which a header of the next volume says, and between two. Without the last volume, or with one
// alone, that is said.
func TestVolumes(t *testing.T) {
	header := func(kind byte, name string) string {
		b := make([]byte, 512)
		for at, text := range map[int]string{0: name, 100: "0000644\x00", 124: "00000000000\x00", 136: "00000000000\x00", 148: "        ", 156: string(kind)} {
			copy(b[at:], text)
		}
		sum := 0
		for _, c := range b {
			sum += int(c)
		}
		copy(b[148:], fmt.Sprintf("%06o\x00", sum))
		return string(b)
	}
	const entry = 512 + 60_416
	for name, c := range map[string]struct {
		size     int
		labelled bool
	}{"in files": {40_960, false}, "in files, labelled": {20_480, true}, "between two": {entry + 512, true}} {
		t.Run(name, func(t *testing.T) {
			var volumes []string
			for whole, at := content(t, "x.tar"), 0; at < len(whole); {
				volume := ""
				if c.labelled {
					volume += header('V', fmt.Sprintf("May Volume %d", len(volumes)+1))
				}
				if at%entry != 0 {
					volume += header('M', string("abc"[at/entry])+".dat")
				}
				n := min(c.size-len(volume), len(whole)-at)
				volumes = append(volumes, volume+whole[at:at+n])
				at += n
			}
			for pattern, request := range map[string]source.Request{"may-%d.tar": {Series: []string{"may-{n}.tar"}}, "may.tar.%03d": {}} {
				dir := t.TempDir()
				request.Names = []string{dir}
				for i, volume := range volumes {
					require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf(pattern, i+1)), []byte(volume), 0o644))
				}
				entries, err := readAll(t, request)
				require.NoError(t, err, pattern)
				assert.Equal(t, 3, entries, pattern)
				require.NoError(t, os.Remove(filepath.Join(dir, fmt.Sprintf(pattern, len(volumes)))))
				_, err = readAll(t, request)
				require.ErrorIs(t, err, fault.Incomplete, pattern)
			}
			alone := filepath.Join(t.TempDir(), "last.tar")
			require.NoError(t, os.WriteFile(alone, []byte(volumes[1]), 0o644))
			_, err := readAll(t, source.Request{Names: []string{alone}})
			assert.Equal(t, name != "between two", fault.Of(err) == fault.Incomplete, "%v", err)
		})
	}
}
