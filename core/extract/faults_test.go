package extract

import (
	"bytes"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/report"
	"widecrate/core/source"
	"widecrate/core/stage"
	"widecrate/core/systemtest"
)

// A fault of the program fails the archive that it is met in, and no other: on whatever
// goroutine, and however far a decoder got.
func TestFaultsAreKept(t *testing.T) {
	in := t.TempDir()
	pack(t, filepath.Join(in, "a.zip"), "x", "1")
	pack(t, filepath.Join(in, "z.zip"), "y", "2")
	for _, format := range []string{"zip", "tar", "tar.gz", "tar.bz2", "tar.xz", "tar.zst", "tar.lz4", "tar.zz", "gz", "bz2"} {
		made := filepath.Join(t.TempDir(), "m."+format)
		noise := make([]byte, 1<<20) // more than a decoder takes at once
		_, _ = rand.NewChaCha8([32]byte{}).Read(noise)
		pack(t, made, "n", string(noise))
		data, err := os.ReadFile(made)
		require.NoError(t, err)
		for _, at := range []int{0, 100, len(data) / 2, len(data) - 1} {
			out := t.TempDir()
			o := options(in)
			o.Placement.Into, o.Workers = out, 1+at%2*3
			o.Sources = slices.Insert(o.Sources, 1, source.OfInput(io.MultiReader(bytes.NewReader(data[:at]), faulty{})))
			outcomes, _, _ := unpack(t, o)
			require.Len(t, outcomes, 3)
			var ours *fault.Panic
			require.ErrorAs(t, outcomes[1].Err, &ours, "%s at %d", format, at)
			assert.Equal(t, fault.Other, fault.Of(outcomes[1].Err))
			assert.Contains(t, string(ours.Stack), "faulty")
			assert.Equal(t, map[string]string{"a/x": "1", "z/y": "2"}, systemtest.Contents(t, out), "%s at %d", format, at)
		}
	}
}

type faulty struct{}

func (faulty) Read([]byte) (int, error) { panic("index out of range") }

// An archive that is written to while it is read is not delivered, whether it goes or not.
func TestSourcesThatChange(t *testing.T) {
	in, out := t.TempDir(), t.TempDir()
	path := filepath.Join(in, "a.zip")
	pack(t, path, "x", strings.Repeat("1", 10))
	o := options(in)
	o.Placement.Into = out
	o.Done = func([]blob.File, string, bool) *report.Earlier { return nil }
	r := newRun(t.Context(), o, nil)
	r.output = func(one *unit) output { return &changing{staged{unit: one}, path} }
	u := r.unit(0)
	r.schedule(1, func(int) *unit { return u })
	assert.Empty(t, systemtest.Contents(t, out))
	assert.True(t, u.failed)
}

// changing writes to the archive before the commit.
type changing struct {
	staged
	path string
}

func (c *changing) commit() ([]stage.Result, error) {
	if err := os.WriteFile(c.path, []byte("another delivery"), 0o666); err != nil {
		return nil, err
	}
	return c.staged.commit()
}
