package option

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // not every system has the zones

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/ianaindex"
	"golang.org/x/text/encoding/unicode"

	"widecrate/core/charset"
	"widecrate/core/codec"
	"widecrate/core/disposal"
	"widecrate/core/place"
)

// truth is the value of a switch.
type truth bool

func (b *truth) Type() string   { return "" }
func (b *truth) String() string { return strconv.FormatBool(bool(*b)) }

func (b *truth) Set(text string) error {
	value, err := strconv.ParseBool(text)
	if err != nil {
		return fmt.Errorf("it is on or off: name it alone, or leave it out")
	}
	*b = truth(value)
	return nil
}

// IsBoolFlag lets a switch stand alone.
func (b *truth) IsBoolFlag() bool { return true }

type text string

func (t *text) Type() string   { return "TEXT" }
func (t *text) String() string { return string(*t) }

func (t *text) Set(value string) error {
	*t = text(value)
	return nil
}

// offered is a text that is mostly one of some words.
type offered struct {
	*text
	words []string
}

func (o *offered) Words() []string { return o.words }

// texts are those of an option that may be repeated.
type texts []string

func (t *texts) Type() string   { return "TEXT" }
func (t *texts) String() string { return strings.Join(*t, ", ") }

func (t *texts) Set(value string) error {
	*t = append(*t, value)
	return nil
}

// list is texts with commas between them; each time it is given adds to it.
type list struct{ to *[]string }

func (l *list) Type() string { return "LIST" }

func (l *list) String() string {
	if l.to == nil {
		return ""
	}
	return strings.Join(*l.to, ",")
}

func (l *list) Set(value string) error {
	for part := range strings.SplitSeq(value, ",") {
		if part = strings.TrimSpace(part); part == "" {
			return fmt.Errorf("there is nothing between two commas")
		}
		*l.to = append(*l.to, part)
	}
	return nil
}

// Choice is one of a few words; the first is what it is when left out.
type Choice[T any] struct {
	words  []string
	values []T
	at     int
}

// Either makes a choice of words and what they stand for.
func Either[T any](words []string, values ...T) Choice[T] {
	return Choice[T]{words: words, values: values}
}

// EitherOrNone is Either where none is chosen at first.
func EitherOrNone[T any](words []string, values ...T) Choice[T] {
	return Choice[T]{words: words, values: values, at: -1}
}

func (c *Choice[T]) String() string {
	if c.words == nil || c.at < 0 {
		return ""
	}
	return c.words[c.at]
}

// among are the words, and there are no others.
func (c *Choice[T]) among() []string { return c.words }

func (c *Choice[T]) Type() string    { return strings.Join(c.words, "|") }
func (c *Choice[T]) Words() []string { return c.words }

// Value is what the word stands for; the zero value where there is none.
func (c *Choice[T]) Value() (value T) {
	if c.at >= 0 {
		value = c.values[c.at]
	}
	return value
}

// valueWords are general words for values, and what those are called here.
var valueWords = map[string]string{"rename": "number", "overwrite": "replace", "force": "replace", "ignore": "skip", "delete": "remove"}

// Set takes a word.
func (c *Choice[T]) Set(word string) error {
	at := slices.Index(c.words, word)
	if at < 0 {
		if ours := valueWords[word]; slices.Contains(c.words, ours) {
			return fmt.Errorf("it must be one of %s; here it is %s", strings.Join(c.words, ", "), ours)
		}
		return fmt.Errorf("it must be one of %s%s", strings.Join(c.words, ", "), nearest(word, c.words))
	}
	c.at = at
	return nil
}

// Level is how hard an encoder tries.
type Level struct {
	Options codec.EncodeOptions
	text    string
}

func (l *Level) Type() string    { return "0-9|fast|normal|best" }
func (l *Level) String() string  { return l.text }
func (l *Level) among() []string { return l.Words() }
func (l *Level) Words() []string {
	return []string{"fast", "normal", "best", "0", "1", "2", "3", "4", "5", "6", "7", "8", "9"}
}

