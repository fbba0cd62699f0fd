package create

import (
	"context"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"widecrate/core/archive"
	"widecrate/core/codec"
	"widecrate/core/fault"
	"widecrate/core/folder"
	"widecrate/core/report"
)

// A Way is a way to pack: "zip", "zip:zstd", "tar.gz@best", "zip:bzip2@1".
type Way struct {
	Name    string
	Format  archive.Format
	Writing archive.WriteOptions
}

// Ways are those that are weighed when nothing else is said.
var Ways = []string{"zip:store", "zip@fast", "zip", "zip@best", "zip:zstd", "tar.gz", "tar.lz4", "tar.zst", "tar.zst@best", "tar.bz2", "tar.xz"}

// DefaultSample is how many bytes are packed when nothing else is said.
const DefaultSample = 64 << 20

// ParseWay reads a way to pack: a format, a method after a colon, a level after
// an at sign. What there is not is of kind fault.Usage.
func ParseWay(text string) (Way, error) {
	rest, level, leveled := strings.Cut(text, "@")
	name, method, _ := strings.Cut(rest, ":")
	f, err := FormatOf("", name)
	if err != nil {
		return Way{}, err
	}
	w := Way{Name: text, Format: f, Writing: archive.WriteOptions{Method: method}}
	if f.HoldsOne {
		return w, fault.New(fault.Usage, "%q holds one file and cannot be weighed with the others", name)
	}
	if leveled {
		value, known := codec.LevelNames[level]
		if !known {
			n, err := strconv.Atoi(level)
			if err != nil || n < 0 || n > int(codec.Best) {
				return w, fault.New(fault.Usage, "the level of %q is none of 0 to 9, fast, normal and best", text)
			}
			value = codec.Level(n)
		}
		w.Writing.Encode = codec.At(value)
	}
	o := Options{Format: f, Writing: w.Writing}
	return w, o.Check()
}

// A Weighing is a request to compare ways to pack.
type Weighing struct {
	Options       // sources, selection and paths
	Ways    []Way // to be tried in this order; nil: Ways
	Sample  int64 // how many bytes are packed, all if there are no more; 0: DefaultSample
}

// largestPiece bounds how much of a sample one file makes up.
const largestPiece = 16

// Run reads a sample of the sources into memory and packs it in every way. Each
// is reported when it is done.
func (w Weighing) Run(ctx context.Context, tell func(*report.Way)) (*report.Weighed, error) {
	if w.Ways == nil {
		for _, name := range Ways {
			way, err := ParseWay(name)
			if err != nil {
				return nil, err
			}
			w.Ways = append(w.Ways, way)
		}
	}
	if w.Sample <= 0 {
		w.Sample = DefaultSample
	}
	w.Complete()
	c := newCollector(ctx, w.Options)
	if err := c.collect(); err != nil {
		return nil, err
	}
	r := &report.Weighed{}
	pieces, err := w.sample(c, r)
	if err != nil {
		return nil, err
	}
	if r.Packed < r.Size {
		if r.Off, err = spread(pieces); err != nil {
			return nil, err
		}
	}
	// The first run of all pays for pages and caches that the others find ready.
	if _, err := weigh(ctx, w.Ways[0], pieces[:min(len(pieces), warmUp)], w.Workers); err != nil {
		return nil, fault.At(w.Ways[0].Name, err)
	}
	for _, way := range w.Ways {
		m, err := weighOften(ctx, way, pieces, w.Workers)
		if err != nil {
			return nil, fault.At(way.Name, err)
		}
		m.Estimate = m.Size
		if r.Packed < r.Size {
			off, err := extrapolate(ctx, way, m, pieces, r, w.Workers)
			if err != nil {
				return nil, fault.At(way.Name, err)
			}
			r.Off = max(r.Off, off)
		}
		r.Ways = append(r.Ways, *m)
		if tell != nil {
			tell(m)
		}
	}
	mark(r.Ways)
	return r, nil
}

// sample reads pieces of the files that lie at even distances, up to the size
// asked for.
func (w Weighing) sample(c *collector, r *report.Weighed) ([]item, error) {
	var files []item
	for _, it := range c.found {
		if it.entry.Kind == archive.File {
			files = append(files, it)
			r.Size += it.entry.Size
		}
	}
	r.Files = len(files)
	piece := max(w.Sample/largestPiece, 1)
	step := 1.0
	if r.Size > w.Sample {
		var eligible int64 // what the files would bring, none more than a piece
		for _, it := range files {
			eligible += min(it.entry.Size, piece)
		}
		step = max(1, float64(eligible)/float64(w.Sample))
	}
	var pieces []item
	for at := 0.0; int(at) < len(files); at += step {
		it := files[int(at)]
		data, err := readPiece(it, r.Size > w.Sample, piece)
		if err != nil {
			return nil, fault.At(it.path, err)
		}
		r.Packed += int64(len(data))
		it.text, it.entry.Size = data, int64(len(data))
		if data == nil {
			it.text = []byte{}
		}
		pieces = append(pieces, it)
	}
	r.Sampled = len(pieces)
	return pieces, nil
}

