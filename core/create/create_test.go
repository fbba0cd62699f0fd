package create

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/format/zip"
	"widecrate/core/inspect"
	"widecrate/core/report"
	"widecrate/core/source"
	"widecrate/core/systemtest"
	"widecrate/core/walk"
)

// paths lists what is in an archive.
func paths(t *testing.T, archive string) []string {
	t.Helper()
	var found []string
	all, _ := choose.New(choose.Rules{})
	sources, err := source.Find(t.Context(), source.Request{Names: []string{archive}})
	require.NoError(t, err)
	err = inspect.Run(context.Background(), inspect.Options{Request: walk.Request{Sources: sources, Selection: all}, Links: true}, func(a *inspect.Archive, err error) error {
		require.NoError(t, err)
		for i, e := range a.Entries(new(choose.Tally)) {
			path := e.Path
			if target, err := a.Link(i); e.Kind.String() == "link" {
				require.NoError(t, err)
				path += " → " + target
			}
			found = append(found, path)
		}
		return nil
	})
	require.NoError(t, err)
	return found
}

func TestCreate(t *testing.T) {
	systemtest.NeedsLinks(t)
	dir := t.TempDir()
	t.Chdir(dir)
	for path, data := range map[string]string{"landing/a.csv": "1", "landing/charts/b.png": "2", "landing/charts/old/c.png": "3", "notes [1].txt": "4", "other/a.csv": "5"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o777))
		require.NoError(t, os.WriteFile(path, []byte(data), 0o666))
	}
	require.NoError(t, os.Symlink("a.csv", "landing/link"))
	for name, c := range map[string]struct {
		sources []string
		drop    bool
		rules   choose.Rules
		want    []string
		leftOut int
		kind    fault.Kind
	}{
		"folder kept": {sources: []string{"landing"}, want: []string{"landing", "landing/a.csv", "landing/charts", "landing/charts/b.png",
			"landing/charts/old", "landing/charts/old/c.png", "landing/link → a.csv"}},
		"folder dropped":     {sources: []string{"landing/"}, drop: true, want: []string{"a.csv", "charts", "charts/b.png", "charts/old", "charts/old/c.png", "link → a.csv"}},
		"files":              {sources: []string{"notes [1].txt", "landing/a.csv"}, want: []string{"notes [1].txt", "a.csv"}},
		"this folder":        {sources: []string{"."}, drop: true, rules: choose.Rules{Ext: []string{"txt"}}, want: []string{"notes [1].txt"}, leftOut: 5},
		"dropped by pattern": {sources: []string{"landing"}, rules: choose.Rules{Drop: []string{"charts"}}, want: []string{"landing", "landing/a.csv", "landing/link → a.csv"}, leftOut: 2},
		"missing":            {sources: []string{"landing", "mising"}, kind: fault.Unreadable},
		"nothing matches":    {sources: []string{"landing"}, rules: choose.Rules{Ext: []string{"tsv"}}, kind: fault.NoMatch},
		"two with one path":  {sources: []string{"landing", "other"}, drop: true, kind: fault.Usage},
		"same name apart":    {sources: []string{"landing/a.csv", "other"}, want: []string{"a.csv", "other", "other/a.csv"}},
		"unknown extension":  {sources: []string{"landing"}, kind: fault.Usage},
		"file for a folder":  {sources: []string{"landing"}, kind: fault.Unwritable},
	} {
		t.Run(name, func(t *testing.T) {
			selection, err := choose.New(c.rules)
			require.NoError(t, err)
			archive := map[string]string{"unknown extension": "x.xyz", "file for a folder": "landing/a.csv/x.zip"}[name]
			if archive == "" {
				archive = "x.zip"
			}
			f, err := FormatOf(archive, "")
			var r *report.Created
			var read, found atomic.Int64
			if err == nil {
				r, err = Run(t.Context(), Options{Archive: archive, Format: f, Sources: c.sources, DropTop: c.drop, Selection: selection, Read: &read, Found: &found})
			}
			if c.kind != fault.Other {
				require.ErrorIs(t, err, c.kind)
				assert.NoFileExists(t, archive)
			} else {
				require.NoError(t, err)
				assert.Equal(t, c.want, paths(t, archive))
				assert.Equal(t, c.leftOut, r.LeftOut.LeftOut())
				assert.Positive(t, found.Load())
				assert.Equal(t, found.Load(), read.Load())
				require.NoError(t, os.Remove(archive))
			}
			left, err := filepath.Glob(".widecrate-*")
			require.NoError(t, err)
			assert.Empty(t, left)
		})
	}
}

