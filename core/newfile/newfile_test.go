package newfile

import (
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/claim"
	"widecrate/core/fault"
	"widecrate/core/place"
)

// read reads the files of a folder.
func read(t *testing.T, dir string) map[string]string {
	t.Helper()
	children, err := os.ReadDir(dir)
	require.NoError(t, err)
	found := map[string]string{}
	for _, child := range children {
		data, err := os.ReadFile(filepath.Join(dir, child.Name()))
		require.NoError(t, err)
		found[child.Name()] = string(data)
	}
	return found
}

func TestCreate(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a.zip")
	make := func(replace bool, data string) error {
		f, err := Create(path, replace)
		if err != nil {
			return err
		}
		_, err = io.WriteString(f, data)
		require.NoError(t, err)
		if data == "" {
			return f.Discard()
		}
		return f.Commit(replace)
	}
	require.NoError(t, make(false, ""))
	assert.Empty(t, read(t, dir))
	require.NoError(t, make(false, "one"))
	assert.ErrorIs(t, make(false, "two"), fault.Refused)
	assert.Equal(t, map[string]string{"a.zip": "one"}, read(t, dir))
	require.NoError(t, make(true, "three"))
	assert.Equal(t, map[string]string{"a.zip": "three"}, read(t, dir))

	late, err := Create(filepath.Join(dir, "b.zip"), false)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "b.zip"), []byte("somebody else's"), 0o666))
	assert.ErrorIs(t, late.Commit(false), fault.Refused)
	assert.Equal(t, "somebody else's", read(t, dir)["b.zip"])

	_, err = Create(filepath.Join(dir, "missing", "a.zip"), false)
	assert.True(t, errors.Is(err, fault.Unwritable) && errors.Is(err, fs.ErrNotExist))
}

// Several files appear together or not at all, and what they would have replaced
// is then as it was.
func TestCommitIsAllOrNone(t *testing.T) {
	for _, replace := range []bool{false, true} {
		dir := t.TempDir()
		there := map[string]string{"b": "old b"}
		if replace {
			there["a"] = "old a"
		}
		for name, data := range there {
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(data), 0o666))
		}
		n, err := CreateIn(dir)
		require.NoError(t, err)
		for _, data := range []string{"new a", "new b", "new c"} {
			f, err := n.Next()
			require.NoError(t, err)
			_, err = f.WriteString(data)
			require.NoError(t, err)
			require.NoError(t, f.Close())
		}
		if replace { // the last one vanishes: its move fails after the others
			require.NoError(t, os.Remove(n.Path(2)))
		}
		require.Error(t, n.Commit([]string{"a", "b", "c"}, replace))
		assert.Equal(t, there, read(t, dir))
	}
}

// What dead runs left goes, and nothing else does.
func TestDeadRunsAreCleared(t *testing.T) {
	dir := t.TempDir()
	alive, err := CreateIn(dir)
	require.NoError(t, err)
	first, err := alive.Next()
	require.NoError(t, err)
	require.NoError(t, first.Close())
	old := time.Now().Add(-2 * claim.Silence)
	ours, theirs := newPrefix(), place.StagingPrefix+"2222"+strings.Repeat("a", 10)
	type left struct {
		at    time.Time
		stays bool
	}
	files := map[string]left{
		ours + "-0": {time.Now(), false}, ours + "-1": {time.Now(), false}, ours + "-1-old": {time.Now(), false}, ours + "-1-moved": {time.Now(), true},
		newPrefix() + "-3":     {time.Now(), true}, // its first may have appeared a moment ago
		newPrefix() + "-4":     {old, false},
		theirs + "-0":          {time.Now(), true},
		theirs[:21] + "bbbb-0": {old, false},
		".widecrate-notes-0":   {old, true}, "a-0": {old, true},
	}
	for name, c := range files {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o666))
		require.NoError(t, os.Chtimes(filepath.Join(dir, name), c.at, c.at))
	}
	cleared.Clear()
	next, err := CreateIn(dir)
	require.NoError(t, err)
	require.NoError(t, next.Discard())
	for name, c := range files {
		_, err = os.Lstat(filepath.Join(dir, name))
		assert.Equal(t, c.stays, err == nil, name)
	}
	require.NoError(t, alive.Commit([]string{"made"}, false))
	assert.FileExists(t, filepath.Join(dir, "made"))
}

// Files are taken away together or not at all.
func TestTakeAway(t *testing.T) {
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
		err := TakeAway(files, to)
		if c.left == nil {
			assert.ErrorIs(t, err, fault.Refused, name)
			assert.Equal(t, map[string]string{"x.001": "x.001", "x.002": "x.002", "x.003": "x.003"}, read(t, dir), name)
			assert.Equal(t, map[string]string{c.taken: "theirs"}, read(t, away), name)
			continue
		}
		require.NoError(t, err, name)
		assert.Empty(t, read(t, dir), name)
	}
	assert.ErrorIs(t, TakeAway([]string{filepath.Join(t.TempDir(), "missing")}, []string{""}), fault.Unwritable)
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
			first := filepath.Join(dir, "a.001")
			saved := j.Files[0].Path
			j.Files[0].Path = first
			require.NoError(t, j.write(newPrefix()))
			j.Files[0].Path = saved
			text, err := json.Marshal(&j)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(j.file.Name(), text, 0o600))
			if c.spoil != nil {
				j.file.Close() // as when it is killed
			} else {
				defer j.end()
			}
			finished, err := FinishTaking(dir, []string{"x.zip", filepath.Base(j.file.Name())}, func(string) string {
				if c.into == "" {
					return ""
				}
				return filepath.Join(above, c.into)
			})
			require.NoError(t, err)
			assert.Equal(t, c.finished, finished)
			var left []string
			for _, folder := range []string{"../done", "..", "."} {
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
