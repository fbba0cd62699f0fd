// Package show is what a person sees: sizes, tables, colours and errors in
// words, and what a script gets instead: paths and JSON Lines. It knows nothing
// of commands.
package show

import (
	"bufio"
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"
	"unicode"

	"github.com/dustin/go-humanize"
	"github.com/fatih/color"
	"golang.org/x/term"

	"widecrate/core/fault"
	"widecrate/core/source"
)

// Screen is one of the standard streams.
type Screen struct {
	*bufio.Writer
	Terminal bool
	Width    int // columns of the terminal; 0 when it is none
	colored  bool
	gate     *gate
	advised  string

	Say fault.Wording // of what can be done about errors
}

// gate lets a line of progress step aside before something else is printed.
type gate struct {
	w      io.Writer
	before func()
	closed func() // is called when nobody reads any more; nil: nobody asks
	silent atomic.Bool
}

func (g *gate) Write(p []byte) (int, error) {
	if g.silent.Load() {
		return len(p), nil
	}
	if g.before != nil {
		g.before()
	}
	n, err := g.w.Write(p)
	if g.closed != nil && isClosed(err) {
		g.closed()
	}
	return n, err
}

// isClosed reports whether an error is that of a pipe that nobody reads any more.
func isClosed(err error) bool {
	if runtime.GOOS == "windows" { // ERROR_BROKEN_PIPE, ERROR_NO_DATA
		return errors.Is(err, syscall.Errno(109)) || errors.Is(err, syscall.Errno(232))
	}
	return errors.Is(err, syscall.EPIPE)
}

// WhenClosed has a function called when whoever read the stream has closed it.
func (s *Screen) WhenClosed(closed func()) { s.gate.closed = closed }

// Silence makes a screen print nothing more.
func (s *Screen) Silence() { s.gate.silent.Store(true) }

// Aside prints a line at once, whatever else is being printed; any goroutine may.
func (s *Screen) Aside(text string) { fmt.Fprintf(s.gate, "%s\n", Plain(text)) }

// NewScreen makes a screen of a stream. Colours are used on a terminal only,
// and not where NO_COLOR is set.
func NewScreen(w io.Writer) *Screen {
	s := &Screen{gate: &gate{w: w}}
	s.Writer = bufio.NewWriterSize(s.gate, 64<<10)
	if f, ok := w.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		s.Terminal = true
		s.gate.w = forTerminal(w)
		if width, _, err := term.GetSize(int(f.Fd())); err == nil {
			s.Width = width
		}
		s.colored = os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
	}
	return s
}

// Hold keeps back what is printed until the function is called that it returns: that prints it
// behind a head, or nothing where nothing was printed, or drops it.
func (s *Screen) Hold() (release func(head string, drop bool)) {
	var held bytes.Buffer
	to := s.gate.w
	s.gate.w = &held
	return func(head string, drop bool) {
		s.Flush()
		if s.gate.w = to; held.Len() > 0 && !drop {
			s.WriteString(head)
			s.Write(held.Bytes())
			s.Flush()
		}
	}
}

// SetColor turns colours on or off.
func (s *Screen) SetColor(on bool) { s.colored = on }

// Printf prints; on a terminal, lines end between words. A write that fails is reported
// by Flush.
func (s *Screen) Printf(format string, args ...any) {
	text := Discreet(fmt.Appendf(s.AvailableBuffer(), format, args...))
	if s.Width == 0 {
		s.Write(text)
		return
	}
	for line := range strings.Lines(string(text)) {
		s.WriteString(wrapped(line, s.Width))
	}
}

