package parts

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/format/tar"
	"widecrate/core/format/zip"
	"widecrate/core/storage"
	"widecrate/core/systemtest"
)

func write(t *testing.T, path, data string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o777))
	require.NoError(t, os.WriteFile(path, []byte(data), 0o666))
}

func noise(n int) string {
	b := make([]byte, n)
	rand.NewChaCha8([32]byte{5}).Read(b)
	return string(b)
}

// whole is a complete ZIP archive.
func whole(t *testing.T, contents ...string) string {
	t.Helper()
	var b bytes.Buffer
	fill(t, zip.NewWriter(&b, archive.WriteOptions{}), contents...)
	return b.String()
}

func fill(t *testing.T, w archive.Writer, contents ...string) {
	t.Helper()
	for i, content := range contents {
		_, err := w.Add(archive.Entry{Path: fmt.Sprintf("%d.csv", i), Size: int64(len(content))}, strings.NewReader(content))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
}

// Names are distinguished, put into natural order, and what lacks is named.
func TestFind(t *testing.T) {
	zipped := whole(t, "level")
	var b bytes.Buffer
	fill(t, tar.NewWriter(&b), "level")
	tarred := b.String()
	content := map[string]string{"": "part of something", "*": zipped, "^": "part of something" + zipped, "+": tarred, "-": strings.TrimRight(tarred, "\x00")}
	for name, c := range map[string]struct {
		files string // in the folder; after one, '*': a whole archive, '^': the end of one, '+': a tar, '-': its start
		want  string // sets: kind name = parts (missing ones in brackets); and what is left
	}{
		"split":              {"s.z01 s.z02 s.zip", "split ZIP s.zip = s.z01 s.z02 s.zip"},
		"split, upper":       {"S.Z01 S.ZIP", "split ZIP S.ZIP = S.Z01 S.ZIP"},
		"split, no end":      {"s.z01 s.z03", "split ZIP s.zip = s.z01 (s.z02) s.z03 (s.zip)"},
		"beside a whole":     {"s.z01 s.zip*", "split ZIP s.zip = s.z01 (s.zip) | s.zip"},
		"numbered":           {"g.tar.gz.001 g.tar.gz.002 g.tar.gz.003", "numbered g.tar.gz = g.tar.gz.001 g.tar.gz.002 g.tar.gz.003"},
		"beside the joined":  {"g.zip.001 g.zip.002 g.zip*", "numbered g.zip = g.zip.001 g.zip.002 | g.zip"},
		"from zero":          {"d.000 d.002", "numbered d = d.000 (d.001) d.002"},
		"natural order":      {"d.8 d.9 d.10 d.1 d.2 d.3 d.4 d.5 d.6 d.7", "numbered d = d.1 d.2 d.3 d.4 d.5 d.6 d.7 d.8 d.9 d.10"},
		"two widths":         {"d.1 d.2 d.01 d.02", "numbered d = d.01 d.02; numbered d = d.1 d.2"},
		"no first":           {"d.zip.2", "numbered d.zip = (d.zip.1) d.zip.2"},
		"versions":           {"lib.so.6 lib.so.7 notes.2", "| lib.so.6 lib.so.7 notes.2"},
		"lettered":           {"g.aa g.ab g.ad", "lettered g = g.aa g.ab (g.ac) g.ad"},
		"lettered part":      {"g.tar.part-aa g.tar.part-ab", "lettered g.tar = g.tar.part-aa g.tar.part-ab"},
		"letters, gz":        {"g.gx g.gy g.gz g.aa g.gw x.gz", "lettered g = g.aa … g.gw g.gx g.gy g.gz | x.gz"},
		"extensions":         {"main.go main.md x.tar.gz x.tar.gz.asc x.zip.md", "| main.go main.md x.tar.gz x.tar.gz.asc x.zip.md"},
		"part1":              {"n.part1.zip n.part2.zip", "named n.zip = n.part1.zip n.part2.zip"},
		"part01":             {"n.part01.tar.gz n.part03.tar.gz", "named n.tar.gz = n.part01.tar.gz (n.part02.tar.gz) n.part03.tar.gz"},
		"part1, each whole":  {"n.part1.zip* n.part2.zip*", "| n.part1.zip n.part2.zip"},
		"ends of archives":   {"n.tar.001^ n.tar.002^", "numbered n.tar = n.tar.001 n.tar.002"},
		"starts of tars":     {"n.tar.001- n.tar.002-", "numbered n.tar = n.tar.001 n.tar.002"},
		"whole tars":         {"n.tar.1+ n.tar.2+", "| n.tar.1 n.tar.2"},
		"of, in brackets":    {"n (part 1 of 2).bin n (part 2 of 2).bin", "named n.bin = n (part 1 of 2).bin n (part 2 of 2).bin"},
		"of":                 {"n_1of3.zip n_2of3.zip", "named n.zip = n_1of3.zip n_2of3.zip (n_3of3.zip)"},
		"of, apart":          {"n (1 of 2).bin n (2 of 2).bin n (1 of 3).bin", "named n.bin = n (1 of 2).bin n (2 of 2).bin; named n.bin = n (1 of 3).bin (n (2 of 3).bin) (n (3 of 3).bin)"},
		"lone whole":         {"data.001*", "| data.001"},
		"lone part":          {"data.zip.001*", "numbered data.zip = data.zip.001"},
		"third of none":      {"data.zip.003*", "| data.zip.003"},
		"lone cut":           {"data.001", "numbered data = data.001"},
		"letter case apart":  {"a.001 a.002 A.001", "numbered A = A.001; numbered a = a.001 a.002"},
		"letter case, mixed": {"Grid.Z01 grid.zip", "split ZIP grid.zip = Grid.Z01 grid.zip"},
		"dates":              {"level.20260501 level.20260502", "| level.20260501 level.20260502"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			var names []string
			for _, file := range files(c.files) {
				mark := file[len(strings.TrimRight(file, "*^+-")):]
				file = strings.TrimSuffix(file, mark)
				write(t, filepath.Join(dir, file), content[mark])
				names = append(names, file)
			}
			sets, rest, err := new(Lookup).In(dir, names)
			require.NoError(t, err)
			var got []string
			for _, s := range sets {
				text := fmt.Sprintf("%s %s =", s.Kind, s.Name)
				for _, p := range s.Parts {
					if p.Info == nil {
						text += " (" + filepath.Base(p.Path) + ")"
					} else {
						text += " " + filepath.Base(p.Path)
					}
				}
				got = append(got, text)
			}
			slices.Sort(rest)
			text := strings.Join(got, "; ")
			if rest != nil {
				text = strings.TrimSpace(text + " | " + strings.Join(rest, " "))
			}
			text = regexp.MustCompile(`( \([^)]*\)){6,}`).ReplaceAllString(text, " …")
			assert.Equal(t, c.want, text)
		})
	}
}

