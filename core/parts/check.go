package parts

import (
	"bytes"
	"io"
	"path/filepath"

	"github.com/klauspost/compress/flate"

	"widecrate/core/blob"
	"widecrate/core/fault"
)

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
// held against them when they are read.
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
	if p.Open != nil {
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
