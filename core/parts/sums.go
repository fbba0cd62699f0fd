package parts

import (
	"bufio"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"maps"
	"path"
	"path/filepath"
	"strings"
	"sync"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/storage"
)

// Sums are SHA-256 sums by the names of files.
type Sums map[string]Sum

// Sum is what lists say of a file.
type Sum struct {
	sum   [sha256.Size]byte
	doubt string // a list that says something else than another, or than itself
}

// listName matches the usual names of lists of sums.
var listName = pattern(`(?i)^sha256sums?(\.txt)?$|\.sha256(sums?)?(\.txt)?$`)

// IsList reports whether a file has the usual name of a list of sums.
func IsList(path string) bool { return listName().MatchString(filepath.Base(path)) }

// listLine is a line of such a list: the sum, two spaces or a space and a star,
// and the name. That of the whole, which is not there, is in a comment: a tool that
// checks what the list names finds all of it.
var listLine = pattern(`^(?:\\|# put together: )?([0-9a-fA-F]{64}) [ *](.+)$`)

// largestList bounds what is read of a list.
const largestList = 16 << 20

// ReadSums reads the lists of sums that lie in a folder.
func ReadSums(folder string) (Sums, error) {
	names, err := storage.Sites{}.List(folder)
	if err != nil {
		return nil, err
	}
	sums := Sums{}
	for _, name := range names {
		if !IsList(name) {
			continue
		}
		list := filepath.Join(folder, name)
		err := eachSum(list, func(name string, sum [sha256.Size]byte) {
			if !strings.Contains(name, "/") { // what lies in other folders is none of ours
				sums.add(name, Sum{sum: sum}, list)
			}
		})
		if err != nil {
			return nil, err
		}
	}
	return sums, nil
}

// add takes in what a list says of a file; a doubt stays.
func (s Sums) add(name string, said Sum, list string) {
	if other, known := s[name]; known {
		if said.doubt = cmp.Or(said.doubt, other.doubt); other.sum != said.sum {
			said.doubt = list
		}
	}
	s[name] = said
}

// eachSum gives the lines of a list to do, with names that have slashes between folders.
func eachSum(list string, do func(name string, sum [sha256.Size]byte)) error {
	f, _, err := folder.OpenRegular(list)
	if _, other := errors.AsType[*fault.Error](err); other { // a pipe that is called like a list
		return nil
	}
	if err != nil {
		return fault.Reading(list, err)
	}
	defer f.Close()
	// Some shells write their output in UTF-16, with a mark.
	text := transform.NewReader(io.LimitReader(f, largestList), unicode.BOMOverride(transform.Nop))
	lines := bufio.NewScanner(text)
	for lines.Scan() {
		m := listLine().FindStringSubmatch(strings.TrimSuffix(lines.Text(), "\r"))
		if m == nil {
			continue
		}
		var sum [sha256.Size]byte
		if _, err := hex.Decode(sum[:], []byte(m[1])); err != nil {
			return fault.New(fault.Damaged, "%s: %w", list, err)
		}
		do(path.Clean(strings.ReplaceAll(m[2], `\`, "/")), sum)
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
	switch {
	case known && want.doubt != "":
		return true, fault.At(want.doubt, fault.New(fault.Damaged, "it has another sum for %s than a list beside it, or than it has itself", name).
			Advise("move the list aside that is not of this set"))
	case known && string(want.sum[:]) != string(sum):
		return true, fault.New(fault.Damaged, "%s has the SHA-256 sum %x where the list says %x", name, sum, want.sum).Advise("fetch it again")
	}
	return known, nil
}

// Lists are the lists of sums that lie in folders, each read once, and those that are given.
// The zero value is ready; it may be used on several goroutines.
type Lists struct {
	Workers int // that read the parts of a set, see Set.CheckSums

	mu      sync.Mutex
	folders map[string]Sums
	given   Sums // by absolute path, and by name where a list has no more than that
}

// Give adds a list, whose names count from its folder; without any sum in it, the error is of
// kind fault.Usage. It is called before all else.
func (l *Lists) Give(list string) error {
	if l.given == nil {
		l.given = Sums{}
	}
	at, err := filepath.Abs(filepath.Dir(list))
	if err != nil {
		return fault.Reading(list, err)
	}
	none := true
	err = eachSum(list, func(name string, sum [sha256.Size]byte) {
		none = false
		l.given.add(filepath.Join(at, filepath.FromSlash(name)), Sum{sum: sum}, list)
		if !strings.Contains(name, "/") {
			l.given.add(name, Sum{sum: sum}, list)
		}
	})
	if err == nil && none {
		err = fault.At(list, fault.New(fault.Usage, "it is no list of SHA-256 sums: a sum, two spaces and a name on each line"))
	}
	return err
}

// Given is what the lists that were given say of a file or address.
func (l *Lists) Given(where string) (said Sum, known bool) {
	if l.given == nil {
		return said, false
	}
	if full, err := filepath.Abs(where); err == nil {
		if said, known = l.given[full]; known {
			return said, true
		}
	}
	said, known = l.given[storage.Base(filepath.ToSlash(where))]
	return said, known
}

// CheckFile compares a file, or what lies at an address, with the lists that were given. A
// wrong sum is of kind fault.Damaged.
func (l *Lists) CheckFile(ctx context.Context, f blob.File) error {
	said, known := l.Given(f.Path)
	if !known {
		return nil
	}
	s := &Set{Parts: []Part{{File: f}}}
	r := s.Open()
	defer r.Close()
	sum := sha256.New()
	if err := s.read(ctx, r, 0, sum); err != nil {
		return err
	}
	name := storage.Base(filepath.ToSlash(f.Path))
	_, err := Sums{name: said}.Check(name, sum.Sum(nil))
	return err
}

// Of are the sums of a set: in the folders that its parts lie in, and those that were given.
func (l *Lists) Of(s *Set) (Sums, error) {
	beside, err := l.beside(s)
	if err != nil || l.given == nil {
		return beside, err
	}
	all := Sums{}
	maps.Copy(all, beside)
	if said, known := l.Given(filepath.Join(filepath.Dir(s.Path()), s.Name)); known {
		all.add(s.Name, said, said.doubt)
	}
	for _, p := range s.Parts {
		if said, known := l.Given(p.Path); known {
			all.add(storage.Base(p.Path), said, said.doubt)
		}
	}
	return all, nil
}

func (l *Lists) beside(s *Set) (Sums, error) {
	if s.Elsewhere() {
		return nil, nil
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	var all Sums
	seen := map[string]bool{}
	for _, p := range s.Parts {
		folder := filepath.Dir(p.Path)
		if seen[folder] {
			continue
		}
		seen[folder] = true
		sums, known := l.folders[folder]
		if !known {
			var err error
			if sums, err = ReadSums(folder); err != nil {
				return nil, err
			}
			if l.folders == nil {
				l.folders = map[string]Sums{}
			}
			l.folders[folder] = sums
		}
		if all == nil {
			all = sums
			continue
		}
		all = maps.Clone(all)
		for name, said := range sums {
			all.add(name, said, folder)
		}
	}
	return all, nil
}

// Check compares a set with the lists beside its parts, and says how many sums were
// checked; see Set.CheckSums.
func (l *Lists) Check(ctx context.Context, s *Set) (checked int, err error) {
	sums, err := l.Of(s)
	if err != nil || len(sums) == 0 {
		return 0, err
	}
	r := s.Open()
	defer r.Close()
	return s.CheckSums(ctx, r, sums, l.Workers)
}
