package parts

import (
	"slices"

	"widecrate/core/blob"
	"widecrate/core/format"
	"widecrate/core/storage"
)

// Where files can only be asked for, so many that are missing in a row are the end
// of a set, and so many from its start on are enough to know that there is none.
const (
	missingAtEnd   = 2
	missingAtStart = 16
)

// missing is a file that is not there.
func (l *Lookup) missing(folder, name string) blob.File {
	return blob.File{Path: storage.Join(folder, name)}
}

// ask returns the set that a file is part of, where its folder cannot be listed; nil if there is none.
func (l *Lookup) ask(path string) (*Set, error) {
	r, is := roleOf(storage.Base(path))
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
	q := asking{Lookup: l, role: r, sequence: s, folder: storage.Dir(path), set: &Set{Name: r.whole, Kind: r.kind, Total: r.total}}
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

// split returns the set of which a split ZIP archive with so many segments, found
// as a file of this path, is the last; nil if the name is not that of one.
func (l *Lookup) split(path string, segments int64) (*Set, error) {
	name := storage.Base(path)
	r, is := asLast(name)
	if !is || segments < 2 || segments > 1<<16 {
		return nil, nil
	}
	q := asking{Lookup: l, role: r, sequence: newSequence(Split, []string{"01"}), folder: storage.Dir(path), set: &Set{Name: name, Kind: Split, Total: int(segments)}}
	q.total = int(segments) - 1
	if err := q.ask(0); err != nil {
		return nil, err
	}
	return q.set, q.askLast()
}

// asking is a set in the making.
type asking struct {
	*Lookup
	role
	sequence
	folder string
	set    *Set
}

// get asks for a part. One that is there, and is of no use, is a part all the same.
func (q *asking) get(name string) (Part, error) {
	path := storage.Join(q.folder, name)
	file, err := q.resolve(path)
	return partOf(path, file, nil), err
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
		part, err := q.get(q.before + q.sequence.token(at) + q.after)
		if err != nil {
			return err
		}
		q.set.Parts = append(q.set.Parts, part)
		if missing++; part.Info != nil {
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
	last, err := q.get(q.set.Name)
	if err != nil {
		return err
	}
	for segments := int(segmentsOf(&last)); len(q.set.Parts) < segments-1; {
		q.set.Parts = append(q.set.Parts, Part{File: q.missing(q.folder, q.before+q.sequence.token(len(q.set.Parts))+q.after)})
	}
	q.set.Parts = append(q.set.Parts, last)
	return nil
}

// wholes is that of an assembly.
func (q *asking) wholes() bool {
	found := q.set.Found()
	if len(q.set.Parts) == 1 && q.set.onePart(q.sequence.token(0)) {
		return false
	}
	return !slices.ContainsFunc(q.set.Parts, func(p Part) bool { return p.Info != nil && !p.isWhole(found) })
}

// Elsewhere reports whether the parts lie somewhere else than on disk.
func (s *Set) Elsewhere() bool {
	return slices.ContainsFunc(s.Parts, func(p Part) bool { return p.Remote })
}
