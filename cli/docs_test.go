package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/cli/option"
)

var headings = regexp.MustCompile(`(?m)^##+ (.*)$`)

// anchor is that of a heading: as it is made where such pages are usually read.
func anchor(heading string) string {
	kept := func(r rune) rune {
		switch {
		case r == ' ':
			return '-'
		case unicode.IsLetter(r), unicode.IsDigit(r), r == '-', r == '_':
			return unicode.ToLower(r)
		}
		return -1
	}
	return strings.Map(kept, heading)
}

// unfenced is a text without its examples.
func unfenced(text string) string {
	return regexp.MustCompile("(?ms)^```.*?^```\n").ReplaceAllString(text, "")
}

const (
	contentsMark = "## Contents\n\n"
	indexMark    = "## Options, and where they are explained\n\n"
)

// guide is the guide with its list of contents, and with each option in its index.
func guide(t *testing.T) string {
	text, err := os.ReadFile("../docs/guide.md")
	require.NoError(t, err)
	before, rest, found := strings.Cut(string(text), contentsMark)
	require.True(t, found)
	at := strings.Index(rest, "## ")
	body, _, found := strings.Cut(rest[at:], indexMark)
	require.True(t, found)
	var contents, index strings.Builder
	for _, h := range headings.FindAllStringSubmatch(body+indexMark, -1) {
		fmt.Fprintf(&contents, "- [%s](#%s)\n", h[1], anchor(h[1]))
	}
	letter := byte(0)
	rows := slices.SortedFunc(slices.Values(option.Table), func(a, b option.Row) int { return strings.Compare(a.Name, b.Name) })
	for _, r := range rows {
		if r.Name[0] != letter {
			letter = r.Name[0]
			index.WriteString("\n")
		}
		fmt.Fprintf(&index, "- `--%s`: %s\n", r.Name, explained(t, r.Name, body))
	}
	return before + contentsMark + contents.String() + "\n" + body + indexMark + strings.TrimPrefix(index.String(), "\n")
}

// explained are links to where an option is explained: the sections of the guide that say most of
// it, or else another page.
func explained(t *testing.T, name, guide string) string {
	written := regexp.MustCompile("`[^`\n]*--" + name + "[ `=]")
	shown := regexp.MustCompile(`(?m)^widecrate .* --` + name + `( |$)`)
	row := regexp.MustCompile("(?m)^\\| (`--[a-z]+[^`]*`, )?`--" + name + "[ `]")
	said := map[string]int{}
	most := 0
	var sections []string
	for section := range strings.SplitSeq(guide, "\n## ") {
		heading, text, _ := strings.Cut(strings.TrimPrefix(section, "## "), "\n")
		n := len(written.FindAllString(unfenced(text), -1))
		if n > 0 { // examples, and rows of tables, show what a section is about
			n += 2*len(shown.FindAllString(text, -1)) + 4*len(row.FindAllString(text, -1))
			sections = append(sections, heading)
		}
		said[heading], most = n, max(most, n)
	}
	var links []string
	for _, heading := range sections {
		if 2*said[heading] >= most {
			links = append(links, fmt.Sprintf("[%s](#%s)", heading, anchor(heading)))
		}
	}
	if links != nil {
		return strings.Join(links, ", ")
	}
	for _, page := range []string{"jobs", "schedule", "scale", "windows", "formats", "security"} {
		text, err := os.ReadFile("../docs/" + page + ".md")
		require.NoError(t, err)
		if written.Match([]byte(unfenced(string(text)))) {
			title, _, _ := strings.Cut(strings.TrimPrefix(string(text), "# "), "\n")
			return fmt.Sprintf("[%s](%s.md)", title, page)
		}
	}
	assert.Fail(t, "--"+name+" is explained nowhere outside the reference")
	return ""
}

// Every link between the pages leads somewhere.
func TestLinks(t *testing.T) {
	pages, err := filepath.Glob("../docs/*.md")
	require.NoError(t, err)
	reference, err := filepath.Glob("../docs/reference/*.md")
	require.NoError(t, err)
	link := regexp.MustCompile(`\]\(([^)\s]+)\)`)
	for _, page := range slices.Concat(pages, reference, []string{"../README.md", "../CONTRIBUTING.md"}) {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, found := range link.FindAllStringSubmatch(unfenced(string(text)), -1) {
			file, place, _ := strings.Cut(found[1], "#")
			if strings.Contains(file, "://") {
				continue
			}
			target := page
			if file != "" {
				target = filepath.Join(filepath.Dir(page), file)
			}
			there, err := os.ReadFile(target)
			if info, wrong := os.Stat(target); wrong == nil && info.IsDir() {
				err = nil
			}
			require.NoError(t, err, "%s: %s", page, found[1])
			var anchors []string
			for _, h := range headings.FindAllStringSubmatch(string(there), -1) {
				anchors = append(anchors, anchor(h[1]))
			}
			assert.True(t, place == "" || slices.Contains(anchors, place), "%s: %s", page, found[1])
		}
	}
}
