//go:build linux && amd64

package crossed

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"widecrate/e2e/traced"
)

// A run that is killed before any of its calls leaves all that was there, as it was or as it
// should be; the next one completes it.
func TestKilled(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := drawWorld(t)
		args := drawOptions(t)
		at := rapid.IntRange(1, 150).Draw(t, "call")
		if free(args) {
			t.Skip("what is behind the first failure may be there, or not")
		}
		t.Logf("killed before call %d: extract in %s%s", at, strings.Join(args, " "), w)
		whole := extract(t, w, w.make(t), args)
		dir := w.make(t)
		cmd := exec.Command(os.Args[0], named(t, dir, slices.Concat([]string{"extract"}, w.words(t, dir), args))...)
		input := w.input(t, dir)
		defer input.Close()
		cmd.Stdin = input
		cmd.Env = append(os.Environ(), asProgram+"=1")
		status, _, err := traced.Run(cmd, func(c traced.Call) traced.Verdict { return traced.Verdict{Kill: c.N == at} })
		require.NoError(t, err)
		if !status.Signaled() {
			assert.Equal(t, whole.code, status.ExitStatus())
		}
		between, err := Look(filepath.Join(dir, "out"))
		require.NoError(t, err)
		for path, old := range w.laid(t) {
			if stays, is := whole.out[path]; is {
				now, there := between[path]
				assert.True(t, there && (now == old || now == stays), "%s%s was%s, and should be%s", path, now, old, stays)
			}
		}
		again := extract(t, w, dir, args)
		assert.Equal(t, whole.code, again.code, again.errs)
		for i := range 2 { // a destination of which nothing came was made, and may stay
			if at := pairRoot(i); !has(whole.out, at) && again.out[at] == (Thing{Kind: Folder}) {
				delete(again.out, at)
			}
		}
		assert.Empty(t, whole.out.Differences(again.out), again.errs)
	})
}
