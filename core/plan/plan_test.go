package plan

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/bound"
	"widecrate/core/choose"
	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/walk"
)

// listed is an archive of which only a list is known: "a/" is a folder, "a@b" a
// link, "a=b" a hard link, "a!" a device.
type listed struct {
	entries []archive.Entry
	ordered bool
}

func list(text string, ordered bool) *listed {
	l := &listed{ordered: ordered}
	for _, path := range strings.Fields(text) {
		e := archive.Entry{Path: path, Size: int64(len(path))}
		if dir, is := strings.CutSuffix(path, "/"); is {
			e.Path, e.Kind = dir, archive.Folder
		}
		if name, is := strings.CutSuffix(path, "!"); is {
			e.Path, e.Kind = name, archive.Device
		}
		for mark, kind := range map[string]archive.Kind{"@": archive.Symlink, "=": archive.Hardlink} {
			if at, target, is := strings.Cut(path, mark); is {
				e.Path, e.Link, e.Kind = at, target, kind
			}
		}
		l.entries = append(l.entries, e)
	}
	return l
}

func (l *listed) Called(i int) string        { return l.entries[i].Path }
func (l *listed) Link(i int) (string, error) { return l.entries[i].Link, nil }
func (l *listed) AnyOrder() bool             { return !l.ordered }

// said is a plan in few words: the items, with what they are second names of or
// copies of; archives to open; and what is left out.
func said(p *Plan) string {
	var words []string
	for k, it := range p.Items {
		word := it.Path
		if it.Kind == archive.Symlink {
			word += "@" + it.Link
		}
		if first, link := p.LinkOf(k); link {
			word += "=" + p.Items[first].Path
		} else if data := p.DataOf(k); data != p.Kept[k] {
			word += fmt.Sprintf("=#%d", data)
		}
		words = append(words, word)
	}
	for _, in := range p.Inner {
		words = append(words, "["+in.Target.Folder+"]")
	}
	for rule := choose.Kept + 1; int(rule) < len(p.LeftOut); rule++ {
		if n := p.LeftOut[rule]; n > 0 {
			words = append(words, fmt.Sprintf("-%d %s", n, rule))
		}
	}
	return strings.Join(words, " ")
}

func TestPlan(t *testing.T) {
	number, err := place.NewTemplate("{n}{ext}", "n", "ext")
	require.NoError(t, err)
	csv, err := choose.New(choose.Rules{Ext: []string{"csv"}})
	require.NoError(t, err)
	for name, c := range map[string]struct {
		list    string
		rules   Rules
		ordered bool
		want    string
		kind    fault.Kind
	}{
		"all":                             {list: "d/ d/a.csv b", want: "d d/a.csv b"},
		"chosen":                          {list: "d/ d/a.csv b", rules: Rules{Request: walk.Request{Selection: csv}}, want: "d/a.csv -1 other extension"},
		"devices":                         {list: "a! b", want: "b -1 special file"},
		"peeled":                          {list: "d/a b", rules: Rules{Placement: &place.Placement{Peel: 1}}, want: "a -1 no path left"},
		"numbered":                        {list: "b.csv a.csv", rules: Rules{Placement: &place.Placement{Rename: number}}, want: "2.csv 1.csv"},
		"single top folder":               {list: "day/ day/a day/d/b", rules: Rules{Placement: &place.Placement{Layout: place.Auto}}, want: "a d/b"},
		"links":                           {list: "a l@a d/m@../a", want: "a l@a d/m@../a"},
		"links left out":                  {list: "a l@a h=a", rules: Rules{Links: SkipLinks}, want: "a -2 link"},
		"links refused":                   {list: "a l@a", rules: Rules{Links: RefuseLinks}, kind: fault.Refused},
		"link out":                        {list: "l@../x", kind: fault.Unsafe},
		"link out when peeled":            {list: "d/l@../x", rules: Rules{Placement: &place.Placement{Peel: 1}}, kind: fault.Unsafe},
		"hard links":                      {list: "a h=a i=h", want: "a h=a i=a"},
		"hard link to the last of a name": {list: "a a h=a", want: "a a h=a"},
		"hard link before":                {list: "h=a a", kind: fault.Damaged},
		"to what is not kept":             {list: "a h.csv=a i.csv=h.csv", rules: Rules{Request: walk.Request{Selection: csv}}, want: "h.csv=#0 i.csv=h.csv -1 other extension"},
		"the same, in order":              {list: "a h.csv=a", rules: Rules{Request: walk.Request{Selection: csv}}, ordered: true, want: "-1 other extension -1 link"},
		"nested":                          {list: "a in/b.zip c.tar.gz", rules: Rules{Request: walk.Request{Nested: 1}}, want: "a [own/in/b] [own/c]"},
		"nested, shared":                  {list: "a b.zip", rules: Rules{Request: walk.Request{Nested: 1}, Placement: &place.Placement{Layout: place.Shared}}, want: "a [own]"},
		"nested, up":                      {list: "a ...zip", rules: Rules{Request: walk.Request{Nested: 1}}, kind: fault.Unsafe},
		"not that deep":                   {list: "a b.zip", want: "a b.zip"},
		"out of the root":                 {list: "../a", kind: fault.Unsafe},
		"too many folders":                {list: strings.Repeat("d/", 200) + "a", kind: fault.Unsafe},
	} {
		t.Run(name, func(t *testing.T) {
			if c.rules.Placement == nil {
				c.rules.Placement = &place.Placement{}
			}
			in := list(c.list, c.ordered)
			c.rules.Counter = new(place.Counter)
			p := New(&c.rules, 0, in)
			for i := range in.entries {
				p.Consider(i, &in.entries[i])
			}
			err := p.Place(in.entries, place.Target{Root: "/out", Folder: "own"}, place.Naming{Archive: "own", Folder: "/out/own"}, bound.Limits{Entries: 100}.Budget(func() int64 { return 0 }))
			if c.kind != fault.Other {
				require.ErrorIs(t, err, c.kind)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.want, said(p))
		})
	}
}
