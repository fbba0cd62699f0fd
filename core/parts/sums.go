package parts

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strings"

	"widecrate/core/fault"
)

// Sums are SHA-256 sums by the names of files.
type Sums map[string][sha256.Size]byte

// listName matches the usual names of lists of sums.
var listName = regexp.MustCompile(`(?i)^sha256sums?(\.txt)?$|\.sha256(sums?)?(\.txt)?$`)

// listLine is a line of such a list: the sum, two spaces or a space and a star,
// and the name. That of the whole, which is not there, is in a comment: a tool that
// checks what the list names finds all of it.
var listLine = regexp.MustCompile(`^(?:\\|# put together: )?([0-9a-fA-F]{64}) [ *](.+)$`)

// largestList bounds what is read of a list.
const largestList = 16 << 20

// ReadSums reads the lists of sums that lie in a folder.
func ReadSums(folder string) (Sums, error) {
	names, err := List(folder)
	if err != nil {
		return nil, err
	}
	sums := Sums{}
	for _, name := range names {
		if !listName.MatchString(name) {
			continue
		}
		if err := sums.read(filepath.Join(folder, name)); err != nil {
			return nil, err
		}
	}
	return sums, nil
}

func (s Sums) read(list string) error {
	f, err := os.Open(list)
	if err != nil {
		return fault.Reading(list, err)
	}
	defer f.Close()
	lines := bufio.NewScanner(io.LimitReader(f, largestList))
	for lines.Scan() {
		m := listLine.FindStringSubmatch(strings.TrimSuffix(lines.Text(), "\r"))
		if m == nil {
			continue
		}
		name := path.Base(strings.ReplaceAll(m[2], `\`, "/"))
		var sum [sha256.Size]byte
		if _, err := hex.Decode(sum[:], []byte(m[1])); err != nil {
			return fault.New(fault.Damaged, "%s: %w", list, err)
		}
		if other, known := s[name]; known && other != sum {
			return fault.At(list, fault.New(fault.Damaged, "it has another sum for %s than a list beside it, or than it has itself", name).
				Advise("move the list aside that is not of this set"))
		}
		s[name] = sum
	}
	if err := lines.Err(); err != nil && !errors.Is(err, bufio.ErrTooLong) {
		return fault.Reading(list, err)
	}
	return nil
}

// Check compares the sum of a file with the list, and reports whether it is in
// there.
func (s Sums) Check(name string, sum []byte) (bool, error) {
	want, known := s[name]
	if known && string(want[:]) != string(sum) {
		return true, fault.New(fault.Damaged, "%s has the SHA-256 sum %x where the list says %x", name, sum, want).Advise("fetch it again")
	}
	return known, nil
}
