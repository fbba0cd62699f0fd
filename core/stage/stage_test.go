package stage

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/systemtest"
)

var when = time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)

func TestMain(m *testing.M) {
	systemtest.InMemory()
	os.Exit(m.Run())
}

func plant(t *testing.T, dir string, files map[string]string) {
	t.Helper()
	for path, data := range files {
		path = filepath.Join(dir, path)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o777))
		require.NoError(t, os.WriteFile(path, []byte(data), 0o666))
	}
}

// thing is an item with its data; a path that ends in '/' is a folder, data
// that starts with "→ " makes a link.
type thing struct{ path, data string }

// staged is what a unit has in staging.
func staged(u Unit) *staging {
	if t, is := u.(*tree); is {
		return t.staging
	}
	return u.(*merge).staging
}

func begin(root *Root, folder string, rules Rules, things []thing) (Unit, error) {
	items := make([]Item, len(things))
	for i, it := range things {
		e := archive.Entry{Path: it.path, Modified: when, Size: int64(len(it.data))}
		if dir, is := strings.CutSuffix(it.path, "/"); is {
			e.Kind, e.Path = archive.Folder, dir
		}
		if target, is := strings.CutPrefix(it.data, "→ "); is {
			e.Kind, e.Link = archive.Symlink, target
		}
		items[i] = Item{e, it.path}
	}
	u, err := root.Begin(folder, items, rules)
	if err != nil {
		return nil, err
	}
	w := u.Writer()
	defer w.Close()
	for i, it := range things {
		if u.Wanted(i) {
			err := w.Write(i, func(to io.Writer) error {
				_, err := io.WriteString(to, it.data)
				return err
			})
			if err != nil {
				return nil, err
			}
		}
	}
	return u, nil
}

