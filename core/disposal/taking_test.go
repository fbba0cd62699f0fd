package disposal

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/blob"
	"widecrate/core/claim"
	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/storage"
	"widecrate/core/systemtest"
)

// Files are taken away together or not at all.
func TestSources(t *testing.T) {
	for name, c := range map[string]struct {
		to    []string // "" removes
		taken string   // exists already
		left  []string // in the folder; nil: all three
	}{
		"removed":       {[]string{"", "", ""}, "", []string{}},
		"moved":         {[]string{"1", "2", "3"}, "", []string{}},
		"one is there":  {[]string{"1", "2", "3"}, "3", nil},
		"first of them": {[]string{"1", "2", "3"}, "1", nil},
	} {
		dir, away := t.TempDir(), t.TempDir()
		var files, to []string
		for i, name := range []string{"x.001", "x.002", "x.003"} {
			files = append(files, filepath.Join(dir, name))
			require.NoError(t, os.WriteFile(files[i], []byte(name), 0o666))
			if c.to[i] != "" {
				to = append(to, filepath.Join(away, c.to[i]))
			} else {
				to = append(to, "")
			}
		}
		if c.taken != "" {
			require.NoError(t, os.WriteFile(filepath.Join(away, c.taken), []byte("theirs"), 0o666))
		}
		var read []blob.File
		for _, path := range files {
			f, err := blob.Find(path)
			require.NoError(t, err)
			read = append(read, f)
		}
		_, err := new(Route).take(storage.Sites{}, read, to, make([]string, len(to)), nil)
		if c.left == nil {
			assert.ErrorIs(t, err, fault.Refused, name)
			assert.Equal(t, map[string]string{"x.001": "x.001", "x.002": "x.002", "x.003": "x.003"}, systemtest.Contents(t, dir), name)
			assert.Equal(t, map[string]string{c.taken: "theirs"}, systemtest.Contents(t, away), name)
			continue
		}
		require.NoError(t, err, name)
		assert.Empty(t, systemtest.Contents(t, dir), name)
	}
	dir := t.TempDir()
	path := filepath.Join(dir, "x.zip")
	require.NoError(t, os.WriteFile(path, nil, 0o666))
	f, err := blob.Find(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, []byte("another"), 0o666))
	var stays *Stays
	_, err = new(Route).take(storage.Sites{}, []blob.File{f}, []string{""}, []string{""}, nil)
	assert.ErrorAs(t, err, &stays, "it is not what was read")
	assert.FileExists(t, path)
}