// files splits a list of names, of which those with an "of" in brackets have
// spaces.
func files(list string) []string {
	if strings.Contains(list, "(") {
		return strings.Split(strings.ReplaceAll(list, ".bin n", ".bin|n"), "|")
	}
	return strings.Fields(list)
}

// Every way to number goes on when its numbers are used up.
func TestSequence(t *testing.T) {
	for _, c := range []struct {
		kind   Kind
		tokens []string
		at     map[int]string
	}{
		{Numbered, []string{"001"}, map[int]string{0: "001", 998: "999", 999: "1000"}},
		{Numbered, []string{"0", "1"}, map[int]string{0: "0", 10: "10"}},
		{Split, []string{"01"}, map[int]string{0: "01", 99: "100"}},
		{Lettered, []string{"aa"}, map[int]string{0: "aa", 27: "bb", 675: "zz"}},
		{Lettered, []string{"aa", "yz", "zaaa"}, map[int]string{649: "yz", 650: "zaaa", 651: "zaab", 650 + 25*26*26: "zzaaaa"}},
		{Numbered, []string{"00", "89", "9000"}, map[int]string{89: "89", 90: "9000", 90 + 900: "990000"}},
		{Lettered, []string{"AAA"}, map[int]string{26: "ABA"}},
	} {
		s := newSequence(c.kind, c.tokens)
		for at, token := range c.at {
			assert.Equal(t, token, s.token(at), c.tokens)
			got, ok := s.position(token)
			assert.True(t, ok)
			assert.Equal(t, at, got, token)
		}
	}
}

