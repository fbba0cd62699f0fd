package extract

import (
	"bytes"
	"context"
	"fmt"
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
	"widecrate/core/choose"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/format"
	"widecrate/core/format/zip"
	"widecrate/core/place"
	"widecrate/core/report"
	"widecrate/core/schedule"
	"widecrate/core/source"
	"widecrate/core/stage"
	"widecrate/core/systemtest"
	"widecrate/core/walk"
)

func TestMain(m *testing.M) {
	systemtest.InMemory()
	os.Exit(m.Run())
}

// pack writes an archive of pairs of path and data, a ZIP unless its name says otherwise; "→ " makes a link.
func pack(t *testing.T, path string, pairs ...string) {
	t.Helper()
	var b bytes.Buffer
	f, known := format.ByName(path)
	if !known {
		f = zip.Format
	}
	w, err := f.NewWriter(&b, archive.WriteOptions{})
	require.NoError(t, err)
	for i := 0; i < len(pairs); i += 2 {
		e := archive.Entry{Path: pairs[i], Size: int64(len(pairs[i+1]))}
		if target, is := strings.CutPrefix(pairs[i+1], "→ "); is {
			e.Kind, e.Link, e.Mode, e.HasMode = archive.Symlink, target, 0o777, true
		}
		_, err := w.Add(e, strings.NewReader(pairs[i+1]))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o777))
	require.NoError(t, os.WriteFile(path, b.Bytes(), 0o666))
}

func options(names ...string) Options {
	selection, _ := choose.New(choose.Rules{})
	sources, _ := source.Find(context.Background(), source.Request{Names: names})
	return Options{Request: walk.Request{Sources: sources, Selection: selection, Workers: 2}, Placement: &place.Placement{}}
}

func unpack(t *testing.T, o Options) (outcomes []report.Unpacked, disposals []report.Disposal, notices []string) {
	t.Helper()
	require.NoError(t, Run(context.Background(), o, func(e report.Event) {
		switch e := e.(type) {
		case *report.Unpacked:
			outcomes = append(outcomes, *e)
		case *report.Disposal:
			disposals = append(disposals, *e)
		case report.Notice:
			notices = append(notices, string(e))
		}
	}))
	return outcomes, disposals, notices
}

// Into a shared root the tree, the actions and the order of reports are those
// of one worker, however many there are, and a dry run foretells them.
func TestSharedRootIsDeterministic(t *testing.T) {
	in := t.TempDir()
	for a := range 24 {
		var pairs []string
		for f := range 12 {
			data := fmt.Sprintf("archive %d, file %d", a, f) + strings.Repeat("x", (a*f*997)%5000)
			pairs = append(pairs, fmt.Sprintf("d%d/f%d", f%4, (a*7+f)%40), data)
		}
		pack(t, filepath.Join(in, fmt.Sprintf("day-%d.zip", a)), pairs...)
	}
	for _, clash := range []stage.Clash{stage.Refuse, stage.Skip, stage.Replace, stage.Newer, stage.Number} {
		o := options(in)
		o.Placement.Layout, o.Rules.Clash = place.Shared, clash
		var first map[string]string
		var told []string
		for _, workers := range []int{0, 1, 8, 8} { // 0: the dry run
			o.Workers, o.DryRun = max(workers, 1), workers == 0
			o.Placement.Into = filepath.Join(t.TempDir(), "root")
			var lines []string
			outcomes, _, _ := unpack(t, o)
			for _, out := range outcomes {
				for _, p := range out.Placed {
					lines = append(lines, fmt.Sprint(out.Source.Name(), " ", p.Entry, " ", p.Action))
				}
				lines = append(lines, fmt.Sprint(out.Source.Name(), " ", fault.Of(out.Err)))
			}
			if o.DryRun {
				told = lines
				assert.NoDirExists(t, o.Placement.Into)
				continue
			}
			tree := systemtest.Contents(t, o.Placement.Into)
			if first == nil {
				first = tree
			}
			require.Equal(t, first, tree, "%d workers", workers)
			require.Equal(t, told, lines, "%d workers", workers)
			assert.Equal(t, "day-2.zip", o.Sources[2].Name(), "natural order")
		}
	}
}

