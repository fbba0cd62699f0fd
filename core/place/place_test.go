package place

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/fault"
)

func TestClean(t *testing.T) {
	for stored, want := range map[string]string{
		"a": "a", "a/b": "a/b", "./a//b/.": "a/b", "a b/[c]": "a b/[c]", ".": ".", "./": ".",
		"...": "...", "..a/b..": "..a/b..", "c:x": "c:x", "ab:/c": "ab:/c", `a\b`: `a\b`,
	} {
		got, err := Clean(stored)
		require.NoError(t, err, stored)
		assert.Equal(t, want, got)
	}
	for _, stored := range []string{"", "..", "../a", "a/../../b", "a/..", "/a", "//a", `\a`, `\\host\share`, "C:/a", `c:\a`, "z:",
		`a\..\..\b`, `..\a`, "a\x00b", strings.Repeat("x/", 3000)} {
		_, err := Clean(stored)
		assert.ErrorIs(t, err, fault.Unsafe, "%.20q", stored)
	}
}

func TestCheckLink(t *testing.T) {
	for _, c := range []struct {
		at, target string
		safe       bool
	}{
		{"a", "b", true}, {"a", "./b/c", true}, {"d/a", "../b", true}, {"d/e/a", "../../b", true}, {"d/a", "..", true}, {"a", ".", true},
		{"a", "..", false}, {"a", "../b", false}, {"d/a", "../../b", false}, {"a", "/etc", false}, {"a", `\x`, false}, {"a", "c:/x", false},
		{"a", "", false}, {"a", "b\x00", false}, {"d/a", `..\..\b`, false},
		// If b is a link to the top, this leads out of it.
		{"d/a", "b/../c", false},
	} {
		err := CheckLink(c.at, c.target)
		if c.safe {
			assert.NoError(t, err, "%s → %s", c.at, c.target)
		} else {
			assert.ErrorIs(t, err, fault.Unsafe, "%s → %s", c.at, c.target)
		}
	}
}

func TestTarget(t *testing.T) {
	for _, c := range []struct {
		p       Placement
		archive string
		want    Target
	}{
		{Placement{}, "in/osk bay [v1].zip", Target{"in", "osk bay [v1]"}},
		{Placement{}, "levels.v2.ZIP", Target{".", "levels.v2"}},
		{Placement{Into: "out"}, "in/levels", Target{"out", "levels"}},
		{Placement{Into: "out"}, "in/.zip", Target{"out", ".zip"}},
		{Placement{Into: "out", Layout: Shared}, "in/a.zip", Target{"out", ""}},
	} {
		assert.Equal(t, c.want, c.p.Target(c.archive))
	}
}
