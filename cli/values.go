package cli

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // not every system has the zones

	"github.com/spf13/cobra"
	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/ianaindex"

	"widecrate/core/codec"
	"widecrate/core/extract"
	"widecrate/core/place"
)

// The kinds of value that options take. Each is a pflag.Value.

// choice is one of a few words.
type choice[T any] struct {
	words  []string
	values []T
	at     int
}

func (c *choice[T]) String() string { return c.words[c.at] }
func (c *choice[T]) Type() string   { return strings.Join(c.words, "|") }
func (c *choice[T]) Value() T       { return c.values[c.at] }

func (c *choice[T]) Set(word string) error {
	at := slices.Index(c.words, word)
	if at < 0 {
		return fmt.Errorf("it must be one of %s", strings.Join(c.words, ", "))
	}
	c.at = at
	return nil
}

// addTo declares the option; the first word is what it is when left out.
func (c *choice[T]) addTo(cmd *cobra.Command, name, help string) {
	cmd.Flags().Var(c, name, help)
	// It fails only for an option that does not exist.
	_ = cmd.RegisterFlagCompletionFunc(name, cobra.FixedCompletions(c.words, cobra.ShellCompDirectiveNoFileComp))
}

// replaceChoice is whether what is written may replace what is there.
func replaceChoice() choice[bool] {
	return choice[bool]{words: []string{"refuse", "replace"}, values: []bool{false, true}}
}

// level is how hard an encoder tries.
type level struct {
	options codec.EncodeOptions
	text    string
}

func (l *level) Type() string   { return "0-9|fast|normal|best" }
func (l *level) String() string { return l.text }

func (l *level) Set(text string) error {
	value, known := codec.LevelNames[text]
	if !known {
		n, err := strconv.ParseUint(text, 10, 4)
		if err != nil || n > uint64(codec.Best) {
			return fmt.Errorf("it must be 0 to 9, or fast, normal or best")
		}
		value = codec.Level(n)
	}
	l.options, l.text = codec.At(value), text
	return nil
}

// size is a number of bytes such as 10k, 2.5M or 1G, in powers of 1024.
type size int64

func (s *size) Type() string { return "SIZE" }

func (s *size) String() string {
	if *s == 0 {
		return ""
	}
	return strconv.FormatInt(int64(*s), 10)
}

func (s *size) Set(text string) error {
	number := strings.TrimSuffix(strings.TrimSuffix(strings.ToLower(text), "b"), "i")
	factor := 1.0
	if n := len(number); n > 0 {
		if power := strings.IndexByte("kmgtp", number[n-1]); power >= 0 {
			number, factor = number[:n-1], math.Pow(1024, float64(power+1))
		}
	}
	value, err := strconv.ParseFloat(number, 64)
	if err != nil || value < 0 || value*factor > math.MaxInt64/2 {
		return fmt.Errorf("it must be a size such as 500, 10k, 2.5M or 1G")
	}
	*s = size(value * factor)
	return nil
}

// moment is a date, a date and time, or an age such as 36h or 7d. A date alone
// means its first second, or its last where the end counts.
type moment struct {
	time.Time
	end bool
}

func (m *moment) Type() string { return "WHEN" }

func (m *moment) String() string {
	if m.IsZero() {
		return ""
	}
	return m.Format(time.RFC3339)
}

func (m *moment) Set(text string) error {
	for _, layout := range []string{time.RFC3339, "2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02T15:04:05", "2006-01-02T15:04"} {
		if t, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			m.Time = t
			return nil
		}
	}
	if t, err := time.ParseInLocation(time.DateOnly, text, time.Local); err == nil {
		if m.end {
			t = t.AddDate(0, 0, 1).Add(-time.Second)
		}
		m.Time = t
		return nil
	}
	age, err := time.ParseDuration(text)
	if days, found := strings.CutSuffix(text, "d"); found {
		var n float64
		n, err = strconv.ParseFloat(days, 64)
		age = time.Duration(n * 24 * float64(time.Hour))
	}
	if err != nil || age < 0 {
		return fmt.Errorf(`it must be a date such as 2026-05-01 or "2026-05-01 12:30", or an age such as 36h or 7d`)
	}
	m.Time = time.Now().Add(-age)
	return nil
}

// disposition is keep, remove or move=DIR.
type disposition struct{ after *extract.After }

func (d disposition) Type() string { return "keep|remove|move=DIR" }

func (d disposition) String() string {
	if d.after == nil {
		return "keep"
	}
	switch d.after.Disposition {
	case extract.Remove:
		return "remove"
	case extract.Move:
		return "move=" + d.after.Folder
	}
	return "keep"
}

func (d disposition) Set(text string) error {
	folder, move := strings.CutPrefix(text, "move=")
	switch {
	case text == "keep":
		d.after.Disposition = extract.Keep
	case text == "remove":
		d.after.Disposition = extract.Remove
	case move && folder != "":
		d.after.Disposition, d.after.Folder = extract.Move, folder
	default:
		return fmt.Errorf("it must be keep, remove or move=DIR")
	}
	return nil
}

// template makes names.
type template struct {
	to      **place.Template
	allowed []string
	text    string
}

func (t *template) Type() string   { return "TEMPLATE" }
func (t *template) String() string { return t.text }

func (t *template) Set(text string) (err error) {
	t.text = text
	*t.to, err = place.NewTemplate(text, t.allowed...)
	return err
}

// zone is the name of a time zone.
type zone struct{ to **time.Location }

func (z *zone) Type() string { return "NAME" }

func (z *zone) String() string {
	if z.to == nil || *z.to == nil {
		return ""
	}
	return (*z.to).String()
}

func (z *zone) Set(name string) error {
	location, err := time.LoadLocation(name)
	if err != nil {
		return fmt.Errorf("there is no time zone of that name; it must be one such as UTC or Asia/Tokyo")
	}
	*z.to = location
	return nil
}

// nameEncoding is the name of a character encoding.
type nameEncoding struct{ to *encoding.Encoding }

func (n *nameEncoding) Type() string { return "NAME" }

func (n *nameEncoding) String() string {
	if n.to == nil || *n.to == nil {
		return ""
	}
	name, err := ianaindex.IANA.Name(*n.to)
	if err != nil {
		return ""
	}
	return name
}

func (n *nameEncoding) Set(name string) error {
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
	*n.to = found
	return nil
}