func TestOneFailureOfMany(t *testing.T) {
	systemtest.NeedsLinks(t)
	dir := t.TempDir()
	in := filepath.Join(dir, "in")
	pack(t, filepath.Join(in, "a.zip"), "x", "1")
	pack(t, filepath.Join(in, "b.zip"), "x", "2", "../../escaped", "3")
	pack(t, filepath.Join(in, "c.zip"), "x", "4", "out", "→ ../../x")
	pack(t, filepath.Join(in, "d.zip"), "x", "5", "l", "→ x")
	require.NoError(t, os.WriteFile(filepath.Join(in, "e.zip"), []byte("text"), 0o666))
	require.NoError(t, os.WriteFile(filepath.Join(in, "f.zip"), nil, 0o666))
	pack(t, filepath.Join(in, "sub", "a.zip"), "x", "6")
	o := options(in, filepath.Join(in, "missing.zip"))
	o.Placement.Into = filepath.Join(dir, "out")
	outcomes, _, _ := unpack(t, o)
	var kinds []fault.Kind
	var totals report.Totals
	for i := range outcomes {
		kinds = append(kinds, fault.Of(outcomes[i].Err))
		totals.Add(&outcomes[i])
	}
	assert.Equal(t, []fault.Kind{fault.Unreadable, 0, fault.Unsafe, fault.Unsafe, 0, fault.Damaged, fault.Damaged}, kinds, "what is missing is reported first")
	assert.Equal(t, map[string]string{"a/x": "1", "d/x": "5", "d/l": "→ x"}, systemtest.Contents(t, o.Placement.Into))
	assert.Equal(t, fault.Other, fault.Of(totals.Err()))
	assert.Contains(t, outcomes[2].Err.Error(), "b.zip › ../../escaped: its path leads out")

	same := options(filepath.Join(in, "a.zip"), filepath.Join(in, "sub", "a.zip"))
	same.Placement.Into = filepath.Join(dir, "same")
	outcomes, _, _ = unpack(t, same)
	for _, out := range outcomes {
		assert.ErrorIs(t, out.Err, fault.Refused, "one folder for two archives")
	}
	assert.NoDirExists(t, same.Placement.Into)
}

func TestSelectionAndNothingKept(t *testing.T) {
	dir := t.TempDir()
	pack(t, filepath.Join(dir, "a.zip"), "x.csv", "1", "y.log", "2")
	pack(t, filepath.Join(dir, "b.zip"), "y.log", "2")
	o := options(dir)
	o.Selection, _ = choose.New(choose.Rules{Ext: []string{"csv"}})
	outcomes, _, _ := unpack(t, o)
	assert.Equal(t, "1", systemtest.Contents(t, filepath.Join(dir, "a"))["x.csv"])
	assert.Equal(t, 1, outcomes[0].LeftOut.LeftOut())
	assert.NoDirExists(t, filepath.Join(dir, "b"))
}

// A cancelled run leaves nothing of what was not committed.
func TestCancel(t *testing.T) {
	dir := t.TempDir()
	in, out := filepath.Join(dir, "in"), filepath.Join(dir, "out")
	for a := range 50 {
		pack(t, filepath.Join(in, fmt.Sprintf("%d.zip", a)), "x", strings.Repeat("1", 10_000), "y", "2")
	}
	o := options(in)
	o.Placement.Into = out
	ctx, cancel := context.WithCancel(context.Background())
	reported := 0
	err := Run(ctx, o, func(report.Event) {
		if reported++; reported == 5 {
			cancel()
		}
	})
	require.ErrorIs(t, err, context.Canceled)
	require.Less(t, reported, 50)
	found := systemtest.Contents(t, out)
	assert.Zero(t, len(found)%2, "each archive is there whole or not at all")
	for path := range found {
		assert.False(t, strings.HasPrefix(path, "."), "staging is left: %s", path)
	}
}

// A long entry goes first, but of several that are damaged, the first in the
// archive is named.
func TestLongEntries(t *testing.T) {
	path := filepath.Join(t.TempDir(), "survey.zip")
	long := strings.Repeat("2026-05-01T00:00Z,2600,good\n", schedule.Long/28+1)
	pack(t, path, "a.csv", "1,2,3 and 4,5,6", "long.csv", long, "b.csv", "7,8,9")
	for _, workers := range []int{1, 2, 8} {
		o := options(path)
		o.Workers, o.Placement.Into = workers, t.TempDir()
		outcomes, _, _ := unpack(t, o)
		require.NoError(t, outcomes[0].Err)
		got := systemtest.Contents(t, o.Placement.Into)
		require.Len(t, got, 3)
		assert.True(t, got["survey/long.csv"] == long)
	}
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	b[30+len("a.csv")+3] ^= 1
	b[len(b)/2] ^= 1
	require.NoError(t, os.WriteFile(path, b, 0o666))
	for _, workers := range []int{1, 2, 8} {
		o := options(path)
		o.Workers, o.Placement.Into = workers, t.TempDir()
		outcomes, _, _ := unpack(t, o)
		require.ErrorIs(t, outcomes[0].Err, fault.Damaged)
		assert.Contains(t, outcomes[0].Err.Error(), "a.csv")
		assert.Empty(t, systemtest.Contents(t, o.Placement.Into))
	}
}

