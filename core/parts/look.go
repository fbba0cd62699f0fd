package parts

import (
	"io"
	"strings"

	"widecrate/core/format"
	"widecrate/core/format/tar"
	"widecrate/core/format/zip"
)

// wholes reports whether the files are archives each by itself, from their first
// bytes to their last: a part of an archive that holds archives may well end like
// one, and that of a tar with small files start like one. Of a lone one that can
// only be said when its format has a directory at its end; but a first part of which there are no
// others is what is left of a cut where all fits into one.
func (a *assembly) wholes() bool {
	if a.placed[0] != nil && len(a.placed) == 1 && a.onePart(a.token(0)) {
		return false
	}
	for _, p := range a.placed {
		if !p.isWhole(len(a.placed)) {
			return false
		}
	}
	return true
}

// isWhole reports whether a part, of so many, is an archive by itself.
func (p *Part) isWhole(parts int) bool {
	return p.look(func(file io.ReaderAt, size int64) bool { return isWhole(file, size, parts) })
}

// onePart reports whether a set is one that was cut, though there is only its first part.
func (s *Set) onePart(token string) bool {
	_, known := format.ByName(s.Name)
	return s.Kind == Numbered && known && strings.HasPrefix(token, "0")
}

// isWhole reports whether one of so many files is an archive by itself.
func isWhole(file io.ReaderAt, size int64, files int) bool {
	found, err := format.Identify(file, size)
	switch {
	case err != nil || !found.Identify(file, size):
		return false
	case found.Name == zip.Format.Name:
		n, err := zip.Segments(file, size)
		return err == nil && n == 1
	case found.Name == tar.Format.Name && !endsTar(file, size):
		return false
	}
	return files > 1
}

// endsTar reports whether the last two blocks are zeros, as at the end of a tar
// (POSIX.1, pax Interchange Format).
func endsTar(file io.ReaderAt, size int64) bool {
	var end [1024]byte
	_, err := file.ReadAt(end[:], max(size-int64(len(end)), 0))
	return (err == nil || err == io.EOF) && end == [1024]byte{}
}

// look opens a part for a short look.
func (p *Part) look(at func(r io.ReaderAt, size int64) bool) bool {
	b, err := p.Data()
	if err != nil {
		return false
	}
	defer b.Close()
	return at(b, b.Size())
}

// EndsSplit reports whether a set that is not called so is a split ZIP archive.
func (s *Set) EndsSplit() bool {
	last := s.Parts[len(s.Parts)-1]
	return last.look(func(r io.ReaderAt, size int64) bool {
		n, err := zip.Segments(r, size)
		return err == nil && n > 1
	})
}
