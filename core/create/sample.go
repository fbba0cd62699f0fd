package create

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"math"
	"math/bits"
	"slices"

	"widecrate/core/archive"
	"widecrate/core/bound"
	"widecrate/core/choose"
	"widecrate/core/codec"
	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/report"
	"widecrate/core/source"
	"widecrate/core/walk"
)

// contents are the files that are weighed, one behind the other.
type contents struct {
	ctx    context.Context
	things []thing
	size   int64
}

// thing is a file, or one in an archive.
type thing struct {
	item
	start  int64 // where it begins among all of them
	in     string
	number int // of the entry in that archive
}

// survey finds them: in archives, unless they are to be weighed as they lie, or cannot be read.
func (w Weighing) survey(ctx context.Context, r *report.Weighed, closed map[string]bool) (*contents, error) {
	*r = report.Weighed{Closed: len(closed)}
	o := w.Options
	o.Selection = new(choose.Selection) // of what is in archives, which may be called otherwise
	c := newCollector(ctx, o)
	if err := c.collect(); err != nil {
		return nil, err
	}
	all := &contents{ctx: ctx}
	var left choose.Tally
	for _, it := range c.found {
		if it.entry.Kind != archive.File {
			continue
		}
		if !w.AsFiles && it.path != "" && !closed[it.path] && source.IsArchive(it.path, nil) {
			inside, err := entriesOf(ctx, it, w.Selection, &left)
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			if err == nil {
				all.things = append(all.things, inside...)
				r.Archives++
				continue
			}
			r.Closed++
		}
		if verdict := w.Selection.Judge(&it.entry); verdict != choose.Kept {
			left[verdict]++
			continue
		}
		all.things = append(all.things, thing{item: it})
	}
	if len(all.things) == 0 && left.LeftOut() > 0 {
		return nil, fault.New(fault.NoMatch, "none of %d files matches the selection", left.LeftOut())
	}
	for i := range all.things {
		all.things[i].start = all.size
		all.size += all.things[i].entry.Size
	}
	r.Files, r.Size = len(all.things), all.size
	return all, nil
}

// errClosed is about archives whose data turned out not to be readable.
type errClosed struct{ paths []string }

func (e *errClosed) Error() string { return fmt.Sprintf("%d archives cannot be read", len(e.paths)) }

// entriesOf are the files in an archive. Of one that comes in order, all is decoded.
func entriesOf(ctx context.Context, it item, selection *choose.Selection, left *choose.Tally) (things []thing, err error) {
	a, err := openPacked(ctx, it.path)
	if err != nil {
		return nil, err
	}
	defer a.Close()
	out := *left
	for e, err := range a.Walk(ctx) {
		if err != nil {
			return nil, err
		}
		if e.Kind != archive.File {
			continue
		}
		if e.Encrypted {
			return nil, fault.New(fault.Password, "it is locked")
		}
		if verdict := selection.Judge(e.Entry); verdict != choose.Kept {
			out[verdict]++
			continue
		}
		entry := *e.Entry
		if entry.Size == archive.Unknown {
			if entry.Size, err = io.Copy(io.Discard, reader(ctx, a, e)); err != nil {
				return nil, err
			}
		}
		packed := archive.Entry{Path: it.entry.Path + "/" + entry.Path, Kind: archive.File, Size: entry.Size, Modified: entry.Modified, Mode: entry.Mode, HasMode: entry.HasMode}
		things = append(things, thing{item: item{text: []byte{}, entry: packed}, in: it.path, number: e.Index})
	}
	*left = out
	return things, nil
}

// reader reads an entry within the bounds of its archive.
func reader(ctx context.Context, a *walk.Archive, e *walk.Entry) io.Reader {
	return bound.Meter{Context: ctx, Budget: a.Budget()}.Reader(e)
}

func openPacked(ctx context.Context, path string) (*walk.Archive, error) {
	return walk.Open(ctx, source.Source{Path: path}, walk.Opening{Ordered: true})
}

