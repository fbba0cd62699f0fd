package crossed

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// notModelled are options of which the model knows nothing.
var notModelled = []string{"names", "max-total", "max-ratio", "max-entries", "max-memory", "salvage"}

// What comes out is what the model says.
func TestModel(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := drawWorld(t)
		for _, a := range w.archives {
			if a.Damage == Flipped || a.Damage == Cut { // what is lost of it depends on the format
				a.Damage = Sound
			}
			if a.Damage == Junk {
				a.Parts = 0
			}
		}
		args := drawOptions(t, notModelled...)
		if free(args) || valueOf(args, "--layout") == "auto" && given(args, "--fresh") || strings.Contains(valueOf(args, "--rename"), "{nn}") {
			t.Skip("not modelled")
		}
		t.Logf("extract in %s%s", strings.Join(args, " "), w)
		got := extract(t, w.make(t), args)
		if got.code == 2 {
			assert.Empty(t, w.laid(t).Differences(got.out), got.errs)
			return
		}
		want := Extract(w.archives, w.there, args)
		for at, thing := range got.out {
			if wanted, there := want.Out[at]; there && (wanted.Time == anyTime || thing.Kind != File) {
				wanted.Time = thing.Time
				want.Out[at] = wanted
			}
		}
		assert.Equal(t, want.Code, got.code, got.errs)
		different := want.Out.Differences(got.out)
		slices.Sort(different)
		assert.Empty(t, different, got.errs)
	})
}
