package parts

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"hash"
	"io"
	"io/fs"
	"path/filepath"
	"runtime"
	"slices"
	"sync/atomic"
	"syscall"

	"github.com/klauspost/compress/flate"
	"golang.org/x/sync/errgroup"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/storage"
)

// Check says what is wrong with a set before any work: parts that are missing,
// empty, shorter than their siblings, or there twice. Its errors are of kind
// fault.Incomplete, or fault.Unreadable for a part that cannot be read.
func (s *Set) Check() error {
	for _, p := range s.Parts {
		if p.Err != nil {
			return p.Err
		}
	}
	if missing := s.Missing(); missing != nil {
		return s.incomplete("of %d parts, %d %s missing: %s", len(s.Parts), len(missing), isAre(len(missing)), Shorten(missing)).
			Suggest(fault.FindParts)
	}
	if s.Total > 0 && len(s.Parts) > s.Total {
		return s.incomplete("%s says that there are %d parts, and %s is of another set", filepath.Base(s.Parts[len(s.Parts)-1].Path), s.Total, filepath.Base(s.Parts[s.Total-1].Path)).
			Advise("move aside what is left of an earlier set")
	}
	if err := s.checkSizes(); err != nil {
		return err
	}
	return s.checkTwice()
}

func (s *Set) incomplete(format string, args ...any) *fault.Error {
	return fault.New(fault.Incomplete, format, args...)
}

func isAre(n int) string {
	if n == 1 {
		return "is"
	}
	return "are"
}

// checkSizes compares the sizes of parts: a whole is cut into pieces of one size, of which the
// last alone may be smaller. Records of a split ZIP archive that do not fit into the rest
// of a part begin the next, so that its parts may differ.
func (s *Set) checkSizes() error {
	last := len(s.Parts) - 1
	var largest int64
	for i, p := range s.Parts {
		if p.size() == 0 && (i < last || i == 0 || s.Kind == Split) { // some cut once more behind an end that fits
			return s.incomplete("part %d (%s) is empty", i+1, filepath.Base(p.Path)).
				Suggest(fault.WaitForParts)
		}
		if i < last {
			largest = max(largest, p.size())
		}
	}
	if s.Kind == Split {
		return nil
	}
	for i, p := range s.Parts[:last] {
		if p.size() < largest {
			return s.incomplete("part %d (%s) has %d bytes and others have %d: it is not complete", i+1, filepath.Base(p.Path), p.size(), largest).
				Suggest(fault.WaitForParts)
		}
	}
	if size := s.Parts[last].size(); last > 0 && size > largest {
		return s.incomplete("the last part (%s) has %d bytes, more than the %d of the others: it is of another set", filepath.Base(s.Parts[last].Path), size, largest).
			Advise("fetch the set again")
	}
	return nil
}

// Parts of fewer bytes may well be alike.
const smallestUnlike = 512

// checkTwice finds parts that hold the same bytes: one of them was sent twice
// under two names. Where the bytes repeat themselves, that proves nothing.
func (s *Set) checkTwice() error {
	bySize := map[int64][]int{}
	for i, p := range s.Parts {
		if p.size() >= smallestUnlike {
			bySize[p.size()] = append(bySize[p.size()], i)
		}
	}
	for _, alike := range bySize {
		if len(alike) < 2 {
			continue
		}
		seen := map[string]int{}
		for _, i := range alike {
			sample, err := s.Parts[i].sample()
			if err != nil {
				return err
			}
			first, found := seen[string(sample)]
			if !found {
				seen[string(sample)] = i
				continue
			}
			same, err := blob.EqualFiles(s.Parts[first].File, s.Parts[i].File)
			if err != nil {
				return err
			}
			if same && !repetitive(sample) && !s.listed(first, i) {
				return s.incomplete("parts %d (%s) and %d (%s) hold the same bytes", first+1, filepath.Base(s.Parts[first].Path), i+1, filepath.Base(s.Parts[i].Path)).
					Advise("one of the two is not what its name says; fetch it again")
			}
		}
	}
	return nil
}

// listed reports whether a list of sums beside the parts names two of them: it decides, and is
// checked against them when they are read.
func (s *Set) listed(a, b int) bool {
	sums, err := new(Lists).Of(s)
	if err != nil {
		return false
	}
	_, first := sums[filepath.Base(s.Parts[a].Path)]
	_, second := sums[filepath.Base(s.Parts[b].Path)]
	return first && second
}

