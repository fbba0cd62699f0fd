package disposal

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/blob"
	"widecrate/core/claim"
	"widecrate/core/place"
	"widecrate/core/remote"
	"widecrate/core/storage"
	"widecrate/core/systemtest"
	"widecrate/demo/standin"
)

// A set of which a killed run has moved a part follows it, when that run is surely dead, and only
// to where this run moves sources, too.
func TestFinishElsewhere(t *testing.T) {
	server, err := standin.StartSSH(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(server.Stop)
	client := remote.New(remote.Options{Identity: server.Identity, KnownHosts: server.KnownHosts})
	dead := fmt.Sprintf("%s%d%s", strings.TrimSuffix(claim.NewRun(), strconv.Itoa(os.Getpid())), 1<<30, claim.TakingSuffix)
	foreign := place.StagingPrefix + "aaaa" + dead[len(place.StagingPrefix)+4:]
	begun := time.Date(2026, 5, 1, 22, 0, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		journal string
		old     bool // it was not touched for long
		to      string
		changed bool // the second part, since
		want    []string
	}{
		"a dead run":           {dead, false, "done", false, []string{"done/a.001", "done/a.002"}},
		"of another host":      {foreign, false, "done", false, nil},
		"and silent for long":  {foreign, true, "done", false, []string{"done/a.001", "done/a.002"}},
		"this run":             {claim.NewRun() + claim.TakingSuffix, false, "done", false, nil},
		"to another place now": {dead, false, "elsewhere", false, []string{"a.002", "done/a.001"}},
		"a part is another":    {dead, false, "done", true, []string{"a.002", "done/a.001"}},
	} {
		dir := t.TempDir()
		folder, err := client.Address(server.Address + filepath.ToSlash("/"+strings.TrimPrefix(filepath.ToSlash(dir), "/")) + "/")
		require.NoError(t, err)
		put := func(at, text string) {
			path := filepath.Join(dir, at)
			require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o777))
			require.NoError(t, os.WriteFile(path, []byte(text), 0o666))
			require.NoError(t, os.Chtimes(path, begun, begun))
		}
		above := dir + "-mine"
		require.NoError(t, os.WriteFile(above+".zip", []byte("one"), 0o666))
		require.NoError(t, os.Chtimes(above+".zip", begun, begun))
		put("done/a.001", "one")
		put("a.002", "two")
		journal := taking{Begun: begun}
		for _, part := range []string{"a.001", "a.002"} {
			journal.Files = append(journal.Files, taken{Path: folder.Sibling(part).String(), To: folder.Sibling("done/" + part).String(), Size: 3, Modified: begun})
			// One that climbs: as it is written, it is in the folder.
			journal.Files = append(journal.Files, taken{Path: folder.String() + "%2e%2e%2f" + filepath.Base(above) + ".zip", To: folder.Sibling("done/mine").String(), Size: 3, Modified: begun})
		}
		text, err := json.Marshal(&journal)
		require.NoError(t, err)
		put(c.journal, string(text))
		if !c.old {
			require.NoError(t, os.Chtimes(filepath.Join(dir, c.journal), time.Now(), time.Now()))
		}
		if c.changed {
			put("a.002", "other")
		}
		finish := Finish(&After{Disposition: Move, Folder: folder.Sibling(c.to).String()}, &After{}, time.Now(), nil)
		finished, err := finish(storage.Sites{Context: t.Context(), Client: client}, strings.TrimSuffix(folder.String(), "/"), []string{c.journal, "a.002"})
		require.NoError(t, err, name)
		var left []string
		for path := range systemtest.Contents(t, dir) {
			left = append(left, path)
		}
		if c.want == nil {
			assert.False(t, finished, name)
			assert.ElementsMatch(t, []string{"a.002", "done/a.001", c.journal}, left, name)
			continue
		}
		assert.True(t, finished, name)
		assert.ElementsMatch(t, c.want, left, name)
		assert.FileExists(t, above+".zip", name)
	}
}