func TestArchiveInsideItsSource(t *testing.T) {
	t.Chdir(t.TempDir())
	require.NoError(t, os.WriteFile("a", []byte("1"), 0o666))
	require.NoError(t, os.WriteFile("x.zip", []byte("old"), 0o666))
	selection, _ := choose.New(choose.Rules{})
	o := Options{Archive: "x.zip", Format: zip.Format, Sources: []string{"."}, DropTop: true, Selection: selection}
	_, err := Run(context.Background(), o)
	require.ErrorIs(t, err, fault.Refused)
	o.Existing = Replace
	r, err := Run(context.Background(), o)
	require.NoError(t, err)
	assert.True(t, r.Itself)
	assert.Equal(t, []string{"a"}, paths(t, "x.zip"))

	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = Run(ctx, o)
	require.ErrorIs(t, err, context.Canceled)
	assert.Equal(t, []string{"a"}, paths(t, "x.zip"), "the old one stays")
}

// All that there is is packed where it fits into the sample; otherwise pieces of
// it, and the truth is as near as is said.
func TestWeigh(t *testing.T) {
	t.Chdir(t.TempDir())
	r := rand.New(rand.NewPCG(6, 6))
	for i := range 60 {
		text := ""
		for line := range 1500 {
			text += fmt.Sprintf("2026-%02d-%02dT%04d,%d,good\n", i/28+5, i%28+1, line, 2600+r.IntN(900))
		}
		require.NoError(t, os.WriteFile(fmt.Sprintf("%02d.csv", i), []byte(text), 0o666))
	}
	selection, _ := choose.New(choose.Rules{})
	var ways []Way
	for _, text := range []string{"zip:store", "zip", "zip:zstd@9", "tar.gz@fast", "tar.zst"} {
		way, err := ParseWay(text)
		require.NoError(t, err)
		ways = append(ways, way)
	}
	weigh := func(sample int64) *report.Weighed {
		w := Weighing{Options: Options{Sources: []string{"."}, Selection: selection}, Ways: ways, Sample: sample}
		seen := 0
		r, err := w.Run(t.Context(), func(*report.Way) { seen++ })
		require.NoError(t, err)
		assert.Equal(t, len(ways), seen)
		return r
	}
	all, some := weigh(1<<30), weigh(400_000)
	assert.Equal(t, all.Size, all.Packed)
	assert.Zero(t, all.Off)
	assert.Less(t, some.Packed, some.Size/2)
	assert.Equal(t, all.Size, some.Size)
	for i, m := range all.Ways {
		assert.Equal(t, m.Size, m.Estimate)
		assert.Equal(t, slices.Contains(m.Best, "smallest"), m.Size == slices.MinFunc(all.Ways, func(a, b report.Way) int { return int(a.Size - b.Size) }).Size)
		off := some.Off + 0.02
		if m.Name == "tar.zst" { // which also finds what is alike far apart
			off += 0.1
		}
		assert.InEpsilon(t, m.Size, some.Ways[i].Estimate, off, m.Name)
	}
	for _, bad := range []string{"xyz", "zip:foo", "zip@10", "gz", "tar:zstd"} {
		_, err := ParseWay(bad)
		assert.ErrorIs(t, err, fault.Usage, bad)
	}
}