// sample reads a few bytes from the start, the middle and the end of a part; of one
// that does not lie on disk, from its start, which comes in one request.
func (p *Part) sample() ([]byte, error) {
	f, err := p.Data()
	if err != nil {
		return nil, fault.At(p.Path, err)
	}
	defer f.Close()
	const piece = 4 << 10
	size := p.size()
	places := []int64{0, size / 2, max(size-piece, 0)}
	if storage.IsFar(p.Info) {
		places = places[:1]
	}
	var b []byte
	for _, at := range places {
		part := make([]byte, min(piece, size-at))
		if _, err := f.ReadAt(part, at); err != nil && err != io.EOF {
			return nil, fault.Reading(p.Path, err)
		}
		b = append(b, part...)
	}
	return b, nil
}

// repetitive reports whether bytes can be packed into next to nothing.
func repetitive(sample []byte) bool {
	var packed bytes.Buffer
	w, err := flate.NewWriter(&packed, flate.BestSpeed)
	if err != nil {
		return false
	}
	w.Write(sample) // memory does not fail
	w.Close()
	return packed.Len() < len(sample)/8
}

// unusable says why a file that has a part's name is none.
func unusable(path string, info fs.FileInfo, err error) error {
	name := filepath.Base(path)
	switch {
	case errors.Is(err, syscall.ELOOP):
		return fault.New(fault.Unreadable, "part %s is a symbolic link that leads back to itself", name)
	case err != nil:
		return fault.New(fault.Unreadable, "part %s cannot be read: %w", name, fault.Reading("", err))
	case info.IsDir():
		return fault.New(fault.Incomplete, "%s is a folder, where a part should be", name).Advise("fetch that part again")
	}
	return fault.New(fault.Unreadable, "part %s is neither a file nor a link to one", name)
}

// CheckSums reads those parts of an open set that are in the lists, or all of them
// where only the whole is, so many at once (0: one for each processor), and says how many
// sums were checked. A wrong one is of kind fault.Damaged; of several, the first is
// returned, and what comes after it is not read to its end.
func (s *Set) CheckSums(ctx context.Context, r *blob.Joined, sums Sums, workers int) (checked int, err error) {
	layout := s.Layout()
	listed := slices.ContainsFunc(layout, func(p archive.Part) bool { _, known := sums[p.Name]; return known })
	_, known := sums[s.Name]
	if known && !listed && s.Kind != Split && !s.EndsSplit() {
		whole := sha256.New()
		for i := range layout {
			if err := s.read(ctx, r, i, whole); err != nil {
				return 0, err
			}
		}
		_, err := sums.Check(s.Name, whole.Sum(nil))
		return 1, err
	}
	var group errgroup.Group
	group.SetLimit(cmp.Or(max(workers, 0), runtime.GOMAXPROCS(0)))
	errs := make([]error, len(layout))
	var first atomic.Int64 // of the parts that are wrong
	first.Store(int64(len(layout)))
	for i, p := range layout {
		if _, known := sums[p.Name]; !known {
			continue
		}
		checked++
		group.Go(func() error {
			sum := &summed{sha256.New(), int64(i), &first}
			err := s.read(ctx, r, i, sum)
			if err == nil {
				_, err = sums.Check(p.Name, sum.Sum(nil))
			}
			if errs[i] = err; err != nil {
				for at := first.Load(); at > int64(i) && !first.CompareAndSwap(at, int64(i)); at = first.Load() {
				}
			}
			return nil
		})
	}
	group.Wait()
	if at := int(first.Load()); at < len(errs) {
		return 0, errs[at]
	}
	return checked, nil
}

// summed is the sum of a part, as long as none before it is wrong.
type summed struct {
	hash.Hash
	part  int64
	first *atomic.Int64
}

func (s *summed) Write(b []byte) (int, error) {
	if s.first.Load() < s.part {
		return 0, errNotNeeded
	}
	return s.Hash.Write(b)
}

var errNotNeeded = errors.New("a part before it is wrong")

// read passes the bytes of a part on.
func (s *Set) read(ctx context.Context, r *blob.Joined, part int, to io.Writer) error {
	const block = 1 << 20
	size := s.Parts[part].size()
	b := make([]byte, min(block, size))
	for at := int64(0); at < size; at += int64(len(b)) {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		b = b[:min(block, size-at)]
		if _, err := r.ReadFile(part, b, at); err != nil {
			return err
		}
		if _, err := to.Write(b); err != nil {
			return err
		}
	}
	return nil
}
