package disposal

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"widecrate/core/fault"
	"widecrate/core/place"
	"widecrate/core/storage"
)

// reasonSuffix is that of the file with the reason.
const reasonSuffix = ".reason.txt"

// longestReason bounds what is read of such a file.
const longestReason = 1 << 20

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
// because a run was killed before it moved anything, there is none.
func writeReason(g *Ground, beside string, why error, now time.Time) (*Seen, error) {
	text := reasonText(why, now)
	for n := 1; ; n++ {
		path := storage.Join(storage.Dir(beside), place.Numbered(storage.Base(beside)+reasonSuffix, n))
		err := g.Write(path, now, func(out storage.File) error {
			_, err := io.WriteString(out, text)
			if err == nil {
				err = allow(out, 0o644)
			}
			return err
		})
		if err != nil && !isTaken(g, path, err) {
			return nil, err
		}
		seen, unseen := g.See(path)
		switch {
		case err == nil:
			return seen, fault.Writing(path, unseen)
		case unseen == nil && seen.says(text):
			return nil, nil
		}
	}
}

// ReasonSum is the SHA-256, in hexadecimal, of what was seen as a reason: without its first line, which says when.
func (s *Seen) ReasonSum() (string, error) {
	why, err := s.reason()
	return sumOf(why), err
}

// reason is what a file says after its first line.
func (s *Seen) reason() (string, error) {
	if !s.Mode().IsRegular() {
		return "", fault.New(fault.Refused, "it is no file")
	}
	f, err := s.open(s.ground)
	if err != nil {
		return "", err
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, longestReason))
	_, why, _ := strings.Cut(string(text), "\n")
	return why, err
}

// says reports whether a file gives this reason, at whatever time.
func (s *Seen) says(text string) bool {
	was, err := s.reason()
	_, is, _ := strings.Cut(text, "\n")
	return err == nil && was == is
}

// ReasonProof is Seen.ReasonSum of what is at a path.
func ReasonProof(sites storage.Sites, path string) (sum string, err error) {
	err = seeing(sites, path, func(s *Seen) error {
		sum, err = s.ReasonSum()
		return err
	})
	return sum, err
}
