package receipt

import (
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"sync"

	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/newfile"
	"widecrate/core/storage"
)

// Sums are a list of SHA-256 sums, as every system can check it: a line for each file
// with its sum, two spaces, and its path. A path with a line end or a backslash is
// escaped, and its line starts with a backslash.
type Sums struct{ lines map[string]string }

// Add takes a file in; of several with the same path the last one counts.
func (s *Sums) Add(path string, sum []byte) {
	if s.lines == nil {
		s.lines = map[string]string{}
	}
	mark := ""
	if strings.ContainsAny(path, "\\\n\r") {
		mark = `\`
		path = strings.NewReplacer(`\`, `\\`, "\n", `\n`, "\r", `\r`).Replace(path)
	}
	s.lines[path] = fmt.Sprintf("%s%s  %s\n", mark, hex.EncodeToString(sum), path)
}

// CheckSums makes sure that a file can become a list of sums: it is one, or there is
// nothing in it. Anything else is of kind fault.Refused.
func CheckSums(sites newfile.Sites, path string) error {
	return disposal.OfKind(sites.Sites, path, "a list of SHA-256 sums", func(start []byte) bool {
		line, _, _ := bytes.Cut(start, []byte("\n"))
		return sumLine().Match(line)
	})
}

// sumLine matches the start of a line.
var sumLine = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^\\?[0-9a-f]{64} [ *].`) })

// Write makes the list, or replaces one that is there, sorted by path. Errors are of
// kind fault.Unwritable, or fault.Refused where something else is there.
func (s *Sums) Write(sites newfile.Sites, path string) error {
	if err := CheckSums(sites, path); err != nil {
		return err
	}
	f, err := sites.Create(storage.Absolute(path), true)
	if err != nil {
		return err
	}
	var names []string
	for name := range s.lines {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		if _, err := io.WriteString(f, s.lines[name]); err != nil {
			return errors.Join(fault.Writing(path, err), f.Discard())
		}
	}
	return f.Commit()
}

// Empty reports whether there is nothing in it.
func (s *Sums) Empty() bool { return len(s.lines) == 0 }
