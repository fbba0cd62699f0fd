package show

import (
	"io"
	"os"
	"runtime"
	"strings"
)

// marks are our own signs, each with one of ASCII that is as wide.
var marks = strings.NewReplacer("✗", "x", "→", ">", "›", ">", "━", "=", "╸", "=", "…", "~", "·", "-", "–", "-", "×", "x")

// inASCII writes to a terminal that does not show them.
type inASCII struct{ io.Writer }

func (w inASCII) Write(p []byte) (int, error) {
	_, err := io.WriteString(w.Writer, marks.Replace(string(p)))
	return len(p), err
}

// otherEncoding reports whether the terminal is said to have an encoding that is not
// UTF-8 (POSIX, section 8.2). Where nothing is said it has UTF-8, like nearly all.
func otherEncoding(lookup func(string) string) bool {
	if runtime.GOOS == "windows" { // whose console takes text, and no bytes
		return false
	}
	for _, name := range []string{"LC_ALL", "LC_CTYPE", "LANG"} {
		if value := strings.ToLower(lookup(name)); value != "" {
			return !strings.Contains(strings.ReplaceAll(value, "-", ""), "utf8")
		}
	}
	return false
}

// forTerminal is the writer to a terminal.
func forTerminal(w io.Writer) io.Writer {
	if otherEncoding(os.Getenv) {
		return inASCII{w}
	}
	return w
}
