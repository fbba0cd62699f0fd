package stage

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/fault"
	"widecrate/core/systemtest"
)

// FuzzMerge puts random archives into random folders by every rule, and holds what comes
// of it against a model: with an error nothing has changed; otherwise each item is what
// its result says, and nothing else changed.
func FuzzMerge(f *testing.F) {
	for _, seed := range []string{"0ab", "1aaab", "2abcdefgh", "3hgfedcba", "4aabbcc", "5aAbBcC", "2iiijjj", "1jihgfedcba"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if len(text) < 2 || len(text) > 40 {
			return
		}
		rules := []Rules{{Clash: Refuse}, {Clash: Skip}, {Clash: Replace}, {Clash: Newer}, {Clash: Number}, {Fresh: true, Clash: Replace}}[int(text[0])%6]
		paths := []string{"a", "b", "a/b", "c/d", "c/e", "c/d/f", "c/", "b-2", "x.csv", "x-2.csv"}
		there, things := map[string]string{}, []thing{}
		for _, c := range []byte(text[1:]) {
			at, data := paths[int(c)%len(paths)], string('0'+c/16%3)
			if c >= 'a' && c%2 == 0 && !strings.HasSuffix(at, "/") && fits(there, "own/"+at) {
				there["own/"+at] = data
				continue
			}
			if strings.HasSuffix(at, "/") {
				data = ""
			}
			things = append(things, thing{at, data})
		}
		if len(things) == 0 {
			return
		}
		dir := t.TempDir()
		plant(t, dir, there)
		root, err := Open(dir, "")
		require.NoError(t, err)
		u, err := begin(root, "own", rules, things)
		var results []Result
		if err == nil {
			results, err = u.Commit()
		}
		require.NoError(t, root.Close())
		now := systemtest.Contents(t, dir)
		if err != nil {
			require.ErrorIs(t, err, fault.Refused)
			require.Equal(t, there, now, "%v", err)
			return
		}
		written := map[string]bool{}
		for i, it := range slices.Backward(things) {
			r := results[i]
			if strings.HasSuffix(it.path, "/") {
				continue
			}
			switch r.Action {
			case Added, Replaced:
				assert.Equal(t, it.data, now[r.Path], it.path)
				assert.False(t, written[r.Path], "%s was written twice", r.Path)
				_, was := there[r.Path]
				assert.Equal(t, r.Action == Replaced && !rules.Fresh, was && !rules.Fresh, it.path)
				written[r.Path] = true
			case Same: // where no later item of that path took its place
				assert.True(t, written[r.Path] || it.data == now[r.Path], it.path)
			case Skipped:
				_, taken := now["own/"+it.path]
				assert.True(t, taken || !fits(now, "own/"+it.path), "nothing is in the way of %s", it.path)
			}
			assert.Equal(t, rules.Clash == Number && r.Path != "own/"+it.path, r.Path != "own/"+it.path, "only numbers change names")
		}
		for at, data := range now {
			old, was := there[at]
			assert.True(t, written[at] || was && old == data, "%s came from nowhere", at)
		}
		for at := range there {
			_, still := now[at]
			assert.True(t, still || rules.Fresh, "%s is gone", at)
		}
	})
}

// fits reports whether a file can be added to a tree.
func fits(there map[string]string, at string) bool {
	for other := range there {
		if strings.HasPrefix(other, at+"/") || strings.HasPrefix(at, other+"/") {
			return false
		}
	}
	return true
}
