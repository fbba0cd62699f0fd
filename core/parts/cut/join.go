package cut

import (
	"context"
	"crypto/sha256"
	"errors"
	"hash"
	"io"
	"path/filepath"
	"sync"
	"sync/atomic"

	"widecrate/core/archive"
	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/format/zip"
	"widecrate/core/newfile"
	"widecrate/core/parts"
	"widecrate/core/storage"
)

// joining is a set that is put together.
type joining struct{ *parts.Set }

// Joined is what became of a set.
type Joined struct {
	Path   string
	Size   int64
	Summed int  // parts and wholes that were checked against a list of sums
	Zip    bool // a split ZIP archive became an ordinary one
}

// Join puts a set together into one file at path (empty: beside its parts, called
// what they have in common), and checks it against the
// lists of SHA-256 sums that lie beside its parts, or were given. The parts of a split ZIP
// archive become an ordinary one: what is packed stays as it is. It counts in read
// how many bytes it has read so far.
func Join(ctx context.Context, set *parts.Set, path string, replace bool, lists *parts.Lists, read *atomic.Int64) (Joined, error) {
	s := joining{set}
	if path == "" {
		path = filepath.Join(filepath.Dir(set.Path()), set.Name)
	}
	j := Joined{Path: path}
	if err := s.Check(); err != nil {
		return j, fault.At(s.Path(), err)
	}
	sums, err := lists.Of(set)
	if err != nil {
		return j, err
	}
	out, err := newfile.Create(path, replace)
	if err != nil {
		return j, err
	}
	r := s.Open()
	r.Read = read
	defer r.Close()
	if s.Kind == parts.Split || s.EndsSplit() {
		j.Zip = true
		err = s.joinZIP(ctx, r, out, sums, &j)
	} else {
		err = s.joinCut(ctx, r, out.File, sums, &j)
	}
	if err == nil {
		j.Size, err = out.Size()
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
	return j, out.Commit()
}

// locate says where an error is that does not say so itself.
func locate(where string, err error) error {
	if e, ok := errors.AsType[*fault.Error](err); ok && e.Where == "" {
		return fault.At(where, err)
	}
	return err
}

// joinCut copies the parts one after the other.
func (s joining) joinCut(ctx context.Context, r *blob.Joined, out io.Writer, sums parts.Sums, j *Joined) error {
	whole, err := s.summing(ctx, r, out, sums, j)
	if err != nil || whole == nil {
		return err
	}
	known, err := sums.Check(s.Name, whole.Sum(nil))
	if known {
		j.Summed++
	}
	return err
}

// copySize is how much is copied at a time.
const copySize = 64 << 20

// summing reads all parts, writes them to out, and checks each against the list. It
// returns the sum of the whole, if that is in the list.
func (s joining) summing(ctx context.Context, r *blob.Joined, out io.Writer, sums parts.Sums, j *Joined) (whole hash.Hash, err error) {
	if _, known := sums[s.Name]; known {
		whole = sha256.New()
	}
	block := make([]byte, blockSize)
	for i, p := range s.Layout() {
		var sum hash.Hash
		if _, known := sums[p.Name]; known {
			sum = sha256.New()
		}
		for at := int64(0); at < p.Size; {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			if sum == nil && whole == nil { // nobody has to look at it
				n := min(copySize, p.Size-at)
				copied, err := r.CopyFile(i, out, at, n)
				if err != nil {
					return nil, err
				}
				if copied {
					at += n
					continue
				}
			}
			b := block[:min(blockSize, p.Size-at)]
			if _, err := r.ReadFile(i, b, at); err != nil {
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
		if _, err := sums.Check(p.Name, sum.Sum(nil)); err != nil {
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
	_, err = out.Write(b)
	group.Wait()
	return err
}

// joinZIP copies the records of a split ZIP archive to their new places.
func (s joining) joinZIP(ctx context.Context, r *blob.Joined, out io.Writer, sums parts.Sums, j *Joined) error {
	var err error
	if j.Summed, err = s.CheckSums(ctx, r, sums, 1); err != nil {
		return err
	}
	z, err := zip.Open(r, r.Size(), archive.Options{Parts: s.Layout()})
	if err != nil {
		return err
	}
	w := zip.NewWriter(out, archive.WriteOptions{})
	if err := w.Copy(ctx, z); err != nil {
		return err
	}
	return w.Close()
}

// Split cuts a file into parts in the folder into (empty: that of the file), made if
// missing, or rewrites a ZIP archive as a split one. It counts in read how many bytes it
// has read so far.
func Split(ctx context.Context, path, into string, cut Options, read *atomic.Int64) (Written, error) {
	f, err := blob.Open(path)
	if err != nil {
		return Written{}, fault.At(path, err)
	}
	defer f.Close()
	if f.Size() == 0 {
		return Written{}, fault.At(path, fault.New(fault.Refused, "it is empty: there is nothing to cut"))
	}
	if into == "" {
		into = filepath.Dir(path)
	}
	into = storage.Absolute(into)
	if read == nil {
		read = new(atomic.Int64)
	}
	if cut.PartSize > 0 && f.Size()/cut.PartSize >= mostParts {
		return Written{}, fault.At(path, tooMany())
	}
	w, err := Create(storage.Join(into, filepath.Base(path)), cut)
	if err != nil {
		return Written{}, err
	}
	if cut.Style == ZIP {
		err = splitZIP(ctx, &input{ctx, f, read}, w)
	} else {
		_, err = w.ReadFrom(io.NewSectionReader(&input{ctx, f, read}, 0, f.Size()))
	}
	if err == nil { // nor did it become longer
		err = f.Files()[0].Unchanged()
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

// input reads a file until ctx is cancelled.
type input struct {
	ctx  context.Context
	blob blob.Blob
	read *atomic.Int64
}

func (in *input) ReadAt(p []byte, at int64) (int, error) {
	if err := in.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := in.blob.ReadAt(p, at)
	in.read.Add(int64(n))
	if err != nil && err != io.EOF {
		err = fault.Reading("", err)
	}
	return n, err
}

func splitZIP(ctx context.Context, in *input, w *Writer) error {
	z, err := zip.Open(in, in.blob.Size(), archive.Options{})
	if err != nil {
		if fault.Of(err) == fault.Damaged {
			err = fault.New(fault.Damaged, "it is no whole ZIP archive: %w", err).Suggest(fault.NumberedParts)
		}
		return err
	}
	if z.Front() > 0 {
		return fault.New(fault.Usage, "%d bytes stand in front of the archive in it, and would be lost", z.Front()).
			Suggest(fault.NumberedParts)
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
