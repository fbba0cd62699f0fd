package choose

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

func TestJudge(t *testing.T) {
	paths := []string{"levels.csv", "notes [draft].txt", "charts/", "charts/a.png", "charts/old/b.PNG", "old/levels.csv", ".csv"}
	for name, c := range map[string]struct {
		rules Rules
		keeps []string
	}{
		"nothing asked":            {Rules{}, paths},
		"to the letter":            {Rules{Entry: []string{"notes [draft].txt"}}, []string{"notes [draft].txt"}},
		"the whole path":           {Rules{Entry: []string{"a.png"}}, nil},
		"a folder by name":         {Rules{Entry: []string{"charts/"}}, []string{"charts/", "charts/a.png", "charts/old/b.PNG"}},
		"last name, any depth":     {Rules{Pick: []string{"levels*"}}, []string{"levels.csv", "old/levels.csv"}},
		"folder at any depth":      {Rules{Pick: []string{"old"}}, []string{"charts/old/b.PNG", "old/levels.csv"}},
		"whole path by pattern":    {Rules{Pick: []string{"charts/*.png"}}, []string{"charts/a.png"}},
		"two stars":                {Rules{Pick: []string{"**/old/**"}}, []string{"charts/old/b.PNG", "old/levels.csv"}},
		"brackets in a pattern":    {Rules{Pick: []string{"notes [draft].txt"}}, nil},
		"any of several":           {Rules{Entry: []string{".csv"}, Pick: []string{"a.*"}}, []string{"charts/a.png", ".csv"}},
		"extensions in any case":   {Rules{Ext: []string{"png", ".TXT"}}, []string{"notes [draft].txt", "charts/a.png", "charts/old/b.PNG"}},
		"extension of a dot file":  {Rules{Ext: []string{"csv"}}, []string{"levels.csv", "old/levels.csv"}},
		"drop is stronger":         {Rules{Pick: []string{"charts"}, Drop: []string{"old"}}, []string{"charts/", "charts/a.png"}},
		"extensions narrow a pick": {Rules{Pick: []string{"old"}, Ext: []string{"csv"}}, []string{"old/levels.csv"}},
	} {
		t.Run(name, func(t *testing.T) {
			s, err := New(c.rules)
			require.NoError(t, err)
			var kept []string
			for _, p := range paths {
				e := archive.Entry{Path: p}
				if p[len(p)-1] == '/' {
					e.Path, e.Kind = p[:len(p)-1], archive.Folder
				}
				if s.Judge(&e) == Kept {
					kept = append(kept, p)
				}
			}
			assert.Equal(t, c.keeps, kept)
		})
	}
}

func TestRulesThatMatchNothing(t *testing.T) {
	s, err := New(Rules{Entry: []string{"a", "b"}, Pick: []string{"*.csv", "*.tsv"}, Drop: []string{"x"}})
	require.NoError(t, err)
	for _, path := range []string{"a", "c.csv"} {
		assert.Equal(t, Kept, s.Judge(&archive.Entry{Path: path}))
	}
	assert.Equal(t, []string{"b", "*.tsv"}, s.Unmatched())
}

func TestMalformedPattern(t *testing.T) {
	_, err := New(Rules{Drop: []string{"[a"}})
	assert.ErrorIs(t, err, fault.Usage)
}