// What a killed run had begun to take away is finished: within its folder, by those who
// move to the same place, and only for files that are still the same.
func TestTakingIsFinished(t *testing.T) {
	for name, c := range map[string]struct {
		spoil    func(j *taking)
		into     string // where the next run moves to, below the folder above
		want     string
		finished bool
	}{
		"removed":          {func(j *taking) { j.Files[0].To, j.Files[1].To, j.Files[2].To = "", "", "" }, "", "", true},
		"moved":            {func(*taking) {}, "done", "../done/a.001 ../done/a.002 ../done/a.003", true},
		"moved elsewhere":  {func(*taking) {}, "other", "a.001 a.002 a.003", true},
		"a planted target": {func(j *taking) { j.Files[0].To = filepath.Join(filepath.Dir(j.Files[0].Path), "..", "keys") }, "done", "../done/a.002 ../done/a.003 a.001", true},
		"a planted source": {func(j *taking) { j.Files[0].Path = filepath.Join(filepath.Dir(j.Files[0].To), "..", "mine") }, "done", "../done/a.002 ../done/a.003 ../mine a.001", true},
		"a source through a link": {func(j *taking) {
			dir := filepath.Dir(j.Files[0].Path)
			_ = os.MkdirAll(filepath.Join(dir, "..", "far", "deep"), 0o777)
			_ = os.Symlink(filepath.Join("..", "far", "deep"), filepath.Join(dir, "link"))
			_ = os.Rename(j.Files[0].Path, filepath.Join(dir, "..", "far", "a.001"))
			j.Files[0].Path = dir + "/link/../a.001" // as text, it is in the folder
		}, "done", "../done/a.002 ../done/a.003 ../far/a.001 link", true},
		"in both places": {func(j *taking) {
			_ = os.MkdirAll(filepath.Dir(j.Files[0].To), 0o777)
			_ = os.Link(j.Files[0].Path, j.Files[0].To)
		}, "done", "../done/a.001 ../done/a.002 ../done/a.003", true},
		"another by now":      {func(j *taking) { j.Files[1].Modified = time.Now() }, "done", "../done/a.001 ../done/a.003 a.002", true},
		"its run still lives": {nil, "done", "a.001 a.002 a.003", false},
	} {
		t.Run(name, func(t *testing.T) {
			above := t.TempDir()
			dir := filepath.Join(above, "src")
			require.NoError(t, os.Mkdir(dir, 0o777))
			require.NoError(t, os.WriteFile(filepath.Join(above, "mine"), nil, 0o666))
			var j taking
			for _, name := range []string{"a.001", "a.002", "a.003"} {
				path := filepath.Join(dir, name)
				require.NoError(t, os.WriteFile(path, nil, 0o666))
				info, err := os.Stat(path)
				require.NoError(t, err)
				j.Files = append(j.Files, taken{Path: path, To: filepath.Join(above, "done", name), Modified: info.ModTime()})
			}
			if c.spoil != nil {
				c.spoil(&j)
			}
			journal := killed(t, dir, j)
			if c.spoil == nil {
				f, err := os.Open(filepath.Join(dir, journal))
				require.NoError(t, err)
				defer f.Close()
				require.NoError(t, claim.Lock(f))
			}
			route := Route{To: func(string, time.Time) string {
				if c.into == "" {
					return ""
				}
				return filepath.Join(above, c.into)
			}}
			finished, err := route.Finish(storage.Sites{}, dir, []string{"x.zip", journal}, nil)
			require.NoError(t, err)
			assert.Equal(t, c.finished, finished)
			var left []string
			for _, folder := range []string{"../done", "../far", "..", "."} {
				children, _ := os.ReadDir(filepath.Join(dir, folder))
				for _, child := range children {
					if !child.IsDir() && !place.IsStaging(child.Name()) && (child.Name() != "mine" || strings.Contains(c.want, "mine")) {
						left = append(left, filepath.ToSlash(filepath.Join(folder, child.Name())))
					}
				}
			}
			assert.Equal(t, c.want, strings.Join(left, " "))
		})
	}
}

// What a run of another day had begun goes to the folder of that day, also of parts that lie
// in a folder of their own.
func TestTakingOfAnotherDay(t *testing.T) {
	above := t.TempDir()
	dir, more := filepath.Join(above, "src"), filepath.Join(above, "more")
	begun := time.Date(2026, 5, 1, 23, 59, 0, 0, time.UTC)
	route := Route{Begun: begun.AddDate(0, 0, 1), To: func(_ string, begun time.Time) string {
		return filepath.Join(above, begun.Format(time.DateOnly))
	}}
	j := taking{Begun: begun}
	for _, path := range []string{filepath.Join(dir, "a.001"), filepath.Join(more, "a.002")} {
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o777))
		require.NoError(t, os.WriteFile(path, nil, 0o666))
		info, err := os.Stat(path)
		require.NoError(t, err)
		j.Files = append(j.Files, taken{Path: path, To: filepath.Join(above, "2026-05-01", filepath.Base(path)), Modified: info.ModTime()})
	}
	journal := killed(t, dir, j)
	failed := Route{Begun: route.Begun, To: route.To, Failed: true}
	finished, err := failed.Finish(storage.Sites{}, dir, []string{journal}, []string{more})
	require.NoError(t, err)
	assert.False(t, finished, "that is of another kind")
	finished, err = route.Finish(storage.Sites{}, dir, []string{journal}, []string{more})
	require.NoError(t, err)
	assert.True(t, finished)
	assert.Equal(t, map[string]string{"a.001": "", "a.002": ""}, systemtest.Contents(t, filepath.Join(above, "2026-05-01")))
}

// killed leaves a journal in a folder, as a run does that is killed.
func killed(t *testing.T, dir string, j taking) (name string) {
	t.Helper()
	text, err := json.Marshal(&j)
	require.NoError(t, err)
	name = claim.NewRun() + claim.TakingSuffix
	require.NoError(t, os.WriteFile(filepath.Join(dir, name), text, 0o600))
	return name
}