// wrapped is a line, broken between words where it is wider than a terminal. What
// follows is indented by two more than the line itself.
func wrapped(line string, width int) string {
	if Width(line) <= width {
		return line
	}
	text := strings.TrimLeft(line, " ")
	indent := strings.Repeat(" ", len(line)-len(text)+2)
	var b strings.Builder
	column := 0
	for i, word := range strings.Split(line, " ") {
		wide := Width(strings.TrimSuffix(word, "\n"))
		switch {
		case i == 0:
		case column+1+wide > width && column > len(indent):
			b.WriteString("\n" + indent)
			column = len(indent)
		default:
			b.WriteByte(' ')
			column++
		}
		b.WriteString(word)
		column += wide
	}
	return b.String()
}

func (s *Screen) paint(text string, attributes ...color.Attribute) string {
	c := color.New(attributes...)
	if s.colored {
		c.EnableColor()
	} else {
		c.DisableColor()
	}
	return c.Sprint(text)
}

// Bad, Good, Strong and Faint colour a text by what it means.
func (s *Screen) Bad(text string) string    { return s.paint(text, color.FgRed, color.Bold) }
func (s *Screen) Good(text string) string   { return s.paint(text, color.FgGreen) }
func (s *Screen) Strong(text string) string { return s.paint(text, color.Bold) }
func (s *Screen) Faint(text string) string  { return s.paint(text, color.Faint) }

// Name makes a name from an archive or a disk fit for a person: what could move the cursor or
// hide something is escaped, in a log too, which somebody looks at on a terminal.
func (s *Screen) Name(name string) string { return Plain(name) }

// Plain escapes what does not print.
func Plain(text string) string {
	bad := func(r rune) bool { return !unicode.IsPrint(r) }
	if !strings.ContainsFunc(text, bad) {
		return text
	}
	var b strings.Builder
	for _, r := range text {
		if bad(r) {
			b.WriteString(strings.Trim(strconv.QuoteRuneToASCII(r), "'"))
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}

// Problem prints an error: what and where, why, and what to do.
func (s *Screen) Problem(err error) {
	s.Printf("%s %s\n", s.Bad("✗"), Plain(err.Error()))
	do := s.Say.Advice(err)
	if do != "" && do != s.advised { // once is enough for a row of the same
		s.Printf("  %s\n", s.Faint("→ "+do))
	}
	s.advised = do
}

// Size is a size for people, in powers of 1024.
func Size(bytes int64) string { return humanize.IBytes(uint64(max(bytes, 0))) }

// Count is a number with its noun, in the plural where it needs to be.
func Count(n int, noun string) string {
	if n != 1 {
		noun = strings.TrimSuffix(noun, "y") + map[bool]string{true: "ies", false: "s"}[strings.HasSuffix(noun, "y")]
	}
	return Number(n) + " " + noun
}

// Number is a number for people.
func Number[N int | int64](n N) string { return humanize.Comma(int64(n)) }

// Extensions says how many files have which extension: of the most frequent ones.
func Extensions(counts map[string]int) string {
	const most = 5
	names := slices.SortedFunc(maps.Keys(counts), func(a, b string) int {
		return cmp.Or(cmp.Compare(counts[b], counts[a]), cmp.Compare(a, b))
	})
	names = slices.DeleteFunc(names, func(name string) bool { return name == source.OtherExtensions })
	rest := counts[source.OtherExtensions]
	for _, name := range names[min(most, len(names)):] {
		rest += counts[name]
	}
	parts := make([]string, 0, most+1)
	for _, name := range names[:min(most, len(names))] {
		parts = append(parts, Number(counts[name])+" "+cmp.Or(name, "without extension"))
	}
	if rest > 0 {
		parts = append(parts, Number(rest)+" with others")
	}
	return strings.Join(parts, ", ")
}

// Took is a duration for people.
func Took(d time.Duration) string {
	if d < time.Minute {
		return fmt.Sprintf("%.2f s", d.Seconds())
	}
	return d.Round(time.Second).String()
}

// Saved is what packing saved, in percent of the size.
func Saved(size, packed int64) string {
	if size <= 0 {
		return ""
	}
	return fmt.Sprintf("%d %%", int(math.Round(100*float64(size-packed)/float64(size))))
}