// A run comes to its end, and reports every archive once, however much has to
// wait for its turn: with archives inside archives, names that count, a halt at
// the first failure, and a cancellation in between.
func TestAlwaysEnds(t *testing.T) {
	in := t.TempDir()
	var months []string
	for m := range 4 {
		var days []string
		for d := range 5 {
			day := filepath.Join(in, "day.zip")
			pack(t, day, "levels.csv", strings.Repeat("0", 400), "x/chart.png", fmt.Sprint(m, d))
			data, err := os.ReadFile(day)
			require.NoError(t, err)
			if m == 2 && d == 3 {
				data = data[:40]
			}
			days = append(days, fmt.Sprintf("day-%d.zip", d), string(data))
		}
		pack(t, filepath.Join(in, fmt.Sprintf("month-%d.zip", m)), days...)
		months = append(months, filepath.Join(in, fmt.Sprintf("month-%d.zip", m)))
	}
	count, err := place.NewTemplate("{n}{ext}", "n", "ext")
	require.NoError(t, err)
	for i := range systemtest.Rounds(60, 60, 240) {
		o := options(months...)
		o.Nested, o.Workers, o.Backlog = 1, []int{1, 2, 3, 8}[i%4], 1000
		o.Placement = &place.Placement{Into: t.TempDir(), Layout: place.Layout(i / 4 % 3)}
		o.Rules.Clash = stage.Number
		o.Halt = i/12%2 == 0
		if i/24%2 == 0 {
			o.Placement.Rename = count
		}
		ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
		var seen []string
		err := Run(ctx, o, func(e report.Event) {
			out, is := e.(*report.Unpacked)
			if !is {
				return
			}
			if seen = append(seen, filepath.Base(out.Archive)); i/48%2 == 1 && len(seen) == 9 {
				cancel()
			}
		})
		cancel()
		require.NotErrorIs(t, err, context.DeadlineExceeded, "run %d", i)
		if err == nil && !o.Halt {
			assert.Len(t, seen, 24)
		}
		slices.Sort(seen)
		assert.Len(t, slices.Compact(seen), len(seen))
		left, err := filepath.Glob(filepath.Join(o.Placement.Into, ".widecrate-*"))
		require.NoError(t, err)
		assert.Empty(t, left)
	}
}

// In a dry run that halts, what was not opened is not promised to be taken away.
func TestDryRunPromisesOnlyWhatItOpened(t *testing.T) {
	in := t.TempDir()
	for _, name := range []string{"1.zip", "2.zip", "3.zip"} {
		pack(t, filepath.Join(in, name), "x", name)
	}
	require.NoError(t, os.WriteFile(filepath.Join(in, "2.zip"), []byte("PK broken"), 0o666))
	for _, disposition := range []disposal.Disposition{disposal.Remove, disposal.Move} {
		o := options(in)
		o.Placement.Into, o.DryRun, o.Halt, o.After = t.TempDir(), true, true, disposal.After{Disposition: disposition, Folder: "done"}
		outcomes, disposals, notices := unpack(t, o)
		assert.Len(t, outcomes, 2)
		require.Len(t, disposals, 3)
		assert.Equal(t, []string{"", "it could not be unpacked", "it was not taken"}, []string{disposals[0].Kept, disposals[1].Kept, disposals[2].Kept})
		assert.Equal(t, []string{"stopped at the first failure: 1 archive was not taken"}, notices)
	}
}

