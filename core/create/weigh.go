package create

import (
	"context"
	"errors"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"widecrate/core/archive"
	"widecrate/core/choose"
	"widecrate/core/codec"
	"widecrate/core/fault"
	"widecrate/core/format/tar"
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
	Sample  int64 // how many bytes are packed at most, all if there are no more; 0: DefaultSample
	AsFiles bool  // archives are weighed as they lie, and not what is in them
}

// Run reads a sample of the sources into memory, and of what is in archives, and packs it in
// every way. Each is reported when it is done. Times are those of the processors.
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
	if w.Selection == nil {
		w.Selection = new(choose.Selection)
	}
	r := &report.Weighed{}
	var taken []*stretch
	for closed := map[string]bool{}; ; {
		all, err := w.survey(ctx, r, closed)
		if err != nil {
			return nil, err
		}
		taken, r.Off, err = all.enough(all.stretches(w.Sample))
		if err == nil {
			break
		}
		unread, is := errors.AsType[*errClosed](err)
		if !is {
			return nil, err
		}
		for _, path := range unread.paths {
			closed[path] = true
		}
	}
	band := r.Off
	var pieces []item
	var deflated []int64
	sampled := map[string]bool{}
	for _, s := range taken {
		pieces, deflated = append(pieces, s.pieces...), append(deflated, s.deflated...)
		for _, p := range s.pieces {
			r.Packed += int64(len(p.text))
			sampled[p.entry.Path] = true
		}
	}
	r.Sampled = len(sampled)
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
			off, err := extrapolate(ctx, way, m, pieces, deflated, r, w.Workers)
			if err != nil {
				return nil, fault.At(way.Name, err)
			}
			r.Off = max(r.Off, band+off)
		}
		r.Ways = append(r.Ways, *m)
		if tell != nil {
			tell(m)
		}
	}
	mark(r.Ways)
	return r, nil
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
	started := cpuTime()
	w, err := way.Format.NewWriter(&size, o.Writing)
	if err == nil {
		err = c.pack(w, &report.Created{})
	}
	if err == nil {
		err = w.Close()
	}
	m := &report.Way{Name: way.Name, Format: way.Format.Name, Method: way.Writing.Method, Size: int64(size), Took: report.Took{Duration: max(cpuTime()-started, time.Microsecond)}}
	if way.Writing.Encode.Set {
		level := int(way.Writing.Encode.Level)
		m.Level = &level
	}
	return m, err
}

// A way is tried several times, for the least of its times, until the runs take longRun together;
// warmUp is how many pieces warm up.
const (
	longRun  = time.Second / 4
	mostRuns = 7
	warmUp   = 8
)

// weighOften packs the pieces in one way, several times.
func weighOften(ctx context.Context, way Way, pieces []item, workers int) (*report.Way, error) {
	m, err := weigh(ctx, way, pieces, workers)
	if err != nil {
		return m, err
	}
	for runs, together := 1, m.Took.Duration; together < longRun && runs < mostRuns; runs++ {
		again, err := weigh(ctx, way, pieces, workers)
		if err != nil {
			return m, err
		}
		together += again.Took.Duration
		m.Took.Duration = min(m.Took.Duration, again.Took.Duration)
	}
	return m, nil
}

// extrapolate estimates the size for everything from what the second half of the
// pieces added to the first: where one file helps to pack the next, more of them
// pack better still. Pieces are compared with what each comes to when it is deflated. It
// returns how far off that may be: as far as what the second half added is from what the second
// quarter did.
func extrapolate(ctx context.Context, way Way, m *report.Way, pieces []item, deflated []int64, r *report.Weighed, workers int) (off float64, err error) {
	stored := way.Writing.Method == codec.Store || way.Format.Name == tar.Format.Name
	add := func(step int) (some []item, sum int64) {
		for i := 0; i < len(pieces); i += step {
			weight := deflated[i]
			if stored {
				weight = int64(len(pieces[i].text))
			}
			some, sum = append(some, pieces[i]), sum+weight
		}
		return some, sum
	}
	_, all := add(1)
	size := m.Size
	var rates []float64 // for a deflated byte: of the second half, and of the second quarter
	for sum, step := all, 2; step <= 4; step *= 2 {
		some, less := add(step)
		if less == sum {
			break
		}
		first, err := weigh(ctx, way, some, workers)
		if err != nil {
			return 0, err
		}
		rates = append(rates, float64(size-first.Size)/float64(sum-less))
		size, sum = first.Size, less
	}
	switch {
	case len(rates) == 0:
		m.Estimate = int64(float64(m.Size) * float64(r.Size) / float64(r.Packed))
		return 0, nil
	case len(rates) == 2 && rates[0] > 0:
		off = math.Abs(rates[1]-rates[0]) / rates[0]
	}
	m.Estimate = m.Size + int64(rates[0]*float64(all)*float64(r.Size-r.Packed)/float64(r.Packed))
	return off, nil
}

// equal is how near two ways count as the same, so that chance decides nothing: then the first
// of them is the better one.
const equal = 0.03

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
		least := best.of(found)
		for i := range ways {
			if best.name != "smallest" && best.of(&ways[i]) <= least*(1+equal) {
				found = &ways[i]
				break
			}
		}
		found.Best = append(found.Best, best.name)
	}
}