// Set takes a number or a word.
func (l *Level) Set(text string) error {
	value, known := codec.LevelNames[text]
	if !known {
		n, err := strconv.ParseUint(text, 10, 4)
		if err != nil || n > uint64(codec.Best) {
			return fmt.Errorf("it must be 0 to 9, or fast, normal or best")
		}
		value = codec.Level(n)
	}
	l.Options, l.text = codec.At(value), text
	return nil
}

// Moment is a date, a date and time, today, yesterday, or an age such as 36h, 7d or
// 3w. A date alone
// means its first second, or its last where the end counts.
type Moment struct {
	time.Time
	End  bool
	text string // as it was given
}

func (m *Moment) Type() string    { return "WHEN" }
func (m *Moment) Words() []string { return nil }

func (m *Moment) String() string {
	return m.text
}

// Set takes a date or an age.
func (m *Moment) Set(text string) error {
	m.text = text
	for _, layout := range []string{time.RFC3339, "2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02T15:04:05", "2006-01-02T15:04"} {
		if t, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			m.Time = t
			return nil
		}
	}
	if t, err := time.ParseInLocation(time.DateOnly, text, time.Local); err == nil {
		m.Time = m.day(t)
		return nil
	}
	if days, named := map[string]int{"today": 0, "yesterday": -1}[text]; named {
		now := time.Now()
		m.Time = m.day(time.Date(now.Year(), now.Month(), now.Day()+days, 0, 0, 0, 0, time.Local))
		return nil
	}
	age, err := span(text)
	if err != nil || age < 0 {
		return fmt.Errorf(`it must be a date such as 2026-05-01 or "2026-05-01 12:30", today, yesterday, or an age such as 36h, 7d or 3w`)
	}
	m.Time = time.Now().Add(-age)
	return nil
}

// span is a length of time, such as 30s, 10m, 36h, 7d or 3w.
func span(text string) (long time.Duration, err error) {
	for unit, hours := range map[string]float64{"d": 24, "w": 7 * 24} {
		if number, found := strings.CutSuffix(text, unit); found {
			n, err := strconv.ParseFloat(number, 64)
			return time.Duration(n * hours * float64(time.Hour)), err
		}
	}
	return time.ParseDuration(text)
}

// day is the moment that a day means, by its start.
func (m *Moment) day(start time.Time) time.Time {
	if m.End {
		return start.AddDate(0, 0, 1).Add(-time.Second)
	}
	return start
}

// After is keep, remove or move=DIR.
type After struct{ To *disposal.After }

func (d After) Type() string    { return "keep|remove|move=DIR" }
func (d After) Words() []string { return []string{"keep", "remove", "move="} }

func (d After) String() string {
	if d.To == nil {
		return "keep"
	}
	switch d.To.Disposition {
	case disposal.Remove:
		return "remove"
	case disposal.Move:
		return "move=" + d.To.Folder
	}
	return "keep"
}

// Set takes one of the words.
func (d After) Set(text string) error {
	folder, move := strings.CutPrefix(text, "move=")
	switch {
	case text == "keep":
		d.To.Disposition = disposal.Keep
	case text == "remove":
		d.To.Disposition = disposal.Remove
	case move && folder != "":
		into, err := place.NewTemplate(folder, d.placeholders()...)
		if err != nil {
			return err
		}
		d.To.Disposition, d.To.Folder, d.To.Into = disposal.Move, folder, into
	default:
		return fmt.Errorf("it must be keep, remove or move=DIR")
	}
	return nil
}

func (After) placeholders() []string { return []string{"today", "from"} }

// Failed is keep or move=DIR.
type Failed struct{ After }

func (d Failed) Type() string    { return "keep|move=DIR" }
func (d Failed) Words() []string { return []string{"keep", "move="} }

// Set takes one of the words.
func (d Failed) Set(text string) error {
	if text == "remove" {
		return fmt.Errorf("it must be keep or move=DIR")
	}
	if err := d.After.Set(text); err != nil {
		return fmt.Errorf("%s", strings.Replace(err.Error(), "keep, remove or", "keep or", 1))
	}
	return nil
}

// Template makes names of placeholders, those that are allowed.
type Template struct {
	To      **place.Template
	Allowed []string
	text    string
}

