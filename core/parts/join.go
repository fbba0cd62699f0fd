package parts

import (
	"context"
	"crypto/sha256"
	"errors"
	"hash"
	"io"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"

	"widecrate/core/archive"
	"widecrate/core/fault"
	"widecrate/core/format/zip"
	"widecrate/core/stage"
)

// Joined is what became of a set.
type Joined struct {
	Path   string
	Size   int64
	Summed int  // parts and wholes that were held against a list of sums
	Zip    bool // a split ZIP archive became an ordinary one
}

// Join puts a set together into one file at path, and holds it against the
// lists of SHA-256 sums that lie beside its parts. The parts of a split ZIP
// archive become an ordinary one: what is packed stays as it is. It counts in read
// how many bytes it has read so far.
func (s *Set) Join(ctx context.Context, path string, replace bool, read *atomic.Int64) (Joined, error) {
	j := Joined{Path: path}
	if err := s.Check(); err != nil {
		return j, fault.At(s.Path(), err)
	}
	sums, err := s.sums()
	if err != nil {
		return j, err
	}
	out, err := stage.Create(path, replace)
	if err != nil {
		return j, err
	}
	r := s.Open()
	r.read = read
	defer r.Close()
	if s.Kind == Split || s.endsSplit() {
		j.Zip = true
		err = s.joinZIP(ctx, r, out, sums, &j)
	} else {
		err = s.joinCut(ctx, r, out, sums, &j)
	}
	if err == nil {
		j.Size, err = out.Seek(0, io.SeekEnd)
		err = fault.Writing(path, err)
	}
	if err == nil && !j.Zip && j.Size != r.Size() {
		err = fault.New(fault.Unreadable, "%d bytes were read where the parts have %d: they changed meanwhile", j.Size, r.Size())
	}
	if err != nil {
		where := s.Path()
		if fault.Of(err) == fault.Unwritable {
			where = path
		}
		return j, errors.Join(locate(where, err), out.Discard())
	}
	return j, out.Commit(replace)
}

// locate says where an error is that does not say so itself.
func locate(where string, err error) error {
	if e, ok := errors.AsType[*fault.Error](err); ok && e.Where == "" {
		return fault.At(where, err)
	}
	return err
}

// sums reads the lists in the folders that the parts lie in.
func (s *Set) sums() (Sums, error) {
	all := Sums{}
	seen := map[string]bool{}
	for _, p := range s.Parts {
		folder := filepath.Dir(p.Path)
		if seen[folder] {
			continue
		}
		seen[folder] = true
		sums, err := ReadSums(folder)
		if err != nil {
			return nil, err
		}
		for name, sum := range sums {
			all[name] = sum
		}
	}
	return all, nil
}

// endsSplit reports whether a set that is not called so is a split ZIP archive.
func (s *Set) endsSplit() bool {
	return look(s.Parts[len(s.Parts)-1].Path, func(file *os.File, size int64) bool {
		n, err := zip.Segments(file, size)
		return err == nil && n > 1
	})
}

// joinCut copies the parts one after the other.
func (s *Set) joinCut(ctx context.Context, r *Reader, out io.Writer, sums Sums, j *Joined) error {
	whole, err := s.summing(ctx, r, out, sums, j)
	if err != nil || whole == nil {
		return err
	}
	known, err := sums.check(s.Name, whole.Sum(nil))
	if known {
		j.Summed++
	}
	return err
}

// summing reads all parts, writes them to out unless that is nil, and holds each
// against the list. It returns the sum of the whole, if that is in the list.
func (s *Set) summing(ctx context.Context, r *Reader, out io.Writer, sums Sums, j *Joined) (whole hash.Hash, err error) {
	if _, known := sums[s.Name]; known && out != nil {
		whole = sha256.New()
	}
	block := make([]byte, blockSize)
	for i, p := range s.Layout() {
		var sum hash.Hash
		if _, known := sums[p.Name]; known {
			sum = sha256.New()
		}
		for at := int64(0); at < p.Size && (out != nil || sum != nil); {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			b := block[:min(blockSize, p.Size-at)]
			if _, err := r.readPart(i, b, at); err != nil {
				return nil, err
			}
			if err := writeAll(b, out, sum, whole); err != nil {
				return nil, fault.Writing(j.Path, err)
			}
			at += int64(len(b))
		}
		if sum == nil {
			continue
		}
		if _, err := sums.check(p.Name, sum.Sum(nil)); err != nil {
			return nil, err
		}
		j.Summed++
	}
	return whole, nil
}