func TestCommit(t *testing.T) {
	for name, c := range map[string]struct {
		there  map[string]string
		folder string
		rules  Rules
		things []thing
		want   map[string]string // nil: as there
		result []Action
		kind   fault.Kind // of the error; Other: none
	}{
		"new folder": {nil, "own", Rules{}, []thing{{"a", "1"}, {"d/b", "2"}, {"d/l", "→ b"}, {"e/", ""}},
			map[string]string{"own/a": "1", "own/d/b": "2", "own/d/l": "→ b"}, []Action{Added, Added, Added, Added}, 0},
		"merge": {map[string]string{"own/a": "1", "own/d/x": "x"}, "own", Rules{}, []thing{{"a", "1"}, {"d/b", "2"}, {"e/f/g", "3"}},
			map[string]string{"own/a": "1", "own/d/x": "x", "own/d/b": "2", "own/e/f/g": "3"}, []Action{Same, Added, Added}, 0},
		"into the root": {map[string]string{"x": "x"}, "", Rules{}, []thing{{"a", "1"}},
			map[string]string{"a": "1", "x": "x"}, []Action{Added}, 0},
		"refuse a change":               {map[string]string{"own/b": "old"}, "own", Rules{}, []thing{{"a", "1"}, {"b", "new"}}, nil, nil, fault.Refused},
		"skip":                          {map[string]string{"own/b": "old"}, "own", Rules{Clash: Skip}, []thing{{"a", "1"}, {"b", "new"}}, map[string]string{"own/a": "1", "own/b": "old"}, []Action{Added, Skipped}, 0},
		"replace":                       {map[string]string{"own/b": "old"}, "own", Rules{Clash: Replace}, []thing{{"a", "1"}, {"b", "new"}}, map[string]string{"own/a": "1", "own/b": "new"}, []Action{Added, Replaced}, 0},
		"file where a folder is needed": {map[string]string{"own/d": "file"}, "own", Rules{Clash: Replace}, []thing{{"a", "1"}, {"d/b", "new"}}, nil, nil, fault.Refused},
		"folder where a file goes":      {map[string]string{"own/d/x": "x"}, "own", Rules{Clash: Replace}, []thing{{"a", "1"}, {"d", "new"}}, nil, nil, fault.Refused},
		"own folder is a file":          {map[string]string{"own": "file"}, "own", Rules{Clash: Replace}, []thing{{"a", "1"}}, nil, nil, fault.Refused},
		"folder entry over a file":      {map[string]string{"own/d": "file"}, "own", Rules{Clash: Skip}, []thing{{"a", "1"}, {"d/", ""}}, map[string]string{"own/a": "1", "own/d": "file"}, []Action{Added, Skipped}, 0},
		"twice, refused":                {nil, "own", Rules{}, []thing{{"a", "1"}, {"a", "2"}}, nil, nil, fault.Refused},
		"twice, equal":                  {nil, "own", Rules{}, []thing{{"a", "1"}, {"a", "1"}}, map[string]string{"own/a": "1"}, []Action{Added, Same}, 0},
		"twice, the first stays":        {nil, "own", Rules{Clash: Skip}, []thing{{"a", "1"}, {"a", "2"}}, map[string]string{"own/a": "1"}, []Action{Added, Skipped}, 0},
		"twice, the last wins":          {nil, "own", Rules{Clash: Replace}, []thing{{"a", "1"}, {"a", "2"}}, map[string]string{"own/a": "2"}, []Action{Skipped, Added}, 0},
		"file and folder in one":        {nil, "own", Rules{Clash: Replace}, []thing{{"a", "1"}, {"a/b", "2"}}, nil, nil, fault.Refused},
		"number":                        {map[string]string{"own/b.x": "old", "own/b-2.x": "2"}, "own", Rules{Clash: Number}, []thing{{"a", "1"}, {"b.x", "new"}, {"b.x", "newer"}, {"b-3.x", "3"}}, map[string]string{"own/a": "1", "own/b.x": "old", "own/b-2.x": "2", "own/b-3.x": "3", "own/b-4.x": "new", "own/b-5.x": "newer"}, []Action{Added, Added, Added, Added}, 0},
		"number, again":                 {map[string]string{"own/b.x": "old", "own/b-2.x": "new"}, "own", Rules{Clash: Number}, []thing{{"b.x", "new"}}, nil, []Action{Same}, 0},
		"number for a folder":           {map[string]string{"own/d/x": "x"}, "own", Rules{Clash: Number}, []thing{{"d", "1"}}, map[string]string{"own/d/x": "x", "own/d-2": "1"}, []Action{Added}, 0},
		"newer is there":                {map[string]string{"own/b": "old"}, "own", Rules{Clash: Newer}, []thing{{"b", "new"}}, nil, []Action{Skipped}, 0},
		"fresh":                         {map[string]string{"own/b": "old", "own/d/x": "x"}, "own", Rules{Fresh: true}, []thing{{"a", "1"}}, map[string]string{"own/a": "1"}, []Action{Added}, 0},
		"fresh, twice":                  {map[string]string{"own/b": "old"}, "own", Rules{Fresh: true, Clash: Replace}, []thing{{"a", "1"}, {"a", "2"}}, map[string]string{"own/a": "2"}, []Action{Skipped, Added}, 0},
		"fresh over a file":             {map[string]string{"own": "file"}, "own", Rules{Fresh: true}, []thing{{"a", "1"}}, nil, nil, fault.Refused},
		"equal links":                   {map[string]string{"own/x": "x"}, "own", Rules{}, []thing{{"l", "→ x"}, {"l", "→ x"}}, map[string]string{"own/x": "x", "own/l": "→ x"}, []Action{Added, Same}, 0},
	} {
		t.Run(name, func(t *testing.T) {
			if slices.ContainsFunc(c.things, func(th thing) bool { return strings.HasPrefix(th.data, "→") }) {
				systemtest.NeedsLinks(t)
			}
			dir := t.TempDir()
			plant(t, dir, c.there)
			root, err := Open(dir, "")
			require.NoError(t, err)
			u, err := begin(root, c.folder, c.rules, c.things)
			var result []Action
			if err == nil {
				var results []Result
				results, err = u.Commit()
				for _, r := range results {
					result = append(result, r.Action)
				}
			}
			want := c.want
			if want == nil {
				want = c.there
			}
			if c.kind != fault.Other {
				require.ErrorIs(t, err, c.kind)
				want = c.there
			} else {
				require.NoError(t, err)
			}
			assert.Equal(t, c.result, result)
			require.NoError(t, root.Close())
			if want == nil {
				want = map[string]string{}
			}
			assert.Equal(t, want, systemtest.Contents(t, dir))
		})
	}
}