// What is wrong with a set is said before any work.
func TestCheck(t *testing.T) {
	whole := noise(5000)
	for name, c := range map[string]struct {
		change func(t *testing.T, dir string)
		kind   fault.Kind
		says   string
	}{
		"complete":   {func(*testing.T, string) {}, fault.Other, ""},
		"missing":    {func(t *testing.T, dir string) { require.NoError(t, os.Remove(dir+"/x.002")) }, fault.Incomplete, "of 5 parts, 1 is missing: x.002"},
		"empty":      {func(t *testing.T, dir string) { write(t, dir+"/x.004", "") }, fault.Incomplete, "part 4 (x.004) is empty"},
		"empty last": {func(t *testing.T, dir string) { write(t, dir+"/x.006", "") }, fault.Other, ""},
		"short":      {func(t *testing.T, dir string) { write(t, dir+"/x.002", "short") }, fault.Incomplete, "part 2 (x.002) has 5 bytes and others have 1000"},
		"large last": {func(t *testing.T, dir string) { write(t, dir+"/x.005", whole[:1001]) }, fault.Incomplete, "more than the 1000 of the others"},
		"twice":      {func(t *testing.T, dir string) { write(t, dir+"/x.004", whole[1000:2000]) }, fault.Incomplete, "parts 2 (x.002) and 4 (x.004) hold the same bytes"},
		"twice, as listed": {func(t *testing.T, dir string) {
			write(t, dir+"/x.004", whole[1000:2000])
			write(t, dir+"/SHA256SUMS", fmt.Sprintf("%x  x.002\n%x  x.004\n", sha256.Sum256([]byte(whole[1000:2000])), sha256.Sum256([]byte(whole[1000:2000]))))
		}, fault.Other, ""},
		"a list of others": {func(t *testing.T, dir string) {
			write(t, dir+"/x.004", whole[1000:2000])
			write(t, dir+"/SHA256SUMS", fmt.Sprintf("%x  old/x.002\n%x  old/x.004\n", sha256.Sum256(nil), sha256.Sum256(nil)))
		}, fault.Incomplete, "hold the same bytes"},
		"zeros, twice": {func(t *testing.T, dir string) {
			z := strings.Repeat("\x00", 1000)
			write(t, dir+"/x.002", z)
			write(t, dir+"/x.003", z)
		}, fault.Other, ""},
		"a folder": {func(t *testing.T, dir string) {
			require.NoError(t, os.Remove(dir+"/x.002"))
			require.NoError(t, os.Mkdir(dir+"/x.002", 0o777))
		}, fault.Incomplete, "x.002 is a folder"},
		"a loop": {func(t *testing.T, dir string) {
			systemtest.NeedsLinks(t)
			require.NoError(t, os.Remove(dir+"/x.002"))
			require.NoError(t, os.Symlink("x.002", dir+"/x.002"))
		}, fault.Unreadable, "part x.002 is a symbolic link that leads back to itself"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			for i := range 5 {
				write(t, fmt.Sprintf("%s/x.%03d", dir, i+1), whole[i*1000:(i+1)*1000])
			}
			c.change(t, dir)
			s, err := At(storage.Sites{}, filepath.Join(dir, "x.003"), nil)
			require.NoError(t, err)
			err = s.Check()
			if c.kind == fault.Other {
				require.NoError(t, err)
				return
			}
			require.ErrorIs(t, err, c.kind)
			assert.Contains(t, err.Error(), c.says)
		})
	}
}

