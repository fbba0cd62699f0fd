package place

import (
	"cmp"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"

	"widecrate/core/fault"
	"widecrate/core/storage"
)

// A Placeholder is one of a template, the same wherever it is allowed.
type Placeholder struct{ Name, Means, Example string }

// Placeholders are all of them.
var Placeholders = []Placeholder{
	{"archive", "the archive's name without its extension", "osk-bay"},
	{"from", "the folder that the archive, or the source, lies in", "bundles"},
	{"folder", "the entry's own folder; in none, the archive's name", "may"},
	{"name", "the last name of the entry, or of what is packed", "levels.csv"},
	{"stem", "the same without its extension; of a folder, all of it", "levels"},
	{"ext", "the extension alone, with its dot", ".csv"},
	{"n", "a counter of what is delivered; {nnn}: three digits", "7"},
	{"modified", "the date of the entry, in UTC; {modified:yymmdd}: in another form", "2026-05-01"},
	{"today", "the date of the run, in the local time zone; {today:yyyy/mm}: in another form", "2026-05-31"},
}

// A Template makes names from placeholders in braces; see Placeholders.
type Template struct {
	text  string
	parts []part
}

// part is a text, or a placeholder.
type part struct {
	text, placeholder string
	digits            int
	shape             string // of a date, as a layout of package time; empty: the usual one
}

// Values are what placeholders stand for.
type Values struct {
	Name     string // last name
	IsFolder bool   // the name is that of a folder, and has no extension
	Archive  string
	From     string
	Folder   string
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
		name, shape, shaped := strings.Cut(name, ":")
		p := part{placeholder: name}
		if shaped {
			layout, err := layoutOf(shape)
			if err != nil || name != "today" && name != "modified" {
				return nil, fault.New(fault.Usage, "the template %q has a placeholder {%s:%s} that makes no sense", text, name, shape).
					Advise("dates have shapes of yyyy, yy, mm and dd: {today:yyyy/mm}")
			}
			p.shape = layout
		}
		if strings.Trim(name, "n") == "" && name != "" {
			p.placeholder, p.digits = "n", len(name)
		}
		known := false
		for _, a := range allowed {
			known = known || a == p.placeholder
		}
		if !closed || !known {
			do := "known are {" + strings.Join(allowed, "} {") + "}"
			if nearest := fault.Nearest(name, allowed); nearest != "" {
				do += "; the nearest is {" + nearest + "}"
			}
			return nil, fault.New(fault.Usage, "the template %q has an unknown placeholder {%s}", text, name).Advise(do)
		}
		t.parts = append(t.parts, p)
		rest = behind
	}
	return t, nil
}

// inBraces matches what may be a placeholder.
var inBraces = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\{([a-z]+)(?::[^}]*)?\}`) })

// Dated is a path with the date of a run in place of {today}. What is a placeholder elsewhere is of kind fault.Usage;
// other braces are a part of the path.
func Dated(path string, today time.Time) (dated string, err error) {
	dated = inBraces().ReplaceAllStringFunc(path, func(text string) string {
		name := inBraces().FindStringSubmatch(text)[1]
		switch {
		case name == "today":
			t, wrong := NewTemplate(text, "today")
			if wrong == nil {
				return t.Expand(Values{Today: today})
			}
			err = wrong
		case strings.Trim(name, "n") == "" || slices.ContainsFunc(Placeholders, func(p Placeholder) bool { return p.Name == name }):
			err = fault.New(fault.Usage, "%s in %q stands for nothing there", text, path).Advise("a path that an option names may have {today}")
		}
		return text
	})
	return dated, err
}

// layoutOf is the layout for the shape of a date.
func layoutOf(shape string) (string, error) {
	layout := strings.NewReplacer("yyyy", "2006", "yy", "06", "mm", "01", "dd", "02").Replace(shape)
	if layout == shape || strings.ContainsFunc(layout, unicode.IsLetter) {
		return "", errors.New("it is no shape of a date")
	}
	return layout, nil
}

// date is that of a time in its own zone.
func (p *part) date(t time.Time) string { return t.Format(cmp.Or(p.shape, time.DateOnly)) }

// Counts reports whether the template has a counter.
func (t *Template) Counts() bool {
	for _, p := range t.parts {
		if p.placeholder == "n" {
			return true
		}
	}
	return false
}

// Fixed is the folder that its paths lie below, whatever the placeholders come to.
func (t *Template) Fixed() string {
	fixed := ""
	if len(t.parts) > 0 && t.parts[0].placeholder == "" {
		fixed = t.parts[0].text
	}
	if len(t.parts) > 1 || fixed == "" {
		return storage.Dir(fixed + "x")
	}
	return fixed
}

// Expand puts values in.
func (t *Template) Expand(v Values) string {
	var b strings.Builder
	stem := v.Name
	if !v.IsFolder {
		stem = Stem(v.Name) // a name such as .profile is no extension
	}
	for _, p := range t.parts {
		switch p.placeholder {
		case "":
			b.WriteString(p.text)
		case "name":
			b.WriteString(v.Name)
		case "stem":
			b.WriteString(stem)
		case "ext":
			b.WriteString(v.Name[len(stem):])
		case "archive":
			b.WriteString(v.Archive)
		case "from":
			b.WriteString(v.From)
		case "folder":
			b.WriteString(v.Folder)
		case "n":
			fmt.Fprintf(&b, "%0*d", p.digits, v.Number)
		case "modified":
			b.WriteString(p.date(v.Modified.UTC()))
		case "today":
			b.WriteString(p.date(v.Today))
		}
	}
	return b.String()
}

// Could reports whether an absolute path of a folder could be what the template makes of
// some values.
func (t *Template) Could(full string) bool {
	const any = "\x00"
	var b strings.Builder
	for _, p := range t.parts {
		switch p.placeholder {
		case "":
			b.WriteString(p.text)
		default:
			b.WriteString(any + strings.Repeat("/"+any, strings.Count(p.shape, "/")))
		}
	}
	made := strings.TrimSuffix(storage.Absolute(b.String()), "/")
	pattern := strings.ReplaceAll(regexp.QuoteMeta(Key(made)), any, `[^/\\]+`)
	is, err := regexp.MatchString("^"+pattern+"$", Key(full))
	return err == nil && is
}
