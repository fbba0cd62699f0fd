package receipt

import (
	"bufio"
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"regexp"
	"slices"
	"strings"
	"sync"

	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/newfile"
	"widecrate/core/remote"
	"widecrate/core/storage"
)

// Sums are a list of SHA-256 sums, as every system can check it: a line for each file
// with its sum, two spaces, and its path. A path with a line end or a backslash is
// escaped, and its line starts with a backslash.
type Sums struct{ lines map[string]string } // by their paths, as they are written

// Add takes a file in; of several with the same path the last one counts.
func (s *Sums) Add(path string, sum []byte) {
	mark := ""
	if strings.ContainsAny(path, "\\\n\r") {
		mark = `\`
		path = strings.NewReplacer(`\`, `\\`, "\n", `\n`, "\r", `\r`).Replace(path)
	}
	s.add(path, fmt.Sprintf("%s%s  %s\n", mark, hex.EncodeToString(sum), path))
}

func (s *Sums) add(path, line string) {
	if s.lines == nil {
		s.lines = map[string]string{}
	}
	s.lines[path] = line
}

// CheckSums makes sure that a file can become a list of sums: it is one, or there is
// nothing in it. Anything else is of kind fault.Refused.
func CheckSums(sites newfile.Sites, path string) error {
	return disposal.OfKind(sites.Sites, path, "a list of SHA-256 sums", func(start []byte) bool {
		line, _, _ := bytes.Cut(start, []byte("\n"))
		return sumLine().Match(line)
	})
}

// sumLine matches a line, and finds its path.
var sumLine = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^\\?[0-9a-f]{64} [ *](.+)`) })

// Write makes the list, or replaces one that is there, sorted by path. An empty one replaces nothing. Where not all was
// done that was asked for, what the list had stays in it. Errors are of kind fault.Unwritable, or fault.Refused where something
// else is there.
func (s *Sums) Write(sites newfile.Sites, path string, all bool) error {
	const tries = 50 // of several that add to one list, each makes it anew
	for try := 1; ; try++ {
		err := s.write(sites, path, all)
		if all || !errors.Is(err, fault.Refused) || try == tries || CheckSums(sites, path) != nil {
			return err
		}
	}
}

func (s *Sums) write(sites newfile.Sites, path string, all bool) error {
	if err := CheckSums(sites, path); err != nil {
		return err
	}
	old, err := sites.Look(storage.Followed(path))
	if err != nil {
		return err
	}
	if s.Empty() || !all {
		earlier, err := readSums(sites, path)
		if err != nil {
			return err
		}
		if s.Empty() && !earlier.Empty() {
			return nil
		}
		for name, line := range s.lines {
			earlier.add(name, line)
		}
		s = earlier
	}
	f, err := sites.CreateOver(old)
	if err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(s.lines)) {
		if _, err := io.WriteString(f, s.lines[name]); err != nil {
			return errors.Join(fault.Writing(path, err), f.Discard())
		}
	}
	return f.Commit()
}

// readSums reads a list; one that is not there is empty.
func readSums(sites newfile.Sites, path string) (*Sums, error) {
	s := new(Sums)
	err := remote.Settled(func() error {
		*s = Sums{}
		there, err := sites.Resolve(path)
		if err != nil || there.Info == nil {
			return fault.Reading(path, err)
		}
		data, err := there.Data()
		if err != nil {
			return fault.At(path, err)
		}
		defer data.Close()
		in := bufio.NewReader(io.NewSectionReader(data, 0, data.Size()))
		for {
			line, err := in.ReadString('\n')
			if m := sumLine().FindStringSubmatch(strings.TrimSuffix(line, "\n")); m != nil {
				s.add(m[1], strings.TrimSuffix(line, "\n")+"\n")
			}
			if err == io.EOF {
				return nil
			}
			if err != nil {
				return fault.Reading(path, err)
			}
		}
	})
	return s, err
}

// Empty reports whether there is nothing in it.
func (s *Sums) Empty() bool { return len(s.lines) == 0 }
