package e2e

import (
	"fmt"
	"maps"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/demo/standin"
)

// All shares together are what one run makes, and archives that come in between change
// nobody's share.
func TestShards(t *testing.T) {
	dir := tidewatch(t)
	sources := []string{"readings", "bundles", "survey/harbour.z02", "instruments", "--series", "suite-{n}.tar", "--ext", "csv,json,conf", "--nested"}
	run(t, dir, append([]string{"extract", "--into", "whole"}, sources...)...)
	share := func(name string) map[string]bool {
		stdout, _, _ := run(t, dir, append([]string{"extract", "--into", "o", "--dry-run", "--as", "names", "--shard", name}, sources...)...)
		paths := map[string]bool{}
		for line := range strings.Lines(stdout) {
			paths[line] = true
		}
		return paths
	}
	var before []map[string]bool
	for i := range 5 {
		run(t, dir, append([]string{"extract", "--into", "shares", "--shard", fmt.Sprintf("%d/5", i)}, sources...)...)
		before = append(before, share(fmt.Sprintf("%d/5", i)))
		assert.NotEmpty(t, before[i])
	}
	assert.True(t, maps.Equal(tree(t, filepath.Join(dir, "whole")), tree(t, filepath.Join(dir, "shares"))))
	pack(t, filepath.Join(dir, "readings", "another.zip"), "levels.csv", "new")
	more := 0
	for i := range 5 {
		now := share(fmt.Sprintf("%d/5", i))
		for path := range before[i] {
			assert.True(t, now[path], path)
		}
		more += len(now) - len(before[i])
	}
	assert.Equal(t, 1, more)

	address := serve(t, &standin.Server{Folder: dir})
	stdout := ""
	for i := range 3 {
		part, _, code := run(t, dir, "inspect", address+"bundles/osk-bay.zip", address+"bundles/gull-ness.zip", "--as", "names", "--shard", fmt.Sprintf("%d/3", i))
		require.Zero(t, code)
		stdout += part
	}
	assert.Equal(t, 26, strings.Count(stdout, "\n"))
}

// A share is named, or taken from the variables of a batch engine, and a wrong one is
// refused with its reason.
func TestShardNames(t *testing.T) {
	dir := tidewatch(t)
	for name, c := range map[string]struct {
		shard string
		env   string
		code  int
		want  string // in what is said; of a share that holds nothing, its name
	}{
		"itself":            {"2/3", "", 0, ""},
		"too large":         {"3/3", "", 2, "from 0 to 2"},
		"no number":         {"x/3", "", 2, "from 0 to 2"},
		"of none":           {"0/0", "", 2, "no number of shares"},
		"no share":          {"7", "", 2, "0/8, auto/8 or auto"},
		"no engine":         {"auto", "", 2, "no variable of a batch engine"},
		"a full array":      {"auto", "SLURM_ARRAY_TASK_ID=9999 SLURM_ARRAY_TASK_MIN=1000 SLURM_ARRAY_TASK_MAX=9999 SLURM_ARRAY_TASK_STEP=1 SLURM_ARRAY_TASK_COUNT=9000", 0, "share 8999/9000"},
		"one with gaps":     {"auto", "SLURM_ARRAY_TASK_ID=5 SLURM_ARRAY_TASK_MIN=2 SLURM_ARRAY_TASK_MAX=5 SLURM_ARRAY_TASK_STEP=1 SLURM_ARRAY_TASK_COUNT=2", 2, "some are missing"},
		"one with steps":    {"auto", "SGE_TASK_ID=5 SGE_TASK_FIRST=1 SGE_TASK_LAST=9 SGE_TASK_STEPSIZE=4", 2, "steps of 4"},
		"from 1":            {"auto", "SGE_TASK_ID=9000 SGE_TASK_FIRST=1 SGE_TASK_LAST=9000 SGE_TASK_STEPSIZE=1", 0, "share 8999/9000"},
		"a job without":     {"auto", "SGE_TASK_ID=undefined", 2, "no variable of a batch engine"},
		"an index alone":    {"auto", "JOB_COMPLETION_INDEX=3", 2, "nothing says how many there are"},
		"an index, and N":   {"auto/9000", "JOB_COMPLETION_INDEX=8999", 0, "share 8999/9000"},
		"another's counter": {"auto", "LSB_JOBINDEX=9000 LSB_JOBINDEX_END=9000 LSB_JOBINDEX_STEP=1", 0, "share 8999/9000"},
		"shared layout":     {"0/2 --layout shared", "", 2, "depend on the others"},
	} {
		t.Run(name, func(t *testing.T) {
			for _, pair := range strings.Fields(c.env) {
				name, value, _ := strings.Cut(pair, "=")
				t.Setenv(name, value)
			}
			stdout, stderr, code := run(t, dir, append([]string{"extract", "corrections", "--into", t.TempDir(), "--shard"}, strings.Fields(c.shard)...)...)
			assert.Equal(t, c.code, code, stderr)
			assert.Contains(t, stdout+stderr, c.want)
		})
	}
}
