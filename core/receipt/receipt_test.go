package receipt

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/newfile"
	"widecrate/core/report"
	"widecrate/core/source"
	"widecrate/core/stage"
	"widecrate/core/systemtest"
)

// night is a folder with archives and what was delivered from them.
type night struct {
	t   *testing.T
	dir string
}

func (n *night) put(path, data string) string {
	full := filepath.Join(n.dir, path)
	require.NoError(n.t, os.MkdirAll(filepath.Dir(full), 0o777))
	require.NoError(n.t, os.WriteFile(full, []byte(data), 0o666))
	return full
}

// delivered is an archive with one file, as extract says of it.
func (n *night) delivered(name string, change func(*report.Unpacked)) *report.Unpacked {
	f, err := blob.Find(n.put("in/"+name, "archive "+name))
	require.NoError(n.t, err)
	out := filepath.Join(n.dir, "out")
	o := &report.Unpacked{Archive: f.Path, Source: source.Source{Path: f.Path}, Root: out, Asked: filepath.Join(out, name), Target: filepath.Join(out, name), From: []blob.File{f},
		Placed: []report.Placed{{Entry: "levels.csv", Path: n.put("out/"+name+"/levels.csv", "level of "+name), Size: int64(len("level of " + name)), Action: stage.Added}}}
	if change != nil {
		change(o)
	}
	return o
}

func (n *night) write(path string, options map[string]string, all ...*report.Unpacked) {
	w, err := Append(newfile.Sites{}, path, Run{Command: "extract", Options: options, Started: time.Now()}, fault.Wording{})
	require.NoError(n.t, err)
	for _, o := range all {
		w.Unpacked(o)
	}
	require.NoError(n.t, w.Close())
}

// What is done is what was delivered whole, is as it was, and with the same options.
func TestDone(t *testing.T) {
	day := func(n int) time.Time { return time.Date(2026, 5, n, 0, 0, 0, 0, time.UTC) }
	dated := func(o *report.Unpacked) { // what is of the third and the fourth was kept
		o.Dates = &choose.Window{Older: day(2), From: day(3), To: day(4)}
		o.LeftOut[choose.OtherTime] = 1
	}
	for name, c := range map[string]struct {
		change  func(*report.Unpacked) // of what was delivered
		between func(n *night)         // what happened since
		options map[string]string      // of the next run
		since   int                    // a day; 0: none
		done    bool
		all     bool
		why     string
	}{
		"all of it":           {nil, nil, nil, 0, true, true, ""},
		"not all of it":       {func(o *report.Unpacked) { o.LeftOut[choose.Dropped] = 2 }, nil, nil, 0, true, false, ""},
		"all but clutter":     {func(o *report.Unpacked) { o.LeftOut[choose.Clutter] = 2 }, nil, nil, 0, true, true, ""},
		"mine was kept":       {func(o *report.Unpacked) { o.Placed[0].Action = stage.Skipped }, nil, nil, 0, true, false, ""},
		"it failed":           {func(o *report.Unpacked) { o.Err = fault.New(fault.Damaged, "it is") }, nil, nil, 0, false, false, ""},
		"another option":      {nil, nil, map[string]string{"ext": "csv"}, 0, false, false, "ext"},
		"the archive changed": {nil, func(n *night) { n.put("in/a.zip", "another archive") }, nil, 0, false, false, ""},
		"the file changed":    {nil, func(n *night) { n.put("out/a.zip/levels.csv", "x") }, nil, 0, false, false, ""},
		"the file was touched": {nil, func(n *night) {
			require.NoError(n.t, os.Chtimes(filepath.Join(n.dir, "out/a.zip/levels.csv"), time.Time{}, time.Unix(1, 0)))
		}, nil, 0, false, false, ""},
		"some of it was lost":       {func(o *report.Unpacked) { o.Lost = []report.Lost{{Entry: "x"}} }, nil, nil, 0, false, false, ""},
		"the same by dates":         {dated, nil, nil, 3, true, false, ""},
		"more by dates":             {dated, nil, nil, 1, false, false, "since"},
		"less by dates":             {dated, nil, nil, 4, false, false, "since"},
		"without dates":             {dated, nil, nil, 0, false, false, "since"},
		"with dates, and none then": {nil, nil, nil, 1, false, false, "since"},
		"a link took its place": {nil, func(n *night) {
			_ = os.Remove(filepath.Join(n.dir, "out/a.zip/levels.csv"))
			_ = os.Symlink("elsewhere", filepath.Join(n.dir, "out/a.zip/levels.csv"))
		}, nil, 0, false, false, ""},
		"the file is gone": {nil, func(n *night) { require.NoError(n.t, os.Remove(filepath.Join(n.dir, "out/a.zip/levels.csv"))) }, nil, 0, false, false, ""},
	} {
		t.Run(name, func(t *testing.T) {
			n := &night{t, t.TempDir()}
			kept := filepath.Join(n.dir, "r.jsonl")
			n.write(kept, map[string]string{}, n.delivered("b.zip", nil), n.delivered("a.zip", c.change))
			if c.between != nil {
				c.between(n)
			}
			r, err := Load(newfile.Sites{}, filepath.Join(n.dir, "none"), kept)
			require.NoError(t, err)
			defer r.Close()
			now, err := blob.Find(filepath.Join(n.dir, "in/a.zip"))
			require.NoError(t, err)
			asked := &Asked{Options: c.options}
			if c.since > 0 {
				asked.Since = day(c.since)
			}
			done, why := r.Done([]blob.File{now}, filepath.Join(n.dir, "out/a.zip"), asked, false)
			assert.Equal(t, c.done, done != nil)
			assert.Equal(t, c.all, done != nil && done.All)
			assert.Equal(t, c.why, why)
			if done != nil && done.All {
				assert.Len(t, done.Files, 1)
			}
			done, _ = r.Done([]blob.File{now}, filepath.Join(n.dir, "elsewhere"), asked, false)
			assert.Nil(t, done)
		})
	}
}