// A preview says the same as a commit then does, and changes nothing.
func TestPreview(t *testing.T) {
	dir := t.TempDir()
	root, err := Look(filepath.Join(dir, "missing"))
	require.NoError(t, err)
	u, err := root.Begin("own", []Item{{Entry: archive.Entry{Path: "a"}}}, Rules{})
	require.NoError(t, err)
	actions, err := u.Results()
	require.NoError(t, err)
	assert.Equal(t, []Result{{Path: "own/a", Action: Added}}, actions)
	again, err := root.Begin("own", []Item{{Entry: archive.Entry{Path: "a", Size: 5}}}, Rules{})
	require.NoError(t, err)
	_, err = again.Results()
	assert.ErrorIs(t, err, fault.Refused, "it meets what the first would have put there")
	root.Close()
	assert.Empty(t, systemtest.Contents(t, dir))
}

func TestModesAndTimes(t *testing.T) {
	dir := t.TempDir()
	for _, folder := range []string{"new", "merged"} {
		plant(t, dir, map[string]string{"merged/x": "x"})
		root, err := Open(dir, "")
		require.NoError(t, err)
		u, err := root.Begin(folder, []Item{
			{Entry: archive.Entry{Path: "d", Kind: archive.Folder, Mode: 0o500, HasMode: true, Modified: when}},
			{Entry: archive.Entry{Path: "d/f", Mode: 0o400, HasMode: true, Modified: when}},
			{Entry: archive.Entry{Path: "d/g"}}}, Rules{})
		require.NoError(t, err)
		w := u.Writer()
		for _, i := range []int{1, 2} {
			require.NoError(t, w.Write(i, func(io.Writer) error { return nil }))
		}
		w.Close()
		_, err = u.Commit()
		require.NoError(t, err)
		require.NoError(t, root.Close())
		for path, mode := range map[string]fs.FileMode{"d": 0o500 | fs.ModeDir, "d/f": 0o400} {
			info, err := os.Stat(filepath.Join(dir, folder, path))
			require.NoError(t, err)
			if runtime.GOOS != "windows" { // which has no such permissions
				assert.Equal(t, mode, info.Mode(), path)
			}
			assert.True(t, when.Equal(info.ModTime()), path)
		}
		require.NoError(t, os.Chmod(filepath.Join(dir, folder, "d"), 0o700))
	}
}

// A merge that fails half-way takes back what it did.
func TestMergeTakesBack(t *testing.T) {
	for _, there := range []map[string]string{{"own/b": "old", "own/z": "z"}, {"own/z": "z"}} {
		dir := t.TempDir()
		plant(t, dir, there)
		root, err := Open(dir, "")
		require.NoError(t, err)
		u, err := begin(root, "own", Rules{Clash: Replace}, []thing{{"a", "1"}, {"b", "new"}, {"n/c", "3"}, {"y", "4"}})
		require.NoError(t, err)
		// The last staged file vanishes: its move fails after the others.
		require.NoError(t, staged(u).settle(2))
		_, name := staged(u).at(2)
		require.NoError(t, root.area.Remove(name))
		_, err = u.Commit()
		require.ErrorIs(t, err, fs.ErrNotExist)
		require.NoError(t, u.Discard())
		require.NoError(t, root.Close())
		assert.Equal(t, there, systemtest.Contents(t, dir))
	}
}

