package show

import (
	"bytes"
	"errors"
	"io"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/fault"
)

// What comes from an archive cannot move the cursor of a terminal.
func TestPlain(t *testing.T) {
	for text, want := range map[string]string{"küste 潮.csv": "küste 潮.csv", "a\x1b[2Jb": `a\x1b[2Jb`, "a\nb\tc": `a\nb\tc`, "a\u202eb": `a\u202eb`, "a\x7f": `a\x7f`} {
		assert.Equal(t, want, Plain(text))
	}
	var b bytes.Buffer
	o := Output{Out: NewScreen(&b)}
	o.Name("a\x1b")
	o.Out.Terminal = true
	o.Name("a\x1b")
	require.NoError(t, o.Out.Flush())
	assert.Equal(t, "a\x1b\na\\x1b\n", b.String(), "a script gets names as they are")
}

func TestTable(t *testing.T) {
	var b bytes.Buffer
	s := NewScreen(&b)
	table := NewTable(s, Column{Title: "path", Width: 6, Short: true}, Column{Title: "size", Width: 6, Right: true}, Column{Title: "when"})
	table.Row("潮", "1 B", "now")
	table.Row("far too long", "22 KiB", "")
	require.NoError(t, s.Flush())
	assert.Equal(t, "path      size  when\n潮         1 B  now\nfar too long  22 KiB\n", b.String())

	for width, want := range map[int]string{
		70: "path                                      kind      size  result\n" +
			"/tmp/tidewatc…landing/osk bay/levels.csv  CSV        1 B  done\n" +
			"it is gone                                CSV     22 KiB\n    no: it was there\n",
		40: "path              kind      size  result\n" +
			"/tmp/…levels.csv  CSV        1 B  done\n" +
			"it is gone        CSV     22 KiB\n    no: it was there\n",
		30: "path    kind      size  result\n" +
			"/….csv  CSV        1 B  done\n" +
			"i…gone  CSV     22 KiB\n    no: it was there\n",
		12: "",
	} {
		b.Reset()
		terminal := NewScreen(&b)
		terminal.Terminal, terminal.Width = true, width
		terminal.SetColor(true)
		table = NewTable(terminal, Column{Title: "path", Width: 40, Short: true}, Column{Title: "kind"}, Column{Title: "size", Width: 8, Right: true},
			Column{Title: "result", Text: true})
		table.Row(terminal.Faint("/tmp/tidewatch/landing/osk bay/levels.csv"), "CSV", "1 B", terminal.Good("done"))
		table.Row(terminal.Faint("it is gone"), "CSV", "22 KiB", terminal.Bad("no")+": it was there")
		require.NoError(t, terminal.Flush())
		for line := range strings.Lines(b.String()) {
			assert.LessOrEqual(t, Width(strings.TrimRight(line, "\n")), width)
		}
		if want != "" {
			assert.Equal(t, want, unstyled(b.String()))
		}
	}
}

// On a terminal, lines of text end between words.
func TestWrapped(t *testing.T) {
	var b bytes.Buffer
	s := NewScreen(&b)
	s.Printf("nothing of this archive was put into place\n")
	s.Width = 20
	s.SetColor(true)
	s.Printf("%s nothing of this archive\n  → but/its/long/name/is/whole, küste 潮\nend", s.Strong("✗"))
	require.NoError(t, s.Flush())
	assert.Equal(t, "nothing of this archive was put into place\n✗ nothing of this\n  archive\n  → but/its/long/name/is/whole,\n    küste 潮\nend", unstyled(b.String()))
}

func TestWords(t *testing.T) {
	assert.Equal(t, []string{"1 file", "0 files", "1,234 entries"}, []string{Count(1, "file"), Count(0, "file"), Count(1234, "entry")})
	assert.Equal(t, []string{"", "0 %", "75 %", "-10 %"}, []string{Saved(0, 0), Saved(100, 100), Saved(100, 25), Saved(100, 110)})
	assert.Equal(t, []string{"0.50 s", "1m5s"}, []string{Took(500 * time.Millisecond), Took(65 * time.Second)})
	assert.Equal(t, "3 files · 1.0 MiB/s · about 6s left", Rate(2*time.Second, 2<<20, 25, 100, "3 files"))
	assert.Equal(t, "3 files", Rate(100*time.Millisecond, 2<<20, 25, 100, "3 files"))
}

func TestProblem(t *testing.T) {
	var b bytes.Buffer
	s := NewScreen(&b)
	for range 2 {
		s.Problem(fault.At("a.zip", fault.New(fault.Refused, "it is taken").Advise("choose another")))
	}
	s.Problem(fault.At("b.zip", fault.New(fault.Damaged, "it is broken")))
	s.Problem(errors.New("odd\x1b"))
	require.NoError(t, s.Flush())
	assert.Equal(t, "✗ a.zip: it is taken\n  → choose another\n✗ a.zip: it is taken\n✗ b.zip: it is broken\n  → "+fault.Wording{}.Advice(fault.New(fault.Damaged, "x"))+"\n✗ odd\\x1b\n", b.String())
}

// A line of progress is wiped away before anything else is printed.
func TestProgress(t *testing.T) {
	var b bytes.Buffer
	s := NewScreen(&b)
	s.Terminal, s.Width = true, 12
	p := StartProgress(s, func() string { return "3 of 60 archives" })
	p.draw()
	s.Printf("done\n")
	require.NoError(t, s.Flush())
	p.Stop()
	assert.Equal(t, "\r\x1b[K3 of 60 ar…\r\x1b[Kdone\n", b.String())
}

// What terminals of another encoding get is as wide, and in ASCII.
func TestOtherEncodings(t *testing.T) {
	if runtime.GOOS != "windows" {
		for said, other := range map[string]bool{"": false, "en_GB.UTF-8": false, "de_DE.utf8": false, "C": true, "POSIX": true, "ja_JP.eucJP": true} {
			assert.Equal(t, other, otherEncoding(func(name string) string { return map[string]string{"LANG": said}[name] }), said)
		}
		assert.False(t, otherEncoding(func(name string) string { return map[string]string{"LC_ALL": "C.UTF-8", "LANG": "C"}[name] }))
	}
	var b strings.Builder
	n, err := io.WriteString(inASCII{&b}, "✗ a.zip › b: … → out ━━")
	require.NoError(t, err)
	assert.Equal(t, len("✗ a.zip › b: … → out ━━"), n)
	assert.Equal(t, "x a.zip > b: ~ > out ==", b.String())
}

func TestExtensions(t *testing.T) {
	assert.Equal(t, "2 .abc, 1 without extension, 7 with others", Extensions(map[string]int{".abc": 2, "": 1, "*": 7}))
	assert.Equal(t, "2 .f, 1 .a, 1 .b, 1 .c, 1 .d, 1 with others", Extensions(map[string]int{".a": 1, ".b": 1, ".c": 1, ".d": 1, ".e": 1, ".f": 2}))
}