// Archives inside belong to the line of the one around them: if one of them failed, or
// the run ended before it, it is not done.
func TestInnerArchives(t *testing.T) {
	n := &night{t, t.TempDir()}
	outer := n.delivered("a.zip", func(o *report.Unpacked) { o.Placed, o.Inside = nil, 2 })
	inner := n.delivered("a.zip", func(o *report.Unpacked) { o.Archive += " › b.zip"; o.From = nil })
	broken := n.delivered("a.zip", func(o *report.Unpacked) {
		o.Archive += " › c.zip"
		o.From, o.Placed, o.Err = nil, nil, fault.New(fault.Damaged, "it is")
	})
	for _, c := range []struct {
		inside []*report.Unpacked
		done   bool
	}{{[]*report.Unpacked{inner, inner}, true}, {[]*report.Unpacked{inner, broken}, false}, {[]*report.Unpacked{inner}, false}, {nil, false}} {
		kept := filepath.Join(t.TempDir(), "r.jsonl")
		n.write(kept, nil, append([]*report.Unpacked{outer}, c.inside...)...)
		r, err := Load(newfile.Sites{}, kept)
		require.NoError(t, err)
		done, _ := r.Done(outer.From, outer.Asked, new(Asked), true)
		assert.Equal(t, c.done, done != nil)
		require.NoError(t, r.Close())
	}
}

// Several runs append at once, and one is killed in the middle of a line: what is whole
// counts, and the rest is said.
func TestAppending(t *testing.T) {
	n := &night{t, t.TempDir()}
	kept := filepath.Join(n.dir, "r.jsonl")
	var all [8][]*report.Unpacked
	for w := range all {
		for i := range 20 {
			all[w] = append(all[w], n.delivered(fmt.Sprintf("%d-%d.zip", w, i), nil))
		}
	}
	var runs sync.WaitGroup
	for _, some := range all {
		runs.Go(func() { n.write(kept, nil, some...) })
	}
	runs.Wait()
	data, err := os.ReadFile(kept)
	require.NoError(t, err)
	for line := range strings.Lines(string(data)) {
		require.True(t, json.Valid([]byte(line)) || line == "\n", line) // an empty line is no harm
	}
	require.NoError(t, os.WriteFile(kept, data[:len(data)-40], 0o666))
	n.write(kept, nil, n.delivered("last.zip", nil))
	r, err := Load(newfile.Sites{}, kept)
	require.NoError(t, err)
	defer r.Close()
	require.Len(t, r.Remarks, 1)
	assert.Contains(t, r.Remarks[0], "1 lines were cut off")
	done := 0
	for _, some := range append(all[:], []*report.Unpacked{n.delivered("last.zip", nil)}) {
		for _, o := range some {
			if is, _ := r.Done(o.From, o.Asked, new(Asked), false); is != nil {
				done++
			}
		}
	}
	assert.GreaterOrEqual(t, done, 159) // delivering the last again gave it another time
	_, err = Load(newfile.Sites{}, n.put("x", "a list\nof things\n"))
	assert.ErrorIs(t, err, fault.Damaged)
	_, err = Append(newfile.Sites{}, filepath.Join(n.dir, "x", "r.jsonl"), Run{}, fault.Wording{})
	assert.ErrorIs(t, err, fault.Unwritable)
}