// What cannot be put back stays where it is kept, and the error says where.
func TestReplacedFileIsNeverLost(t *testing.T) {
	dir := t.TempDir()
	plant(t, dir, map[string]string{"own/b": "old"})
	root, err := Open(dir, "")
	require.NoError(t, err)
	unit, err := begin(root, "own", Rules{Clash: Replace}, []thing{{"b", "new"}, {"c", "2"}})
	require.NoError(t, err)
	u := staged(unit)
	where := u.destination()
	require.NoError(t, u.survey(where))
	j, err := u.plan(where)
	require.NoError(t, err)
	done, err := u.perform(where, j)
	require.NoError(t, err)
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "own")))
	plant(t, dir, map[string]string{"own": "a file now"})
	err = u.takeBack(where, j, done, true)
	require.ErrorIs(t, err, fault.Unwritable)
	e, _ := errors.AsType[*fault.Error](err)
	assert.Contains(t, e.Do, root.area.name)
	require.NoError(t, root.Close())
	assert.Contains(t, systemtest.Contents(t, dir), root.area.name+"/"+j.Moves[0].Kept)
	// The next run tries again.
	require.NoError(t, os.Remove(filepath.Join(dir, "own")))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "own"), 0o777))
	next, err := Open(dir, "")
	require.NoError(t, err)
	require.NoError(t, next.Close())
	assert.Equal(t, map[string]string{"own/b": "old"}, systemtest.Contents(t, dir))
}

func TestNothingOutsideTheRoot(t *testing.T) {
	systemtest.NeedsLinks(t)
	dir := t.TempDir()
	plant(t, dir, map[string]string{"root/own/x": "x", "outside/y": "y"})
	require.NoError(t, os.Symlink("../../outside", filepath.Join(dir, "root/own/out")))
	before := systemtest.Contents(t, dir)
	root, err := Open(filepath.Join(dir, "root"), "")
	require.NoError(t, err)
	u, err := begin(root, "own", Rules{Clash: Replace}, []thing{{"out/y", "changed"}})
	if err == nil {
		_, err = u.Commit()
	}
	assert.ErrorIs(t, err, fault.Unwritable)
	require.NoError(t, root.Close())
	assert.Equal(t, before, systemtest.Contents(t, dir))
}

// On a file system that takes a.csv and A.CSV for one file, they are.
func TestLetterCase(t *testing.T) {
	dir := t.TempDir()
	root, err := Open(dir, "")
	require.NoError(t, err)
	defer root.Close()
	root.folds = true
	_, err = begin(root, "own", Rules{}, []thing{{"d", "1"}, {"D/x", "2"}})
	assert.ErrorIs(t, err, fault.Refused)
	u, err := begin(root, "own", Rules{}, []thing{{"a.csv", "1"}, {"A.CSV", "2"}})
	require.NoError(t, err)
	_, err = u.Commit()
	assert.ErrorIs(t, err, fault.Refused)
}

// The archive's file takes the place of an older one.
func TestNewerReplaces(t *testing.T) {
	dir := t.TempDir()
	plant(t, dir, map[string]string{"own/b": "old"})
	require.NoError(t, os.Chtimes(filepath.Join(dir, "own/b"), when, when.Add(-time.Hour)))
	root, err := Open(dir, "")
	require.NoError(t, err)
	u, err := begin(root, "own", Rules{Clash: Newer}, []thing{{"b", "new"}})
	require.NoError(t, err)
	results, err := u.Commit()
	require.NoError(t, err)
	assert.Equal(t, []Result{{Path: "own/b", Action: Replaced}}, results)
	require.NoError(t, root.Close())
	assert.Equal(t, map[string]string{"own/b": "new"}, systemtest.Contents(t, dir))
}

