package crossed

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// unmodelled are options of which the model knows nothing.
var unmodelled = []string{"names", "max-total", "max-ratio", "max-entries", "max-memory"}

// What comes out is what the model says.
func TestModel(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := drawWorld(t)
		for _, a := range w.archives {
			if a.Damage == Flipped && a.broken() < 0 { // what is lost of it depends on the format
				a.Damage = Sound
			}
			if a.Damage == Junk || a.Damage == Cut { // a set would be incomplete, perhaps
				a.Parts = 0
			}
		}
		args := drawOptions(t, unmodelled...)
		c := choose(args)
		cut := slices.ContainsFunc(w.archives, func(a *Archive) bool { return a.Damage == Cut })
		if cut && (c.has("nested") || c.has("salvage") || c.has("entry") || c.has("entry-list")) {
			t.Skip("how much of it is read depends on the format")
		}
		if free(args) || c.of("layout", "") == "auto" && c.has("fresh") || strings.Contains(c.of("rename", ""), "{nn}") {
			t.Skip("not modelled")
		}
		if c.of("clash", "") == "newer" && slices.ContainsFunc(w.archives, (*Archive).hardLinked) {
			t.Skip("which time a second name has depends on what it is made from")
		}
		t.Logf("extract in %s%s", strings.Join(args, " "), w)
		comesOut(t, w, args)
	})
}

// comesOut makes sure that a run does what the model says.
func comesOut(t tester, w *world, args []string) {
	got := extract(t, w, w.make(t), args)
	if got.code == 2 {
		assert.Empty(t, w.laid(t).Differences(got.out), got.errs)
		return
	}
	want := Extract(w.sources(args), w.there, args)
	for at, thing := range got.out {
		if want.Perhaps[at] && thing.Kind == Folder {
			want.Out.put(at, thing)
		}
		if wanted, there := want.Out[at]; there && (wanted.Time == anyTime || thing.Kind != File) {
			wanted.Time = thing.Time
			want.Out[at] = wanted
		}
	}
	assert.Equal(t, want.Code, got.code, got.errs)
	different := want.Out.Differences(got.out)
	slices.Sort(different)
	assert.Empty(t, different, got.errs)
	if !t.Failed() {
		assert.Equal(t, want.Archives, outcomes(got.lines), got.errs)
	}
}

// outcomes are what the lines of a run say of each archive.
func outcomes(lines []map[string]any) map[string]*Outcome {
	all := map[string]*Outcome{}
	var done []string
	for _, line := range lines {
		name, _ := line["archive"].(string)
		switch line["kind"] {
		case "written":
			at := strings.TrimPrefix(line["path"].(string), "DIR/out/")
			done = append(done, fmt.Sprintf("%s %s %s", line["entry"], line["action"], at))
		case "archive":
			o := &Outcome{}
			if failure, failed := line["failure"].(map[string]any); failed {
				o.Code = int(failure["code"].(float64))
			} else if line["skipped"] != nil {
				continue
			} else {
				o.LeftOut = map[string]int{}
				left, _ := line["left_out"].(map[string]any)
				for why, n := range left {
					o.LeftOut[why] = int(n.(float64))
				}
				o.Done = done
			}
			all[name], done = o, nil
		}
	}
	return all
}
