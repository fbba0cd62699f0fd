package parts

import (
	"io"
	"slices"

	"widecrate/core/blob"
	"widecrate/core/format"
	"widecrate/core/format/zip"
)

// A Get finds a file by its name, where files cannot be listed, with Open; without
// Info it is not there.
type Get func(name string) (blob.File, error)

// Where files can only be asked for, so many that are missing in a row are the end
// of a set, and so many from its start on are enough to know that there is none.
const (
	missingAtEnd   = 2
	missingAtStart = 16
)

// Ask returns the set that a file of this name is part of; nil if there is none.
func Ask(name string, get Get) (*Set, error) {
	r, is := roleOf(name)
	if !is {
		return nil, nil
	}
	s := newSequence(r.kind, []string{r.token})
	named, ok := s.position(r.token)
	_, known := format.ByName(r.whole)
	padded := len(r.token) >= 3 && r.token[0] == '0'
	if !ok || r.kind != Named && r.kind != Split && !known && !padded && named > 0 { // a version, perhaps
		return nil, nil
	}
	q := asking{role: r, sequence: s, get: get, set: &Set{Name: r.whole, Kind: r.kind, Total: r.total}}
	if err := q.ask(named); err != nil {
		return nil, err
	}
	switch {
	case q.set.Found() == 0:
		return nil, nil
	case r.kind == Split:
		return q.set, q.askLast()
	case q.wholes():
		return nil, nil
	}
	return q.set, nil
}

// AskSplit returns the set of which a split ZIP archive with so many segments, found
// as a file of this name, is the last; nil if the name is not that of one.
func AskSplit(name string, segments int64, get Get) (*Set, error) {
	r, is := asLast(name)
	if !is || segments < 2 || segments > 1<<16 {
		return nil, nil
	}
	q := asking{role: r, sequence: newSequence(Split, []string{"01"}), get: get, set: &Set{Name: name, Kind: Split}}
	q.total = int(segments) - 1
	if err := q.ask(0); err != nil {
		return nil, err
	}
	return q.set, q.askLast()
}

// AskLast returns the set of which a file of this name is the last part of a split ZIP archive;
// nil if it is none.
func AskLast(name string, get Get) (*Set, error) {
	if _, is := asLast(name); !is {
		return nil, nil
	}
	file, err := get(name)
	if err != nil || file.Info == nil {
		return nil, err
	}
	data, err := file.Open()
	if err != nil {
		return nil, err
	}
	defer data.Close()
	segments, err := zip.Segments(data, data.Size())
	if err != nil {
		return nil, nil // no ZIP archive: whoever asked says that the file is part of no set
	}
	return AskSplit(name, segments, get)
}

// asking is a set in the making.
type asking struct {
	role
	sequence
	get Get
	set *Set
}

// ask asks for the parts in order, at least up to the one that was named.
func (q *asking) ask(named int) error {
	if q.kind != Lettered && q.kind != Split && q.first > 0 { // some count from 0
		q.first = 0
		zero, err := q.get(q.before + q.sequence.token(0) + q.after)
		if err != nil {
			return err
		}
		if q.first = 1; zero.Info != nil {
			q.first = 0
			named++
		}
	}
	missing := 0
	for at := 0; q.total == 0 || at < q.total; at++ {
		file, err := q.get(q.before + q.sequence.token(at) + q.after)
		if err != nil {
			return err
		}
		q.set.Parts = append(q.set.Parts, Part{File: file})
		if missing++; file.Info != nil {
			missing = 0
		}
		if q.total == 0 && at > named && missing >= missingAtEnd || missing == at+1 && missing >= missingAtStart {
			break
		}
	}
	for last := len(q.set.Parts) - 1; q.total == 0 && last > named && q.set.Parts[last].Info == nil; last-- {
		q.set.Parts = q.set.Parts[:last]
	}
	return nil
}

// askLast asks for the last part of a split ZIP archive, which says how many there
// are.
func (q *asking) askLast() error {
	file, err := q.get(q.set.Name)
	if err != nil {
		return err
	}
	if file.Info != nil {
		data, err := file.Open()
		if err != nil {
			return err
		}
		defer data.Close()
		segments, err := zip.Segments(data, data.Size())
		for err == nil && len(q.set.Parts) < int(min(segments, 1<<16))-1 {
			name := q.before + q.sequence.token(len(q.set.Parts)) + q.after
			q.set.Parts = append(q.set.Parts, Part{File: blob.File{Path: name}})
		}
	}
	q.set.Parts = append(q.set.Parts, Part{File: file})
	return nil
}

// wholes is that of an assembly.
func (q *asking) wholes() bool {
	found := q.set.Found()
	if len(q.set.Parts) == 1 && q.set.onePart(q.sequence.token(0)) {
		return false
	}
	return !slices.ContainsFunc(q.set.Parts, func(p Part) bool {
		if p.Info == nil {
			return false
		}
		data, err := p.Open()
		if err != nil {
			return true
		}
		defer data.Close()
		return !isWhole(io.NewSectionReader(data, 0, data.Size()), data.Size(), found)
	})
}

// Elsewhere reports whether the parts lie somewhere else than on disk.
func (s *Set) Elsewhere() bool {
	return slices.ContainsFunc(s.Parts, func(p Part) bool { return p.Remote })
}