// Under the skip rule, too, what is equal is the same and not skipped.
func TestSkipKnowsEqualFiles(t *testing.T) {
	dir := t.TempDir()
	plant(t, dir, map[string]string{"own/a": "1", "own/b": "old"})
	root, err := Open(dir, "")
	require.NoError(t, err)
	u, err := begin(root, "own", Rules{Clash: Skip}, []thing{{"a", "1"}, {"b", "longer"}, {"c", "3"}})
	require.NoError(t, err)
	assert.False(t, u.Wanted(1), "nothing has to be decoded to know that it differs")
	results, err := u.Commit()
	require.NoError(t, err)
	assert.Equal(t, []Result{{Path: "own/a", Action: Same}, {Path: "own/b", Action: Skipped}, {Path: "own/c", Action: Added}}, results)
	require.NoError(t, root.Close())
}

// Whether a preview's file system ignores letter case is shown by a name that is
// there.
func TestFoldsCase(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "Land ing")
	require.NoError(t, os.Mkdir(dir, 0o777))
	for _, folds := range []bool{true, false} {
		lstat := func(path string) (fs.FileInfo, error) {
			if filepath.Base(path) == "LAND ING" { // whatever this system does
				if !folds {
					return nil, fs.ErrNotExist
				}
				path = dir
			}
			return os.Lstat(path)
		}
		assert.Equal(t, folds, foldsCase(dir, lstat))
		assert.Equal(t, folds, foldsCase(filepath.Join(dir, "123"), lstat), "a name without letters, which is not there")
	}
}

// Roots that come and go, and remove what they have made, do not take the folder above from
// under each other.
func TestRootsAtOnce(t *testing.T) {
	above := filepath.Join(t.TempDir(), "above")
	var all sync.WaitGroup
	for i := range 2 {
		all.Go(func() {
			for range systemtest.Rounds(300, 300, 1500) {
				r, err := Open(filepath.Join(above, strconv.Itoa(i)), "")
				if assert.NoError(t, err) {
					assert.NoError(t, r.Close())
				}
			}
		})
	}
	all.Wait()
}

// A link is judged from where it is really made: links of archives before it may lie on the way there.
func TestLinksThroughLinks(t *testing.T) {
	systemtest.NeedsLinks(t)
	dir := t.TempDir()
	plant(t, dir, map[string]string{"own/d/e/x": "x", "beside/x": "x"})
	for at, to := range map[string]string{"own/here": ".", "own/deep": "d/e", "own/twice": "here/deep", "own/beside": "../beside"} {
		require.NoError(t, os.Symlink(to, filepath.Join(dir, at)))
	}
	root, err := Open(dir, "")
	require.NoError(t, err)
	defer root.Close()
	for _, c := range []struct {
		path, target, kept string // where the link is then; empty: it is refused
	}{
		{"here/l", "..", ""}, {"here/m", "d", "own/m"}, {"deep/l", "../..", "own/d/e/l"}, {"deep/m", "../../..", ""}, {"twice/n", "../../d", "own/d/e/n"},
		{"twice/o", "../../../own", ""}, {"beside/l", "x", ""}, {"d/p", "..", "own/d/p"},
	} {
		for _, more := range [][]thing{nil, {{"file-" + strings.ReplaceAll(c.path, "/", "-"), "1"}}} {
			u, err := begin(root, "own", Rules{Clash: Skip}, append(more, thing{c.path, "→ " + c.target}))
			if err == nil {
				_, err = u.Commit()
				if err != nil {
					require.NoError(t, u.Discard())
				}
			}
			if c.kept == "" {
				require.ErrorIs(t, err, fault.Unsafe, c)
				assert.NotContains(t, systemtest.Contents(t, dir), "own/file-"+strings.ReplaceAll(c.path, "/", "-"))
				continue
			}
			require.NoError(t, err, c)
			assert.Equal(t, "→ "+c.target, systemtest.Contents(t, dir)[c.kept])
		}
	}
}
