package crossed

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// drawTree draws a folder to be packed.
func drawTree(t *rapid.T) Tree {
	tree := Tree{"always.txt": {File, "1", when.Unix()}} // folders alone are nothing to compare
	for range rapid.IntRange(1, 6).Draw(t, "things") {
		at := folders.Draw(t, "folder") + names.Draw(t, "name")
		switch {
		case one(t, 8):
			tree.put(strings.TrimSuffix(folders.Draw(t, "empty")+"empty", "/"), Thing{Kind: Folder})
		case one(t, 8):
			tree.put("link", Thing{Kind: Symlink, Data: "a.csv"})
		default:
			tree.put(at, Thing{File, content(t), when.Add(later.Draw(t, "later")).Unix()})
		}
	}
	return tree
}

// What is packed comes out as it was: from every format, also when it was converted, cut into
// parts, locked or edited in between; and whatever compares it with the folder agrees.
func TestRoundTrips(t *testing.T) {
	t.Setenv("CROSSED", "tide and time")
	const key = "--password-env CROSSED"
	format := rapid.SampledFrom([]string{"zip", "tar", "tar.gz", "tar.zst", "tar.xz", "tar.bz2", "tar.lz4"})
	rapid.Check(t, func(t *rapid.T) {
		tree := drawTree(t)
		dir, err := os.MkdirTemp(root, "trip-")
		require.NoError(t, err)
		t.Cleanup(func() { os.RemoveAll(dir) })
		require.NoError(t, tree.Plant(filepath.Join(dir, "tree")))
		for at, thing := range tree { // folders get a time of their own
			if thing.Kind == Folder {
				require.NoError(t, os.Chtimes(filepath.Join(dir, "tree", filepath.FromSlash(at)), when, when))
			}
		}
		do := func(line string) {
			t.Logf("%s", line)
			_, errs, code := cli(t, dir, strings.Fields(line)...)
			require.Zero(t, code, "%s: %s", line, errs)
		}
		name, locked := "x."+format.Draw(t, "format"), "" // and how it is opened
		line := "create DIR/" + name + " DIR/tree --top drop"
		if name == "x.zip" {
			line += " --method " + rapid.SampledFrom([]string{"deflate", "store", "bzip2", "zstd", "xz"}).Draw(t, "method")
			if one(t, 3) {
				line, locked = line+" --encrypt "+key, " "+key
			}
		}
		first := name
		if one(t, 3) {
			line, first = line+" --part-size "+rapid.SampledFrom([]string{"100", "1k"}).Draw(t, "part"), name+".001"
		}
		if one(t, 3) {
			line += " --read-back"
		}
		do(line)
		for step := range rapid.IntRange(0, 3).Draw(t, "steps") {
			switch rapid.IntRange(1, 4).Draw(t, "step") {
			case 1: // into another format, always a single file
				to := format.Draw(t, "to")
				into := fmt.Sprintf("c%d", step)
				do("convert DIR/" + first + " --to " + to + " --into DIR/" + into + locked)
				name, first, locked = into+"/x."+to, into+"/x."+to, ""
			case 2: // through parts
				if first == name {
					do("parts split DIR/" + name + " --part-size 150 --into DIR/p --clash replace")
					do("parts join DIR/p/" + filepath.Base(name) + ".001 --into DIR/" + name + " --clash replace")
				}
			case 3: // something comes, and goes
				if first == name {
					do("edit DIR/" + name + " --text new.txt=1")
					do("edit DIR/" + name + " --remove new.txt")
				}
			case 4: // to a new folder and back
				do("extract DIR/" + first + " --layout shared --into DIR/back --clash replace" + locked)
			}
		}
		do("verify DIR/" + first + locked)
		do("compare DIR/" + first + " DIR/tree" + locked)
		do("extract DIR/" + first + " --layout shared --into DIR/out" + locked)
		got, err := Look(filepath.Join(dir, "out"))
		require.NoError(t, err)
		assert.Empty(t, tree.Differences(got))
	})
}
