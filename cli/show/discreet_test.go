package show

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// Queries of addresses, and what is called like a secret, are not shown.
func TestDiscreet(t *testing.T) {
	for text, want := range map[string]string{
		"✗ http://g.example/a.zip?sig=x&y=z: it is gone":  "✗ http://g.example/a.zip?…: it is gone",
		`<a href="https://g.example/a?sig=x">a?b</a>`:     `<a href="https://g.example/a?…">a?b</a>`,
		"sftp://g.example/a.zip what? http://g.example/b": "sftp://g.example/a.zip what? http://g.example/b",
		"why? none": "why? none",
	} {
		assert.Equal(t, want, string(Discreet([]byte(text))))
	}
	for line, want := range map[string]string{
		"  password: low water":             "  password: …",
		`{token: "abc", into: o}`:           `{token: …`,
		"  password-env: TIDE":              "  password-env: TIDE",
		"  sources: [a.zip, passwords.zip]": "  sources: [a.zip, passwords.zip]",
	} {
		assert.Equal(t, want, DiscreetLine(line))
	}
}