// A file that something writes to, that shrinks or vanishes meanwhile, is an
// error, and there is no archive.
func TestChangingSources(t *testing.T) {
	selection, _ := choose.New(choose.Rules{})
	for name, change := range map[string]func(path string) error{
		"grows": func(path string) error {
			f, err := os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0)
			if err != nil {
				return err
			}
			defer f.Close()
			_, err = f.WriteString("more")
			return err
		},
		"shrinks":  func(path string) error { return os.Truncate(path, 10) },
		"vanishes": os.Remove,
		"changes":  func(path string) error { return os.WriteFile(path, bytes.Repeat([]byte("y"), 100), 0o666) },
	} {
		for _, format := range []string{"x.zip", "x.tar.gz"} {
			t.Run(name+" "+format, func(t *testing.T) {
				dir := t.TempDir()
				t.Chdir(dir)
				require.NoError(t, os.WriteFile("late", bytes.Repeat([]byte("x"), 100), 0o666))
				require.NoError(t, os.Chtimes("late", time.Unix(1, 0), time.Unix(1, 0)))
				f, err := FormatOf(format, "")
				require.NoError(t, err)
				c := newCollector(t.Context(), Options{Format: f, Sources: []string{"late"}, Selection: selection, Read: new(atomic.Int64)})
				require.NoError(t, c.collect())
				require.NoError(t, change("late"))
				err = c.write(filepath.Join(dir, format), &report.Created{})
				require.ErrorIs(t, err, fault.Unreadable)
				left, err := filepath.Glob("*x*")
				require.NoError(t, err)
				assert.Empty(t, left)
			})
		}
	}
}

// A format that is only read is never offered for writing.
func TestReadOnlyFormat(t *testing.T) {
	for _, c := range [][2]string{{"", "iso"}, {"x.iso", ""}} {
		_, err := FormatOf(c[0], c[1])
		require.ErrorIs(t, err, fault.Usage)
		assert.ErrorContains(t, err, "iso is read, and not written")
		assert.NotContains(t, known(), "iso")
	}
	_, err := Run(t.Context(), Options{Archive: "x.iso", Texts: []Text{{"a", "b"}}})
	assert.ErrorIs(t, err, fault.Usage)
}

// Only what lies in the sources is ever removed: of what a link leads to, the link.
func TestRemoveStaysInTheSources(t *testing.T) {
	systemtest.NeedsLinks(t)
	dir := t.TempDir()
	t.Chdir(dir)
	for _, path := range []string{"in/a.csv", "in/d/b.csv", "out/c.csv", "out/deep/d.csv", "out/e.csv", "far/f.csv"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o777))
		require.NoError(t, os.WriteFile(path, []byte(path), 0o666))
	}
	for link, target := range map[string]string{"in/c": "../out/c.csv", "in/deep": "../out/deep", "out/deep/far": "../../far", "e": "out/e.csv", "in/again": "a.csv"} {
		require.NoError(t, os.Symlink(target, link))
	}
	selection, err := choose.New(choose.Rules{})
	require.NoError(t, err)
	f, err := FormatOf("x.zip", "")
	require.NoError(t, err)
	r, err := Run(t.Context(), Options{Archive: "x.zip", Format: f, Sources: []string{"in", "e"}, Selection: selection, Links: FollowLinks, Remove: true})
	require.NoError(t, err)
	assert.Empty(t, r.Kept)
	assert.Equal(t, []string{"e", "in", "in/a.csv", "in/again", "in/c", "in/d", "in/d/b.csv", "in/deep", "in/deep/d.csv", "in/deep/far", "in/deep/far/f.csv"},
		slices.Sorted(slices.Values(paths(t, "x.zip"))))
	var left []string
	require.NoError(t, filepath.WalkDir(".", func(path string, d os.DirEntry, err error) error {
		if !d.IsDir() {
			left = append(left, path)
		}
		return err
	}))
	assert.Equal(t, []string{"far/f.csv", "out/c.csv", "out/deep/d.csv", "out/deep/far", "out/e.csv", "x.zip"}, left)
	assert.NoDirExists(t, "in")
}

// Work that another run has not finished is never packed.
func TestUnfinishedWorkStaysOut(t *testing.T) {
	t.Chdir(t.TempDir())
	for _, path := range []string{"in/a.csv", "in/.widecrate-abcdefghij/1-0", "in/d/.widecrate-klmnopqrst-0"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o777))
		require.NoError(t, os.WriteFile(path, nil, 0o666))
	}
	selection, err := choose.New(choose.Rules{})
	require.NoError(t, err)
	f, err := FormatOf("x.zip", "")
	require.NoError(t, err)
	r, err := Run(t.Context(), Options{Archive: "x.zip", Format: f, Sources: []string{"in"}, Selection: selection})
	require.NoError(t, err)
	assert.Equal(t, []string{"in", "in/a.csv", "in/d"}, paths(t, "x.zip"))
	assert.Equal(t, 2, r.LeftOut[choose.Unfinished])
}