// What was delivered is checked on the disk, to the byte.
func TestCheck(t *testing.T) {
	systemtest.NeedsLinks(t)
	n := &night{t, t.TempDir()}
	kept := filepath.Join(n.dir, "r.jsonl")
	n.write(kept, nil, n.delivered("a.zip", nil), n.delivered("b.zip", nil), n.delivered("c.zip", nil), n.delivered("d.zip", func(o *report.Unpacked) {
		require.NoError(t, os.Symlink("levels.csv", filepath.Join(o.Target, "latest")))
		o.Placed = append(o.Placed, report.Placed{Entry: "latest", Path: filepath.Join(o.Target, "latest"), Kind: archive.Symlink, Link: "levels.csv"})
	}))
	n.put("out/a.zip/levels.csv", "Level of a.zip")
	require.NoError(t, os.Remove(filepath.Join(n.dir, "out/b.zip/levels.csv")))
	n.put("out/c.zip/more.csv", "not delivered")
	n.write(kept, nil, n.delivered("e.zip", nil))
	require.NoError(t, os.Remove(filepath.Join(n.dir, "out/e.zip/levels.csv")))
	require.NoError(t, os.Symlink("elsewhere", filepath.Join(n.dir, "out/e.zip/levels.csv")))
	require.NoError(t, os.Remove(filepath.Join(n.dir, "out/d.zip/latest")))
	require.NoError(t, os.Symlink("elsewhere", filepath.Join(n.dir, "out/d.zip/latest")))
	r, err := Load(newfile.Sites{}, kept)
	require.NoError(t, err)
	defer r.Close()
	var got []string
	require.NoError(t, r.Check(t.Context(), 2, func(c *Checked) {
		rel, _ := filepath.Rel(n.dir, c.Path)
		got = append(got, filepath.ToSlash(rel)+" "+string(c.Status))
	}))
	assert.Equal(t, []string{"out/a.zip/levels.csv altered", "out/b.zip/levels.csv missing", "out/c.zip/levels.csv same",
		"out/d.zip/latest altered", "out/d.zip/levels.csv same", "out/e.zip/levels.csv altered", "out/c.zip/more.csv extra"}, got)
}

// A run that makes a folder afresh takes the place of earlier ones.
func TestFresh(t *testing.T) {
	n := &night{t, t.TempDir()}
	kept := filepath.Join(n.dir, "r.jsonl")
	n.write(kept, nil, n.delivered("a.zip", func(o *report.Unpacked) { o.Placed[0].Path = n.put("out/a.zip/old.csv", "old") }))
	n.write(kept, map[string]string{"fresh": "true"}, n.delivered("a.zip", nil))
	r, err := Load(newfile.Sites{}, kept)
	require.NoError(t, err)
	defer r.Close()
	files, err := r.Delivered()
	require.NoError(t, err)
	assert.Len(t, files, 1)
}

// A list of sums has the form that every system checks.
func TestSums(t *testing.T) {
	var s Sums
	s.Add("b c.csv", []byte{1, 2})
	s.Add("a\nb\\c", []byte{3})
	path := filepath.Join(t.TempDir(), "sums")
	require.NoError(t, s.Write(newfile.Sites{}, path, true))
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "\\03  a\\nb\\\\c\n0102  b c.csv\n", string(data))
}

// A list is not replaced by less than it has, but by a run that did all that it was asked for.
func TestSumsStay(t *testing.T) {
	path := filepath.Join(t.TempDir(), "sums")
	sum := bytes.Repeat([]byte{1}, 32)
	write := func(all bool, names ...string) string {
		var s Sums
		for _, name := range names {
			s.Add(name, sum)
		}
		require.NoError(t, s.Write(newfile.Sites{}, path, all))
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		var now []string
		for line := range strings.Lines(string(text)) {
			_, name, _ := strings.Cut(strings.TrimSpace(line), "  ")
			now = append(now, name)
		}
		return strings.Join(now, " ")
	}
	assert.Equal(t, "", write(true), "one that has nothing is made where there is none")
	assert.Equal(t, "a b", write(true, "b", "a"))
	assert.Equal(t, "a b", write(true))
	assert.Equal(t, "a b", write(false))
	assert.Equal(t, "a b c\\nd", write(false, "b", "c\nd"))
	assert.Equal(t, "c", write(true, "c"))
}
