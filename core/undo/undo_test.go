package undo

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/newfile"
	"widecrate/core/receipt"
	"widecrate/core/report"
	"widecrate/core/source"
	"widecrate/core/stage"
	"widecrate/core/systemtest"
)

// Many archives of one root are taken back at the same time, with the folders that their run made;
// what is of an earlier version of receipts, and says less, is not touched.
func TestRun(t *testing.T) {
	for _, earlier := range []bool{false, true} {
		dir := t.TempDir()
		put := func(at, text string) string {
			path := filepath.Join(dir, filepath.FromSlash(at))
			require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o777))
			require.NoError(t, os.WriteFile(path, []byte(text), 0o666))
			return path
		}
		kept, root := filepath.Join(dir, "receipt"), filepath.Join(dir, "out")
		w, err := receipt.Append(newfile.Sites{}, kept, receipt.Run{Command: "extract", Started: time.Now(), Roots: []string{root}}, fault.Wording{})
		require.NoError(t, err)
		there := put("out/there.csv", "there before")
		for n := range 40 {
			f, err := blob.Find(put(fmt.Sprintf("in/%d.zip", n), "archive"))
			require.NoError(t, err)
			require.NoError(t, f.AddSum(t.Context()))
			own := filepath.Join(root, "d", fmt.Sprint(n))
			o := &report.Unpacked{Archive: f.Path, Source: source.Source{Path: f.Path}, Root: root, Target: own, Asked: own, From: []blob.File{f}, Folders: []string{own},
				Placed: []report.Placed{{Path: there, Action: stage.Same, Size: 12}, {Path: filepath.Join(own, "empty"), Kind: archive.Folder}}}
			if n == 0 {
				o.Folders = append(o.Folders, filepath.Join(root, "d"))
			}
			require.NoError(t, os.MkdirAll(filepath.Join(own, "empty"), 0o777))
			for k := range 30 {
				o.Placed = append(o.Placed, report.Placed{Path: put(fmt.Sprintf("out/d/%d/sub/%d.csv", n, k), "level"), Action: stage.Added, Size: 5})
			}
			w.Unpacked(o)
		}
		require.NoError(t, w.Close())
		text, err := os.ReadFile(kept)
		require.NoError(t, err)
		if earlier {
			require.NoError(t, os.WriteFile(kept, []byte(strings.ReplaceAll(string(text), `,"same":true`, "")), 0o666))
		}
		before := systemtest.Contents(t, root)

		past, err := receipt.Load(newfile.Sites{}, kept)
		require.NoError(t, err)
		defer past.Close()
		done, removed := 0, 0
		err = Run(t.Context(), Options{Receipts: past, Workers: 8, Done: func(*receipt.Past) { done++ }}, func(e report.Event) {
			if u, is := e.(*report.Undone); !is {
				return
			} else if earlier {
				assert.ErrorIs(t, u.Err, fault.Refused)
			} else if assert.NoError(t, u.Err) {
				removed += u.Removed
			}
		})
		require.NoError(t, err)
		if earlier {
			assert.Equal(t, before, systemtest.Contents(t, root))
			continue
		}
		assert.Equal(t, 40*30, removed)
		assert.Equal(t, 40, done)
		assert.Equal(t, map[string]string{"there.csv": "there before"}, systemtest.Contents(t, root))
		assert.NoDirExists(t, filepath.Join(root, "d"))
	}
}