// readPiece reads a file, or of a larger one a piece from its middle.
func readPiece(it item, cut bool, piece int64) ([]byte, error) {
	if it.text != nil {
		return it.text, nil
	}
	f, _, err := folder.OpenRegular(it.path)
	if err != nil {
		return nil, fault.Reading("", err)
	}
	defer f.Close()
	size, from := it.entry.Size, int64(0)
	if cut && size > piece {
		size, from = piece, (it.entry.Size-piece)/2
	}
	data := make([]byte, size)
	n, err := f.ReadAt(data, from)
	if err == io.EOF {
		err = nil
	}
	return data[:n], fault.Reading("", err)
}

// spread estimates from how differently the pieces compress how far an estimate may
// be off: two standard errors of their mean.
func spread(pieces []item) (float64, error) {
	method, _ := codec.ByName(codec.Deflate)
	var ratios []float64
	var sum float64
	for _, p := range pieces {
		if len(p.text) == 0 {
			continue
		}
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
		ratio := float64(n) / float64(len(p.text))
		ratios, sum = append(ratios, ratio), sum+ratio
	}
	n := float64(len(ratios))
	if n < 2 {
		return 1, nil
	}
	mean, squares := sum/n, 0.0
	for _, ratio := range ratios {
		squares += (ratio - mean) * (ratio - mean)
	}
	return 2 * math.Sqrt(squares/(n-1)/n) / mean, nil
}

// counter counts what is written to it.
type counter int64

func (c *counter) Write(p []byte) (int, error) {
	*c += counter(len(p))
	return len(p), nil
}

// weigh packs the pieces in one way, into nothing.
func weigh(ctx context.Context, way Way, pieces []item, workers int) (*report.Way, error) {
	o := Options{Format: way.Format, Writing: way.Writing, Workers: workers}
	o.Writing.Encode.Workers = workers
	c := newCollector(ctx, o)
	c.found = slices.Clone(pieces)
	var size counter
	started := time.Now()
	w, err := way.Format.NewWriter(&size, o.Writing)
	if err == nil {
		err = c.pack(w, &report.Created{})
	}
	if err == nil {
		err = w.Close()
	}
	m := &report.Way{Name: way.Name, Format: way.Format.Name, Method: way.Writing.Method, Size: int64(size), Took: report.Since(started)}
	if way.Writing.Encode.Set {
		level := int(way.Writing.Encode.Level)
		m.Level = &level
	}
	return m, err
}

// A way that takes less than shortRun is tried several times, for the least of its
// times; warmUp is how many pieces warm up.
const (
	shortRun = 200 * time.Millisecond
	mostRuns = 7
	warmUp   = 8
)

// weighOften packs the pieces in one way, and short ones again.
func weighOften(ctx context.Context, way Way, pieces []item, workers int) (*report.Way, error) {
	m, err := weigh(ctx, way, pieces, workers)
	for runs := 1; err == nil && m.Took.Duration < shortRun && runs < mostRuns; runs++ {
		var again *report.Way
		if again, err = weigh(ctx, way, pieces, workers); err == nil {
			m.Took.Duration = min(m.Took.Duration, again.Took.Duration)
		}
	}
	return m, err
}

// extrapolate estimates the size for everything from what the second half of the
// pieces added to the first: where one file helps to pack the next, more of them
// pack better still. It returns how far that is from a plain proportion, once
// for each doubling up to everything.
func extrapolate(ctx context.Context, way Way, m *report.Way, pieces []item, r *report.Weighed, workers int) (off float64, err error) {
	var half []item
	var bytes int64
	for i := 0; i < len(pieces); i += 2 {
		half = append(half, pieces[i])
		bytes += int64(len(pieces[i].text))
	}
	plain := float64(m.Size) * float64(r.Size) / float64(r.Packed)
	if bytes == r.Packed {
		m.Estimate = int64(plain)
		return 0, nil
	}
	first, err := weigh(ctx, way, half, workers)
	if err != nil {
		return 0, err
	}
	added := float64(m.Size-first.Size) / float64(r.Packed-bytes)
	estimate := float64(m.Size) + added*float64(r.Size-r.Packed)
	m.Estimate = int64(estimate)
	return math.Abs(plain-estimate) / max(estimate, 1) * max(1, math.Log2(float64(r.Size)/float64(r.Packed))), nil
}

// mark finds the smallest, the fastest, and the one with the least product of
// size and the fourth root of time: for half the size, it may take sixteen times
// as long.
func mark(ways []report.Way) {
	for _, best := range []struct {
		name string
		of   func(m *report.Way) float64
	}{
		{"smallest", func(m *report.Way) float64 { return float64(m.Estimate) }},
		{"fastest", func(m *report.Way) float64 { return m.Took.Seconds() }},
		{"best trade", func(m *report.Way) float64 { return float64(m.Estimate) * math.Pow(m.Took.Seconds(), 0.25) }},
	} {
		found := &ways[0]
		for i := range ways {
			if best.of(&ways[i]) < best.of(found) {
				found = &ways[i]
			}
		}
		found.Best = append(found.Best, best.name)
	}
}
