package choose

import (
	"testing"
	"time"

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
		"letter case":              {Rules{Entry: []string{"LEVELS.csv"}, Pick: []string{"A.P*"}, IgnoreCase: true}, []string{"levels.csv", "charts/a.png"}},
		"smallest size":            {Rules{MinSize: 12}, []string{"notes [draft].txt", "charts/a.png", "charts/old/b.PNG", "old/levels.csv"}},
		"largest size":             {Rules{MaxSize: 12}, []string{"levels.csv", "charts/a.png", ".csv"}},
		"since":                    {Rules{Since: may(5)}, []string{"charts/old/b.PNG", "old/levels.csv", ".csv"}},
		"until, with tolerance":    {Rules{Until: may(2).Add(-2 * time.Second)}, []string{"levels.csv", "notes [draft].txt"}},
	} {
		t.Run(name, func(t *testing.T) {
			s, err := New(c.rules)
			require.NoError(t, err)
			var kept []string
			for i, p := range paths {
				e := archive.Entry{Path: p, Size: int64(len(p)), Modified: may(i + 1)}
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

func may(day int) time.Time { return time.Date(2026, 5, day, 0, 0, 0, 0, time.UTC) }

func TestRulesThatMatchNothing(t *testing.T) {
	s, err := New(Rules{Entry: []string{"a", "charts/b.png", "zzzzzzzz"}, Pick: []string{"*.csv", "*.tsv"}, Drop: []string{"x"}})
	require.NoError(t, err)
	entries := []archive.Entry{{Path: "a"}, {Path: "c.csv"}, {Path: "charts/a.png"}, {Path: "2026/charts/old.png"}}
	for i := range entries {
		s.Judge(&entries[i])
	}
	s.NoteNearest(entries)
	assert.Equal(t, []Unmatched{{"charts/b.png", true, "charts/a.png"}, {"zzzzzzzz", true, ""}, {"*.tsv", false, ""}, {"x", false, ""}}, s.Unmatched())
}

func TestClutter(t *testing.T) {
	s, err := New(Rules{NoClutter: true})
	require.NoError(t, err)
	for path, want := range map[string]Rule{"a.csv": Kept, "charts/._a.png": Clutter, "__MACOSX/a": Clutter, ".DS_Store": Clutter, "x/Thumbs.db": Clutter,
		"DESKTOP.INI": Clutter, ".profile": Kept, "_": Kept} {
		assert.Equal(t, want, s.Judge(&archive.Entry{Path: path}), path)
	}
}

// Extensions are plain; a star or a dot in front does no harm.
func TestExtensions(t *testing.T) {
	s, err := New(Rules{Ext: []string{"*.csv", ".tsv", "JSON", "tar.gz"}})
	require.NoError(t, err)
	for path, want := range map[string]Rule{"a.csv": Kept, "a.TSV": Kept, "a.json": Kept, "a.tar.gz": Kept, "a.gz": OtherSuffix, "csv": OtherSuffix} {
		assert.Equal(t, want, s.Judge(&archive.Entry{Path: path}), path)
	}
	for _, ext := range []string{"", "*", "c*v", "*.{csv,tsv}", "a/b", "c?v"} {
		_, err := New(Rules{Ext: []string{ext}})
		assert.ErrorIs(t, err, fault.Usage, ext)
	}
}

func TestMalformedPattern(t *testing.T) {
	_, err := New(Rules{Drop: []string{"[a"}})
	assert.ErrorIs(t, err, fault.Usage)
}