func (t *Template) Type() string    { return "TEMPLATE" }
func (t *Template) String() string  { return t.text }
func (t *Template) Words() []string { return nil }

func (t *Template) placeholders() []string { return t.Allowed }

// Set compiles a template.
func (t *Template) Set(text string) (err error) {
	t.text = text
	*t.To, err = place.NewTemplate(text, t.Allowed...)
	return err
}

// Zone is the name of a time zone.
type Zone struct{ To **time.Location }

func (z *Zone) Type() string    { return "NAME" }
func (z *Zone) Words() []string { return nil }

func (z *Zone) String() string {
	if z.To == nil || *z.To == nil {
		return ""
	}
	return (*z.To).String()
}

// Set takes a name.
func (z *Zone) Set(name string) error {
	location, err := time.LoadLocation(name)
	if err != nil {
		return fmt.Errorf("there is no time zone of that name; it must be one such as UTC or Asia/Tokyo")
	}
	*z.To = location
	return nil
}

// Encoding is the name of a character encoding.
type Encoding struct {
	To  *encoding.Encoding
	All *bool // "all" is a value, too: names stay as their bytes are; nil: it is none
}

const allEncodings = "all"

func (n *Encoding) Type() string    { return "NAME" }
func (n *Encoding) Words() []string { return nil }

func (n *Encoding) String() string {
	if n.To == nil || *n.To == nil {
		return ""
	}
	known := *n.To
	if n.All != nil && *n.All {
		return allEncodings
	}
	if kept, is := known.(keptUTF8); is {
		known = kept.Encoding
	}
	name, err := ianaindex.IANA.Name(known)
	if err != nil {
		return ""
	}
	return name
}

// Set takes a name.
func (n *Encoding) Set(name string) error {
	if all := name == allEncodings; n.All != nil {
		if *n.All = all; all {
			*n.To = charset.Raw
			return nil
		}
	}
	if digits, is := strings.CutPrefix(strings.ToLower(name), "cp"); is {
		name = map[string]string{"932": "Shift_JIS", "936": "GBK", "949": "EUC-KR", "950": "Big5", "65001": "UTF-8"}[digits]
		if name == "" && len(digits) == 4 {
			name = "windows-" + digits
		} else if name == "" {
			name = "IBM" + digits
		}
	}
	found, err := ianaindex.IANA.Encoding(name)
	if err != nil || found == nil {
		return fmt.Errorf("there is no encoding of that name; it must be one such as cp437, cp932 or windows-1251")
	}
	if found == unicode.UTF8 {
		found = keptUTF8{found}
	}
	*n.To = found
	return nil
}

// keptUTF8 leaves names that are no UTF-8 as they are, where a decoder would replace what
// is wrong in them, and might make two names the same.
type keptUTF8 struct{ encoding.Encoding }

func (keptUTF8) NewDecoder() *encoding.Decoder { return encoding.Nop.NewDecoder() }

// Wait is how long to wait, at least nothing.
type Wait struct{ To *time.Duration }

func (w *Wait) Type() string    { return "TIME" }
func (w *Wait) Words() []string { return nil }

func (w *Wait) String() string {
	if w.To == nil || *w.To == 0 {
		return ""
	}
	text := w.To.String()
	if strings.HasSuffix(text, "m0s") {
		text = strings.TrimSuffix(text, "0s")
	}
	if strings.HasSuffix(text, "h0m") {
		text = strings.TrimSuffix(text, "0m")
	}
	return text
}

// Set takes a duration.
func (w *Wait) Set(text string) (err error) {
	if *w.To, err = span(text); err != nil || *w.To < 0 {
		return fmt.Errorf("it must be a time such as 30s, 10m, 2h or 1d")
	}
	return nil
}

// Pairs are the name of a file with lines of pairs; a job file can also have the pairs
// themselves.
type Pairs struct {
	File *string
	Rows *[][]string
}

func (p Pairs) Type() string    { return "FILE" }
func (p Pairs) Words() []string { return nil }

func (p Pairs) String() string {
	if p.File == nil {
		return ""
	}
	return *p.File
}

// Set takes the name of a file.
func (p Pairs) Set(file string) error {
	*p.File = file
	return nil
}