// All parts go, or none does.
func TestTakeElsewhere(t *testing.T) {
	server, err := standin.StartSSH(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(server.Stop)
	client := remote.New(remote.Options{Identity: server.Identity, KnownHosts: server.KnownHosts})
	dir := t.TempDir()
	folder, err := client.Address(server.Address + "/" + strings.TrimPrefix(filepath.ToSlash(dir), "/") + "/")
	require.NoError(t, err)
	var files []blob.File
	for _, part := range []string{"a.001", "a.002", "a.003"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, part), []byte(part), 0o666))
		f, err := blob.FindAt(t.Context(), folder.Sibling(part))
		require.NoError(t, err)
		files = append(files, f)
	}
	before := systemtest.Contents(t, dir)
	route := func(to string) *Route {
		return (&After{Disposition: Move, Folder: folder.Sibling(to).String()}).Route(time.Now(), false)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "file"), nil, 0o666))
	taken := route("file/below").Take(t.Context(), files, nil, false)
	require.Error(t, taken.Err)
	require.NoError(t, os.Remove(filepath.Join(dir, "file")))
	assert.Equal(t, before, systemtest.Contents(t, dir))
	assert.Equal(t, LiesThere, route("").Take(t.Context(), files, nil, false).Kept)
	others := []string{"./"}
	if systemtest.HasLinks(t) {
		require.NoError(t, os.Symlink("a.001", filepath.Join(dir, "link.zip")))
		linked, err := blob.FindAt(t.Context(), folder.Sibling("link.zip"))
		require.NoError(t, err)
		for _, to := range []*Route{route("done"), (&After{Disposition: Remove}).Route(time.Now(), false)} {
			assert.Equal(t, "it is a link to an archive elsewhere", to.Take(t.Context(), []blob.File{linked}, nil, false).Kept)
		}
		require.NoError(t, os.Remove(filepath.Join(dir, "link.zip")))
		// Another name of the folder, which only the server knows.
		above, link := filepath.Split(dir)
		link += "-link"
		require.NoError(t, os.Symlink(dir, filepath.Join(above, link)))
		others = append(others, "../"+link+"/", "../"+filepath.Base(dir)+"/")
	}
	for _, other := range others {
		kept := (&After{Disposition: Move, Folder: folder.String() + other}).Route(time.Now(), false).Take(t.Context(), files[:1], nil, false)
		require.NoError(t, kept.Err)
		assert.Equal(t, LiesThere, kept.Kept, other)
		assert.Equal(t, before, systemtest.Contents(t, dir), "its own copy, by another address")
	}

	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.002"), []byte("something other"), 0o666))
	assert.Equal(t, "it changed since it was read", route("done").Take(t.Context(), files, nil, false).Kept)
	require.NoError(t, os.Remove(filepath.Join(dir, "a.002")))
	assert.Equal(t, "it is not there any more", route("done").Take(t.Context(), files, nil, false).Kept)
	assert.NoFileExists(t, filepath.Join(dir, "done", "a.001"))

	remove := (&After{Disposition: Remove}).Route(time.Now(), false)
	taken = remove.Take(t.Context(), []blob.File{files[0], files[2]}, nil, false)
	require.NoError(t, taken.Err)
	assert.Equal(t, []Went{{From: files[0].Path}, {From: files[2].Path}}, taken.Files)
	assert.Empty(t, systemtest.Contents(t, dir))
}

// What the run needs is not replaced by another address of the same folder either.
func TestNeedsElsewhere(t *testing.T) {
	if !systemtest.HasLinks(t) {
		t.Skip("a folder has one name here")
	}
	server, err := standin.StartSSH(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(server.Stop)
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "in"), 0o777))
	require.NoError(t, os.Symlink("in", filepath.Join(dir, "other")))
	for _, name := range []string{"a.zip", "b.zip"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "in", name), []byte(name), 0o666))
	}
	at := server.Address + "/" + strings.TrimPrefix(filepath.ToSlash(dir), "/")
	n := &Needs{
		Sites:   storage.Sites{Context: t.Context(), Client: remote.New(remote.Options{Identity: server.Identity, KnownHosts: server.KnownHosts})},
		Sources: func(yield func(Needed)) { yield(Needed{at + "/in/a.zip", "a source"}) },
	}
	for path, refused := range map[string]bool{"/in/a.zip": true, "/other/a.zip": true, "//in/./a.zip": true, "/other/b.zip": false, "/in/none": false} {
		assert.Equal(t, refused, n.Replace(at+path) != nil, path)
	}
}