// Whatever order the parts are read in, the first wrong one is named.
func TestFirstWrongSum(t *testing.T) {
	dir, list := t.TempDir(), ""
	for i := range 12 {
		name, data := fmt.Sprintf("x.%03d", i+1), noise(1000+i/11*-500)
		write(t, filepath.Join(dir, name), data)
		if sum := sha256.Sum256([]byte(data)); i%3 == 1 { // 2, 5, 8 and 11 are wrong
			list += fmt.Sprintf("%x  %s\n", sha256.Sum256(sum[:]), name)
		} else {
			list += fmt.Sprintf("%x  %s\n", sum, name)
		}
	}
	write(t, filepath.Join(dir, "SHA256SUMS"), list)
	s, err := At(storage.Sites{}, filepath.Join(dir, "x.001"), nil)
	require.NoError(t, err)
	for range 30 {
		for workers := range 5 {
			_, err := (&Lists{Workers: workers}).Check(t.Context(), s)
			require.ErrorContains(t, err, "x.002")
			require.Equal(t, fault.Damaged, fault.Of(err))
		}
	}
}

// A thousand parts in two folders are one file, with few of them open at a time.
func TestReader(t *testing.T) {
	dir, other := t.TempDir(), t.TempDir()
	data := noise(10_007)
	for i := range 1001 {
		folder := []string{dir, other}[i%2]
		write(t, fmt.Sprintf("%s/x.%03d", folder, i+1), data[i*10:min((i+1)*10, len(data))])
	}
	s, err := At(storage.Sites{}, filepath.Join(dir, "x.001"), []string{other})
	require.NoError(t, err)
	require.NoError(t, s.Check())
	r := s.Open()
	defer r.Close()
	got, err := io.ReadAll(io.NewSectionReader(r, 0, r.Size()))
	require.NoError(t, err)
	require.Equal(t, data, string(got))
	b := make([]byte, 100)
	for _, at := range []int64{0, 5, 10, 9_900, 9_907} {
		n, err := r.ReadAt(b, at)
		assert.Equal(t, data[at:at+int64(n)], string(b[:n]))
		assert.Equal(t, at+100 > r.Size(), err == io.EOF)
	}
	write(t, filepath.Join(dir, "x.001"), "9876543210 and more")
	_, err = r.ReadAt(b, 0)
	require.ErrorIs(t, err, fault.Unreadable)
	assert.Contains(t, err.Error(), "part x.001 changed while it was read")
}

// A set that is still arriving is waited for, until it is there or time is up.
func TestAwait(t *testing.T) {
	dir := t.TempDir()
	data := noise(2500)
	write(t, dir+"/x.001", data[:1000])
	write(t, dir+"/x.003", data[2000:2100])
	find := func() (*Set, error) { return At(storage.Sites{}, dir+"/x.001", nil) }
	s, err := find()
	require.NoError(t, err)
	late, err := Await(t.Context(), s, time.Now().Add(10*time.Millisecond), find)
	require.NoError(t, err)
	require.ErrorIs(t, late.Check(), fault.Incomplete)
	time.AfterFunc(200*time.Millisecond, func() {
		assert.NoError(t, os.WriteFile(dir+"/x.002", []byte(data[1000:2000]), 0o666))
		assert.NoError(t, os.WriteFile(dir+"/x.003", []byte(data[2000:]), 0o666))
	})
	s, err = Await(t.Context(), s, time.Now().Add(time.Minute), find)
	require.NoError(t, err)
	require.NoError(t, s.Check())
	assert.EqualValues(t, 2500, s.Size())
	cancelled, cancel := context.WithCancel(t.Context())
	cancel()
	require.NoError(t, os.Remove(dir+"/x.002"))
	s, err = find()
	require.NoError(t, err)
	_, err = Await(cancelled, s, time.Now().Add(time.Minute), find)
	require.ErrorIs(t, err, context.Canceled)
}