// A stretch is some bytes of what is weighed.
type stretch struct {
	from, to int64
	pieces   []item  // of the files in it
	deflated []int64 // what each comes to when it is deflated; nil: nobody asked
}

// stretches are where samples are taken: from all over, so many bytes together, in an order in
// which the first few are from all over, too.
func (c *contents) stretches(sample int64) []*stretch {
	if c.size <= sample {
		return []*stretch{{from: 0, to: max(c.size, 1)}}
	}
	length := min(max(sample/64, 16<<10), 1<<20)
	var usual int64 // of a stretch
	const probes = 64
	for i := range int64(probes) {
		from, to := c.around((2*i+1)*c.size/(2*probes), length)
		usual += (to - from) / probes
	}
	count := max(1, sample/max(usual, 1))
	made := make([]*stretch, count)
	end := int64(0)
	for i := range made {
		from, to := c.around((2*int64(i)+1)*c.size/(2*count), length)
		made[i] = &stretch{from: max(from, end), to: max(to, end)}
		end = made[i].to
	}
	spread := make([]*stretch, 0, count)
	width := bits.Len64(uint64(count - 1))
	for i := range uint64(1) << width {
		if at := bits.Reverse64(i) >> (64 - max(width, 1)); width == 0 || at < uint64(count) {
			spread = append(spread, made[at])
		}
	}
	return spread[:count]
}

// around is a stretch of about a length around a place: of files that are not much larger all,
// so that they are packed as they would be.
func (c *contents) around(at, length int64) (from, to int64) {
	whole := func(at int64) (t *thing, is bool) {
		i, exact := slices.BinarySearchFunc(c.things, at, func(t thing, at int64) int { return cmp.Compare(t.start, at) })
		if !exact {
			i--
		}
		t = &c.things[i]
		return t, t.entry.Size <= 4*length
	}
	if t, is := whole(at); is {
		at = t.start
	}
	to = min(at+length, c.size)
	if t, is := whole(to - 1); is {
		to = t.start + t.entry.Size
	}
	return at, to
}

// read fills stretches.
func (c *contents) read(taken []*stretch) error {
	var closed []string
	taken = slices.Clone(taken)
	slices.SortFunc(taken, func(a, b *stretch) int { return cmp.Compare(a.from, b.from) })
	for i := 0; i < len(c.things); {
		to := i + 1
		for c.things[i].in != "" && to < len(c.things) && c.things[to].in == c.things[i].in {
			to++
		}
		err := c.readFrom(c.things[i:to], taken)
		if err != nil && (c.things[i].in == "" || c.ctx.Err() != nil) {
			return cmp.Or(c.ctx.Err(), err)
		}
		if err != nil {
			closed = append(closed, c.things[i].in)
		}
		i = to
	}
	if closed != nil {
		return &errClosed{closed}
	}
	return nil
}

