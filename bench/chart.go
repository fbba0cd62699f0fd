package main

import (
	"fmt"
	"image/color"
	"io"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"time"

	"github.com/dustin/go-humanize"
	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"

	"widecrate/core/archive"
	"widecrate/core/format/zip"
)

// A curve is the time of a run against how much there is of something.
type curve struct {
	of    string
	first int // a step is ten times the one before
	make  func(in string, n int)
	args  []string
	color color.RGBA
}

var curves = []curve{
	{"archives of one small file", 10, archives, nil, color.RGBA{0x1f, 0x6f, 0xa8, 0xff}},
	{"small files in one archive", 100, entries, nil, color.RGBA{0x2e, 0x8b, 0x57, 0xff}},
	{"KB in one file", 1000, kilobytes, []string{"--max-ratio", "2000"}, color.RGBA{0xb8, 0x5c, 0x1e, 0xff}},
}

// steps are four decades.
const steps = 5

// drawGrowth measures the curves, and draws time against count.
func (b *bench) drawGrowth(path string) {
	p := newPlot("Time of extract against what there is", "count", "seconds beyond those that the program takes to start")
	p.X.Scale, p.Y.Scale = plot.LogScale{}, plot.LogScale{}
	p.X.Tick.Marker, p.Y.Tick.Marker = decades{}, decades{}
	begin := b.alone("--help").ours
	for _, c := range curves {
		var points plotter.XYs
		for i, n := 0, c.first; i < steps; i, n = i+1, 10*n {
			took := b.curve(c, n) - begin
			points = append(points, plotter.XY{X: float64(n), Y: max(took.Seconds(), 1e-3)})
			fmt.Printf("%-28s  %9d  %8.3f s\n", c.of, n, took.Seconds())
		}
		addCurve(p, c.of, points, c.color)
	}
	p.Y.Min, p.Y.Max = 1e-3, 100
	must(p.Save(24*vg.Centimeter, 15*vg.Centimeter, path))
}

// decades marks powers of ten, in plain numbers.
type decades struct{}

func (decades) Ticks(low, high float64) (ticks []plot.Tick) {
	for at := math.Floor(math.Log10(low)); at <= math.Ceil(math.Log10(high)); at++ {
		value := math.Pow(10, at)
		ticks = append(ticks, plot.Tick{Value: value, Label: humanize.Commaf(value)})
	}
	return ticks
}

// curve is the median time of an extraction of n of what a curve is about.
func (b *bench) curve(c curve, n int) time.Duration {
	in, out := filepath.Join(b.dir, "in"), filepath.Join(b.dir, "out")
	must(os.MkdirAll(in, 0o777))
	defer os.RemoveAll(in)
	c.make(in, n)
	var took []time.Duration
	for range min(b.runs, 3) {
		took = append(took, b.time(append([]string{"extract", in, "--recursive", "--into", out, "-q"}, c.args...)...))
		must(os.RemoveAll(out))
	}
	return median(took)
}

func archives(in string, n int) {
	one := filepath.Join(in, "one")
	write(one, func(add func(string, []byte)) { add("levels.csv", []byte("level\n1.23\n")) })
	data, err := os.ReadFile(one)
	must(err)
	must(os.Remove(one))
	for a := range n {
		folder := filepath.Join(in, fmt.Sprintf("%04d", a/1000))
		if a%1000 == 0 {
			must(os.MkdirAll(folder, 0o777))
		}
		must(os.WriteFile(filepath.Join(folder, fmt.Sprintf("day-%07d.zip", a)), data, 0o666))
	}
}

func entries(in string, n int) {
	write(filepath.Join(in, "survey.zip"), func(add func(string, []byte)) {
		for i := range n {
			add(fmt.Sprintf("%04d/level-%07d.csv", i/1000, i), []byte("level\n1.23\n"))
		}
	})
}

func kilobytes(in string, n int) {
	f, err := os.Create(filepath.Join(in, "survey.zip"))
	must(err)
	w := zip.NewWriter(f, archive.WriteOptions{})
	size := int64(n) * 1000
	_, err = w.Add(archive.Entry{Path: "grid.dat", Size: size}, io.LimitReader(&endless{piece: words(rand.New(rand.NewPCG(7, 7)), 1_000_000)}, size))
	must(err)
	must(w.Close())
	must(f.Close())
}

// endless repeats a piece that is longer than what a packer looks back to.
type endless struct {
	piece []byte
	at    int
}

func (e *endless) Read(p []byte) (int, error) {
	n := copy(p, e.piece[e.at:])
	e.at = (e.at + n) % len(e.piece)
	return n, nil
}
