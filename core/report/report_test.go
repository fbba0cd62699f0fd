package report

import (
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/choose"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/stage"
)

// jsonOf is the JSON of an event.
func jsonOf(t *testing.T, e Event) string {
	t.Helper()
	var b strings.Builder
	require.NoError(t, Encoder{To: &b}.Encode(e))
	return b.String()
}

// An event has the lines that docs/json.md promises.
func TestLines(t *testing.T) {
	leftOut := choose.Tally{choose.Kept: 2, choose.OtherSuffix: 3}
	broken := fault.At("a.zip", fault.New(fault.Damaged, "it is broken").Advise("fetch it again"))
	level, four := 9, int64(4)
	for want, e := range map[string]Event{
		"": Notice("said"),
		`{"kind":"archive","archive":"a.zip","skipped":"halted"}` + "\n": &NotTaken{"a.zip"},
		`{"kind":"written","archive":"a.zip","entry":"x","path":"/o/x","type":"file","size":3,"action":"added","summed":true}
{"kind":"lost","archive":"a.zip","entry":"y","failure":{"kind":"damaged","where":"a.zip","why":"it is broken","do":"fetch it again"}}
{"kind":"archive","archive":"a.zip","into":"/o","entries":5,"left_out":{"other_extension":3},"bytes":3,"seconds":1}
`: &Unpacked{Archive: "a.zip", Target: "/o", Entries: 5, Bytes: 3, Took: Took{time.Second}, LeftOut: leftOut, Lost: []Lost{{"y", broken}},
			Placed: []Placed{{Entry: "d", Kind: archive.Folder}, {Entry: "x", Path: "/o/x", Size: 3, Summed: true}}},
		`{"kind":"source","archive":"a.zip","to":"/done/a.zip","after":"moved"}` + "\n": &Disposal{Source: "a.zip", Taken: disposal.Taken{Files: []disposal.Went{{From: "a.zip", To: "/done/a.zip"}}}},
		`{"kind":"damaged","archive":"a.zip","path":"x","offset":7,"failure":{"kind":"damaged","where":"a.zip","why":"it is broken","do":"fetch it again"}}
{"kind":"archive","archive":"a.zip","entries":2,"summed":1,"bytes":9,"damaged":1,"seconds":0}
`: &Verified{Archive: "a.zip", Entries: 2, Sums: 1, Bytes: 9, Damaged: 1, Bad: []Bad{{"a.zip", "x", 7, broken}}},
		`{"kind":"difference","path":"x","status":"only in B","size_b":4}
{"kind":"comparison","a":"A","b":"B","same":1,"different":0,"only_a":0,"only_b":1}
`: &Compared{A: "A", B: "B", Same: 1, OnlyB: 1, Differences: []Difference{{Path: "x", Status: OnlyB, SizeB: &four}}},
		`{"kind":"archive","archive":"a.tar.gz","bytes":9,"files":1,"size":5,"packed":null}` + "\n": &Listed{Archive: "a.tar.gz", Bytes: 9, Files: 1, Size: 5, Together: true},
		`{"kind":"way","way":"zip@best","format":"zip","level":9,"size":5,"estimate":6,"seconds":0,"best":["smallest"]}
{"kind":"sample","files":1,"size":0,"sampled":0,"packed":0,"off":0}
`: &Weighed{Files: 1, Ways: []Way{{Name: "zip@best", Format: "zip", Level: &level, Size: 5, Estimate: 6, Best: []string{"smallest"}}}},
	} {
		assert.Equal(t, want, jsonOf(t, e))
	}
}

// A line that is written out by hand is the JSON that an encoder would make.
func TestAppendEntry(t *testing.T) {
	e := archive.Entry{Path: "a\"\n潮", Size: 3, Packed: archive.Unknown, Method: "store", Modified: time.Unix(0, 0).UTC(), Mode: 0o644, HasMode: true, CRC32: 10, HasCRC32: true}
	var got map[string]any
	require.NoError(t, json.Unmarshal(AppendEntry(nil, "x.zip", "m.zip", &e, "to", true), &got))
	assert.Equal(t, map[string]any{"kind": "entry", "archive": "x.zip", "path": "a\"\n潮", "type": "file", "size": 3.0, "packed": nil, "method": "store",
		"modified": "1970-01-01T00:00:00Z", "mode": "0644", "crc32": "0000000a", "encrypted": false, "unsafe": true, "link": "to", "member": "m.zip"}, got)
}

// Names that are no UTF-8 come back, from lines by hand as well.
func TestTexts(t *testing.T) {
	type names struct {
		Path  string   `json:"path"`
		Link  string   `json:"link,omitempty"`
		Other string   `json:"other"`
		Parts []string `json:"parts"`
	}
	for path, want := range map[string]string{"a": `{"path":"a","other":"<潮�","parts":null}`, "k\xfcste": `{"path":"k\ufffdste","other":"<潮�","parts":null,"path_bytes":"a/xzdGU="}`} {
		there := names{Path: path, Other: "<潮�"}
		line, err := Marshal(there)
		require.NoError(t, err)
		assert.Equal(t, want, string(line))
		var back names
		require.NoError(t, Unmarshal(line, &back))
		assert.Equal(t, there, back)
	}
	var back names
	require.NoError(t, Unmarshal(AppendEntry(nil, "x.zip", "", &archive.Entry{Path: "k\xfcste"}, "\xff", false), &back))
	assert.Equal(t, names{Path: "k\xfcste", Link: "\xff"}, back)
	assert.Error(t, Unmarshal([]byte(`{"path_bytes":"?"}`), &back))
}

func TestTotals(t *testing.T) {
	var n Totals
	n.Add(&Unpacked{Entries: 6, Bytes: 5, LeftOut: choose.Tally{choose.Dropped: 1}, Lost: []Lost{{"l", fault.New(fault.Damaged, "x")}}, Placed: []Placed{
		{Kind: archive.Folder}, {Action: stage.Added, Summed: true}, {Action: stage.Replaced}, {Action: stage.Same}, {Action: stage.Skipped}}})
	assert.ErrorIs(t, n.Err(), fault.Damaged)
	n.Add(&Unpacked{Err: errors.New("x")})
	assert.Equal(t, []int{2, 1, 6, 4, 2, 1, 1, 1, 1, 1}, []int{n.Archives, n.Failed, n.Entries, n.Kept, n.Placed, n.Same, n.Skipped, n.Lost, n.Unsummed, n.LeftOut.LeftOut()})
	assert.Equal(t, fault.Other, fault.Of(n.Err()), "failures of two kinds")
	assert.Equal(t, 2, n.Count())
}

func TestMatches(t *testing.T) {
	s, err := choose.New(choose.Rules{Entry: []string{"levels.cvs"}, Drop: []string{"*.tmp"}})
	require.NoError(t, err)
	s.NoteNearest([]archive.Entry{{Path: "levels.csv"}})
	unmatched, err := Matches(s, 1, choose.Tally{}, false)
	require.ErrorIs(t, err, fault.NoMatch)
	assert.Equal(t, []choose.Unmatched{{Text: "*.tmp"}}, unmatched)
	e, _ := errors.AsType[*fault.Error](err)
	assert.Contains(t, e.Do, `"levels.csv"`)
	_, err = Matches(nil, 0, choose.Tally{choose.Clutter: 1}, false)
	assert.ErrorContains(t, err, "1 left out (clutter)")
	_, err = Matches(nil, 0, choose.Tally{}, false)
	assert.NoError(t, err)
}
