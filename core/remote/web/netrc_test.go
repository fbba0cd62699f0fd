package web

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNetrc(t *testing.T) {
	const guarded = "machine gauges.example login tide password "
	for text, want := range map[string]logins{
		"":                   {},
		guarded + "high":     {"gauges.example": {"tide", "high"}},
		guarded + "#1#x":     {"gauges.example": {"tide", "#1#x"}},
		guarded + `"a b\"c"`: {"gauges.example": {"tide", `a b"c`}},
		"# machine other login x\n" + guarded + "high # of the gauges\ndefault login any password low\n": {"gauges.example": {"tide", "high"}, "": {"any", "low"}},
		"machine a\n\tlogin x\n\taccount y\n\tpassword z\nmachine a login other":                         {"a": {"x", "z"}},
		"macdef init\nmachine b login c\n\n" + guarded + "high":                                          {"gauges.example": {"tide", "high"}},
		"machine":                    nil,
		"machine a login":            nil,
		"login x":                    nil,
		"machine a secret x":         nil,
		`machine a password "no end`: nil,
	} {
		got, err := parseNetrc(text)
		assert.Equal(t, want == nil, err != nil, text)
		assert.Equal(t, want, got, text)
	}
	l, err := parseNetrc("default login any password low machine a login x password z")
	assert.NoError(t, err)
	as, _ := l.of("a")
	assert.Equal(t, login{"x", "z"}, as)
	as, known := l.of("elsewhere")
	assert.True(t, known)
	assert.Equal(t, login{"any", "low"}, as)
}