// readFrom fills them from one file, or from those in an archive.
func (c *contents) readFrom(things []thing, taken []*stretch) error {
	last := &things[len(things)-1]
	end := max(last.start+last.entry.Size, things[0].start+1)
	first, _ := slices.BinarySearchFunc(taken, things[0].start, func(s *stretch, at int64) int { return cmp.Compare(s.to, at+1) })
	if first == len(taken) || taken[first].from >= end {
		return nil
	}
	if things[0].in == "" {
		return fault.At(things[0].from(), things[0].fill(taken[first:], nil))
	}
	a, err := openPacked(c.ctx, things[0].in)
	if err != nil {
		return err
	}
	defer a.Close()
	n := 0
	for e, err := range a.Walk(c.ctx) {
		if err == nil && n < len(things) && e.Index == things[n].number {
			err = things[n].fill(taken[first:], reader(c.ctx, a, e))
			n++
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// fill reads what stretches want of a file, in their order, from its data in an archive or from
// the disk.
func (t *thing) fill(taken []*stretch, data io.Reader) error {
	at := int64(0)
	for _, s := range taken {
		from, to := max(s.from-t.start, 0), min(s.to-t.start, t.entry.Size)
		if s.from > t.start+t.entry.Size {
			break
		}
		if from > to || from == to && t.entry.Size > 0 {
			continue
		}
		piece := t.item
		piece.text, piece.entry.Size = make([]byte, to-from), to-from
		var err error
		switch {
		case data != nil:
			if _, err = io.CopyN(io.Discard, data, from-at); err == nil {
				_, err = io.ReadFull(data, piece.text)
			}
			at = to
		case t.text != nil:
			copy(piece.text, t.text[from:to])
		default:
			err = t.readAt(piece.text, from)
		}
		if err != nil {
			return err
		}
		s.pieces = append(s.pieces, piece)
	}
	return nil
}

func (t *thing) readAt(p []byte, from int64) error {
	f, _, err := folder.OpenRegular(t.path)
	if err != nil {
		return fault.Reading("", err)
	}
	defer f.Close()
	if _, err = f.ReadAt(p, from); err == io.EOF {
		err = fmt.Errorf("it is shorter than it was: %w", io.ErrUnexpectedEOF)
	}
	return fault.Reading("", err)
}

// wantedBand is how near an estimate is to be, in 19 of 20 cases, as a share of it.
const wantedBand = 0.10

// enough takes so many stretches that an estimate is as near as that, if they suffice, and
// returns how near it is.
func (c *contents) enough(all []*stretch) (taken []*stretch, band float64, err error) {
	if all[0].from == 0 && all[0].to >= c.size {
		return all, 0, c.read(all)
	}
	if err := c.read(all); err != nil {
		return nil, 0, err
	}
	var ratios []float64
	var sampled int64
	for _, s := range all {
		sampled += s.to - s.from
	}
	total := float64(len(all)) * float64(c.size) / float64(max(sampled, 1)) // of such stretches
	for n := c.least(all); ; n *= 2 {
		n = min(n, len(all))
		for _, s := range all[len(ratios):n] {
			ratio, err := s.ratio()
			if err != nil {
				return nil, 0, err
			}
			ratios = append(ratios, ratio)
		}
		if band = bandOf(ratios, total); band <= wantedBand || n == len(all) {
			taken = slices.Clone(all[:n])
			slices.SortFunc(taken, func(a, b *stretch) int { return cmp.Compare(a.from, b.from) })
			return taken, band, nil
		}
	}
}

// leastSample is how much is packed at least: fewer would not show how files that are alike pack
// together.
const leastSample = 8 << 20

// least is how many stretches make up that, and are enough to tell how they differ.
func (c *contents) least(all []*stretch) int {
	n := 0
	for bytes := int64(0); n < len(all) && (n < 16 || bytes < leastSample); n++ {
		bytes += all[n].to - all[n].from
	}
	return n
}

// ratio is how much of a stretch is left when it is compressed.
func (s *stretch) ratio() (float64, error) {
	method, _ := codec.ByName(codec.Deflate)
	size, all := 0, int64(0)
	for _, p := range s.pieces {
		var n counter
		enc, err := method.Encode(&n, codec.At(codec.Fast))
		if err == nil {
			_, err = enc.Write(p.text)
		}
		if err == nil {
			err = enc.Close()
		}
		if err != nil {
			return 0, err
		}
		size, all = size+len(p.text), all+int64(n)
		s.deflated = append(s.deflated, int64(n))
	}
	return float64(all) / float64(max(size, 1)), nil
}

// bandOf is how far the mean of samples may be from that of so many, in 19 of 20 cases, as a
// share of it.
func bandOf(samples []float64, of float64) float64 {
	n, sum := float64(len(samples)), 0.0
	if n < 2 {
		return 1
	}
	for _, v := range samples {
		sum += v
	}
	mean, squares := sum/n, 0.0
	for _, v := range samples {
		squares += (v - mean) * (v - mean)
	}
	student := 1.96 + 3/(n-1) // about: few say less
	return student * math.Sqrt(squares/(n-1)/n*max(0, 1-n/of)) / mean
}
