package disposal

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/place"
)

// reasonSuffix is that of the file with the reason.
const reasonSuffix = ".reason.txt"

// withReason writes the reason first, and returns its path: an archive without one would be a riddle.
func (r *Route) withReason(files []blob.File, to []string, why error) (reason string, err error) {
	var seen *Seen
	g := r.ground(files[:1], to[:1])
	defer g.Close()
	if to[0] != "" { // else the same lies there already
		if reason, err = writeReason(g, to[0], why, r.Begun); err != nil {
			return "", err
		}
		if reason != "" {
			if seen, err = g.See(reason); err != nil {
				return "", fault.Writing(reason, err)
			}
		}
	}
	if err = r.Sources(files, to); err != nil && seen != nil {
		_ = g.TakeAway(seen) // the first error says what is wrong
	}
	return reason, err
}

// reasonText is what such a file says.
func reasonText(why error, now time.Time) string {
	text := fmt.Sprintf("%s\n%v\n", now.UTC().Format(time.RFC3339), why)
	if e, ok := errors.AsType[*fault.Error](why); ok {
		if do := (fault.Wording{}).Advice(e); do != "" {
			text += do + "\n"
		}
	}
	return text
}

// writeReason writes a file beside another, under a name that is free; of one that says the same,
// because a run was killed before it moved anything, the path is empty.
func writeReason(g *Ground, beside string, why error, now time.Time) (path string, err error) {
	text := reasonText(why, now)
	for n := 1; ; n++ {
		path = filepath.Join(filepath.Dir(beside), place.Numbered(filepath.Base(beside)+reasonSuffix, n))
		err := g.Write(path, now, func(out *os.File) error {
			_, err := out.WriteString(text)
			if err == nil {
				err = out.Chmod(0o644)
			}
			return err
		})
		switch {
		case !isTaken(g, path, err):
			return path, err
		case saysTheSame(path, text):
			return "", nil
		}
	}
}

// ReasonSum is the SHA-256, in hexadecimal, of what was seen as a reason: without its first line, which says when.
func (s *Seen) ReasonSum() (string, error) {
	f, err := s.open(s.ground)
	if err != nil {
		return "", err
	}
	defer f.Close()
	const longest = 1 << 20
	text, err := io.ReadAll(io.LimitReader(f, longest))
	_, why, _ := strings.Cut(string(text), "\n")
	return sumOf(why), err
}

// ReasonProof is Seen.ReasonSum of what is at a path.
func ReasonProof(path string) (string, error) { return proof(path, (*Seen).ReasonSum) }

// saysTheSame reports whether a file gives this reason, at whatever time.
func saysTheSame(path, text string) bool {
	file, _, err := folder.OpenRegular(path)
	if err != nil {
		return false
	}
	defer file.Close()
	return givesReason(file, text)
}

// givesReason is saysTheSame of what is read.
func givesReason(r io.Reader, text string) bool {
	there, err := io.ReadAll(io.LimitReader(r, int64(len(text))+1))
	_, was, _ := strings.Cut(string(there), "\n")
	_, is, _ := strings.Cut(text, "\n")
	return err == nil && was == is
}