// Whatever fails, and wherever, no file stays open and nothing that was spooled
// stays on the disk.
func TestNothingLeaks(t *testing.T) {
	handles := func() int {
		open, err := os.ReadDir("/proc/self/fd")
		if err != nil {
			t.Skip("this system does not list open files")
		}
		return len(open)
	}
	dir, spools := t.TempDir(), t.TempDir()
	t.Setenv("TMPDIR", spools)
	large := make([]byte, 17<<20)
	rand.NewChaCha8([32]byte{}).Read(large)
	pack(t, filepath.Join(dir, "large.zip"), "noise", string(large))
	inner, err := os.ReadFile(filepath.Join(dir, "large.zip"))
	require.NoError(t, err)
	require.NoError(t, os.Remove(filepath.Join(dir, "large.zip")))
	f, _ := format.ByName("x.tar.zst")
	var b bytes.Buffer
	w, err := f.NewWriter(&b, archive.WriteOptions{})
	require.NoError(t, err)
	for _, name := range []string{"large.zip", "small.zip", "z"} {
		_, err := w.Add(archive.Entry{Path: name, Size: int64(len(inner))}, bytes.NewReader(inner))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	whole := b.Bytes()
	before := handles()
	for cut := range 4 {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "months.tar.zst"), whole[:len(whole)*(cut+1)/4], 0o666))
		for _, dry := range []bool{true, false} {
			for _, nested := range []int{0, 1} {
				o := options(dir)
				o.Placement.Into, o.Nested, o.DryRun = t.TempDir(), nested, dry
				unpack(t, o)
				ctx, cancel := context.WithCancel(t.Context())
				o = options(dir)
				o.Placement.Into, o.Nested, o.DryRun = t.TempDir(), nested, dry
				time.AfterFunc(time.Duration(10*cut)*time.Millisecond, cancel)
				_ = Run(ctx, o, nil)
				cancel()
			}
		}
	}
	left, err := os.ReadDir(spools)
	require.NoError(t, err)
	for _, l := range left {
		assert.NotContains(t, l.Name(), "spool")
	}
	assert.LessOrEqual(t, handles(), before)
}

// A fresh folder takes the place of the old one only if something is kept, and what
// goes with the old one is listed, by a dry run as well.
func TestFresh(t *testing.T) {
	dir := t.TempDir()
	pack(t, filepath.Join(dir, "x.zip"), "a.csv", "1", "d/b.csv", "2")
	out := filepath.Join(dir, "out")
	for _, path := range []string{"x/a.csv", "x/d/old.csv", "x/mine.txt"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(out, path)), 0o777))
		require.NoError(t, os.WriteFile(filepath.Join(out, path), []byte("old"), 0o666))
	}
	before := systemtest.Contents(t, out)
	nothing, err := choose.New(choose.Rules{Ext: []string{"tsv"}})
	require.NoError(t, err)
	for _, dry := range []bool{true, false} {
		o := options(filepath.Join(dir, "x.zip"))
		o.Placement.Into, o.Rules.Fresh, o.DryRun, o.Selection = out, true, dry, nothing
		outcomes, _, _ := unpack(t, o)
		require.ErrorIs(t, outcomes[0].Err, fault.NoMatch)
		assert.Equal(t, before, systemtest.Contents(t, out))
		o.Selection, o.Placement = nil, &place.Placement{Into: out}
		outcomes, _, _ = unpack(t, o)
		require.NoError(t, outcomes[0].Err)
		assert.Equal(t, []string{filepath.Join(out, "x/d/old.csv"), filepath.Join(out, "x/mine.txt")}, outcomes[0].Removed)
	}
	assert.Equal(t, map[string]string{"x/a.csv": "1", "x/d/b.csv": "2"}, systemtest.Contents(t, out))
}

// A source is moved beside one of its name, and goes where the same file is there
// already; a dry run says the same.
func TestMovedBesideOthers(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"in/1/x.tar.zip", "in/2/x.tar.zip", "in/3/y.zip"} {
		pack(t, filepath.Join(dir, name), "a", name)
	}
	y, err := os.ReadFile(filepath.Join(dir, "in/3/y.zip"))
	require.NoError(t, err)
	day := filepath.Join(dir, "done-2026-05-01")
	pack(t, filepath.Join(day, "x.tar.zip"), "a", "other")
	require.NoError(t, os.WriteFile(filepath.Join(day, "y.zip"), y, 0o666))
	folder, err := place.NewTemplate(filepath.Join(dir, "done-{today}"), "today", "from")
	require.NoError(t, err)
	for _, dry := range []bool{true, false} {
		o := options(filepath.Join(dir, "in/1/x.tar.zip"), filepath.Join(dir, "in/2/x.tar.zip"), filepath.Join(dir, "in/3/y.zip"))
		o.Placement = &place.Placement{Into: filepath.Join(dir, "out"), Layout: place.Shared, Today: time.Date(2026, 5, 1, 9, 0, 0, 0, time.UTC)}
		o.Rules.Clash, o.DryRun, o.After = stage.Number, dry, disposal.After{Disposition: disposal.Move, Into: folder}
		_, disposals, _ := unpack(t, o)
		var to []string
		for _, d := range disposals {
			require.NoError(t, d.Err)
			to = append(to, strings.TrimPrefix(filepath.ToSlash(d.To()), filepath.ToSlash(day)+"/"))
		}
		assert.Equal(t, []string{"x.tar-2.zip", "x.tar-3.zip", ""}, to, "dry run: %v", dry)
	}
	left := systemtest.Contents(t, dir)
	assert.NotContains(t, left, "in/3/y.zip")
	assert.Len(t, systemtest.Contents(t, day), 4)
}
