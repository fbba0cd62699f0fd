package place

import (
	"fmt"
	"path"
	"strings"
	"time"

	"widecrate/core/fault"
)

// A Template makes names from placeholders in braces:
//
//	{name} {stem} {ext}   last name, the same without and only its extension (with its dot)
//	{archive}             the archive's name without its extension
//	{parent}              the folder above
//	{n} {nnn}             a counter, of at least as many digits as there are n's
//	{modified} {today}    dates in UTC, 2026-05-01
type Template struct {
	text  string
	parts []part
}

// part is a text, or a placeholder.
type part struct {
	text, placeholder string
	digits            int
}

// Values are what placeholders stand for.
type Values struct {
	Name     string // last name
	Archive  string
	Parent   string
	Number   int
	Modified time.Time
	Today    time.Time
}

// NewTemplate compiles a template that may use the placeholders allowed. An
// unknown one is of kind fault.Usage.
func NewTemplate(text string, allowed ...string) (*Template, error) {
	t := &Template{text: text}
	for rest := text; rest != ""; {
		before, after, found := strings.Cut(rest, "{")
		if before != "" {
			t.parts = append(t.parts, part{text: before})
		}
		if !found {
			break
		}
		name, behind, closed := strings.Cut(after, "}")
		p := part{placeholder: name}
		if strings.Trim(name, "n") == "" && name != "" {
			p.placeholder, p.digits = "n", len(name)
		}
		known := false
		for _, a := range allowed {
			known = known || a == p.placeholder
		}
		if !closed || !known {
			return nil, fault.New(fault.Usage, "the template %q has an unknown placeholder {%s}", text, name).
				Advise("known are {" + strings.Join(allowed, "} {") + "}")
		}
		t.parts = append(t.parts, p)
		rest = behind
	}
	return t, nil
}

// Counts reports whether the template has a counter.
func (t *Template) Counts() bool {
	for _, p := range t.parts {
		if p.placeholder == "n" {
			return true
		}
	}
	return false
}

// Expand puts values in.
func (t *Template) Expand(v Values) string {
	var b strings.Builder
	ext := path.Ext(v.Name)
	if ext == v.Name { // a name such as .profile is no extension
		ext = ""
	}
	for _, p := range t.parts {
		switch p.placeholder {
		case "":
			b.WriteString(p.text)
		case "name":
			b.WriteString(v.Name)
		case "stem":
			b.WriteString(strings.TrimSuffix(v.Name, ext))
		case "ext":
			b.WriteString(ext)
		case "archive":
			b.WriteString(v.Archive)
		case "parent":
			b.WriteString(v.Parent)
		case "n":
			fmt.Fprintf(&b, "%0*d", p.digits, v.Number)
		case "modified":
			b.WriteString(v.Modified.UTC().Format(time.DateOnly))
		case "today":
			b.WriteString(v.Today.UTC().Format(time.DateOnly))
		}
	}
	return b.String()
}