// writeAll writes a block to out, and to the sums meanwhile.
func writeAll(b []byte, out io.Writer, sums ...hash.Hash) (err error) {
	var group sync.WaitGroup
	for _, sum := range sums {
		if sum != nil {
			group.Go(func() { sum.Write(b) })
		}
	}
	if out != nil {
		_, err = out.Write(b)
	}
	group.Wait()
	return err
}

// joinZIP copies the records of a split ZIP archive to their new places.
func (s *Set) joinZIP(ctx context.Context, r *Reader, out io.Writer, sums Sums, j *Joined) error {
	if _, err := s.summing(ctx, r, nil, sums, j); err != nil {
		return err
	}
	z, err := zip.Open(r, r.Size(), archive.Options{Parts: r.layout})
	if err != nil {
		return err
	}
	w := zip.NewWriter(out, archive.WriteOptions{})
	if err := w.Copy(ctx, z); err != nil {
		return err
	}
	return w.Close()
}

// SplitFile cuts a file into parts in a folder, made if missing, or rewrites a ZIP archive as a
// split one. It counts in read how many bytes it has read so far.
func SplitFile(ctx context.Context, path, folder string, cut Cut, read *atomic.Int64) (Written, error) {
	f, err := os.Open(path)
	if err != nil {
		return Written{}, fault.Reading(path, err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = fault.New(fault.Unreadable, "it is no file")
	}
	if err != nil {
		return Written{}, fault.At(path, fault.Reading("", err))
	}
	if cut.PartSize > 0 && info.Size()/cut.PartSize >= mostParts {
		return Written{}, fault.At(path, tooMany())
	}
	if err := os.MkdirAll(folder, 0o777); err != nil {
		return Written{}, fault.Writing(folder, err)
	}
	defer os.Remove(folder) // if nothing came into it
	w, err := Create(filepath.Join(folder, filepath.Base(path)), cut)
	if err != nil {
		return Written{}, err
	}
	if cut.Style == ZIPStyle {
		err = splitZIP(ctx, &input{ctx, f, read}, info.Size(), w)
	} else {
		err = copyFile(&input{ctx, f, read}, info.Size(), w)
	}
	var written Written
	if err == nil {
		written, err = w.Finish()
	}
	if err != nil {
		return Written{}, errors.Join(locate(path, err), w.Discard())
	}
	return written, w.Commit()
}

func copyFile(in *input, size int64, w *Writer) error {
	n, err := w.ReadFrom(in)
	if err == nil && n != size {
		err = fault.New(fault.Unreadable, "it changed while it was read: %d bytes at first, %d now", size, n)
	}
	return err
}

// input reads a file until ctx is cancelled.
type input struct {
	ctx  context.Context
	f    *os.File
	read *atomic.Int64
}

func (in *input) Read(p []byte) (int, error) {
	if err := in.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := in.f.Read(p)
	in.read.Add(int64(n))
	if err != nil && err != io.EOF {
		err = fault.Reading("", err)
	}
	return n, err
}

func (in *input) ReadAt(p []byte, at int64) (int, error) {
	n, err := in.f.ReadAt(p, at)
	in.read.Add(int64(n))
	return n, err
}

func splitZIP(ctx context.Context, in *input, size int64, w *Writer) error {
	z, err := zip.Open(in, size, archive.Options{})
	if err != nil {
		if fault.Of(err) == fault.Damaged {
			err = fault.New(fault.Damaged, "it is no whole ZIP archive: %w", err).Advise("--part-style numbered cuts any file")
		}
		return err
	}
	if z.Front() > 0 {
		return fault.New(fault.Usage, "%d bytes stand in front of the archive in it, and would be lost", z.Front()).
			Advise("--part-style numbered cuts any file")
	}
	out, err := zip.NewSplitWriter(w, archive.WriteOptions{})
	if err != nil {
		return err
	}
	if err := out.Copy(ctx, z); err != nil {
		return err
	}
	return out.Close()
}
