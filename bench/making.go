package main

import (
	"fmt"
	"image/color"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"widecrate/core/codec"
)

// perKind is how much there is of a kind of data, at most.
const perKind = 8_000_000

// kinds writes data of eight kinds into files: what people pack, as far as this machine has
// it, and the rest made by code.
func (b *bench) kinds(python string) (paths []string) {
	r := rand.New(rand.NewPCG(9, 9))
	library := b.python(python, `import sysconfig; print(sysconfig.get_paths()["stdlib"])`)
	for name, data := range map[string][]byte{
		"go.txt":     sourceText(b),
		"python.txt": filesBelow(library, ".py"),
		"go.bin":     machineCode(b),
		"c.bin":      filesBelow(library, ".so"),
		"levels.csv": table(r, perKind),
		"json.txt":   lines(r, `{"id":%d,"station":"station-%02d","position":{"lat":%.5f,"lon":%.5f},"level":%.3f,"valid":%t}`),
		"log.txt":    lines(r, `2026-05-01T%d [INFO] worker-%02d took=%.1fms at=%.5f bytes=%.0f cached=%t`),
		"dump.txt":   lines(r, `INSERT INTO observations VALUES (%d,'station-%02d',%.4f,%.4f,'`+string(words(r, 60))+`',%.2f,%t);`),
	} {
		path := filepath.Join(b.dir, name)
		must(os.WriteFile(path, data[:min(len(data), perKind)], 0o666))
		paths = append(paths, path)
	}
	return paths
}

// lines are of a format that takes two numbers, three fractions and a truth.
func lines(r *rand.Rand, format string) []byte {
	var text []byte
	for i := 0; len(text) < perKind; i++ {
		text = fmt.Appendf(text, format+"\n", 100_000+7*i, r.IntN(40), 50+8*r.Float64(), 9*r.Float64(), 1000*r.ExpFloat64(), r.IntN(10) > 0)
	}
	return text
}

// filesBelow is what lies there in files of an extension, up to perKind.
func filesBelow(dir, extension string) (text []byte) {
	must(filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() && strings.HasSuffix(path, extension) && len(text) < perKind {
			var file []byte
			file, err = os.ReadFile(path)
			text = append(text, file...)
		}
		return err
	}))
	return text
}

// A made is what became of the kinds of data: the size of each, and the time for all.
type made struct {
	sizes []int
	took  time.Duration
}

func (m made) total() (n int) {
	for _, size := range m.sizes {
		n += size
	}
	return n
}

// native compresses files with the native library, on one core.
func (b *bench) native(python string, paths []string, level int) (m made) {
	text := fmt.Sprintf("import zlib,time\nfor p in %q.split():\n d=open(p,'rb').read(); t=time.process_time(); n=len(zlib.compress(d,%d)); print(n, '%%.6fs'%%(time.process_time()-t))",
		strings.Join(paths, " "), level)
	for line := range strings.Lines(b.python(python, text)) {
		var size int
		var took string
		fmt.Sscan(line, &size, &took)
		d, err := time.ParseDuration(took)
		must(err)
		m.sizes, m.took = append(m.sizes, size), m.took+d
	}
	return m
}

// own compresses files with ours, on so many cores; 0: all.
func own(paths []string, level codec.Level, cores int) (m made) {
	method, ok := codec.ByName(codec.Zlib)
	if !ok {
		panic("no such method")
	}
	for _, path := range paths {
		data, err := os.ReadFile(path)
		must(err)
		var n length
		started := time.Now()
		enc, err := method.Encode(&n, codec.EncodeOptions{Level: level, Set: true, Workers: cores})
		must(err)
		_, err = enc.Write(data)
		must(err)
		must(enc.Close())
		m.took += time.Since(started)
		m.sizes = append(m.sizes, int(n))
	}
	return m
}

// length counts what is written.
type length int64

func (n *length) Write(p []byte) (int, error) {
	*n += length(len(p))
	return len(p), nil
}

// making compares our encoder of deflate with the native library, each at a level, by one
// of the measures below.
func making(level codec.Level, theirs, cores int, measure func(own, native made) float64) func(*bench) result {
	return func(b *bench) result {
		python, err := exec.LookPath("python3")
		if err != nil {
			return result{value: skipped}
		}
		paths := b.kinds(python)
		var r result
		var values, floors []float64
		var took []time.Duration
		own(paths, level, cores)
		for range b.runs {
			n, o := b.native(python, paths, theirs), own(paths, level, cores)
			values, floors, took = append(values, measure(o, n)), append(floors, n.took.Seconds()), append(took, o.took)
		}
		r.value, r.floor, r.ours = median(values), median(floors), median(took)
		return r
	}
}

func byTime(own, native made) float64 { return own.took.Seconds() / native.took.Seconds() }

func bySize(own, native made) float64 { return float64(own.total()) / float64(native.total()) }

// byLargest is the size of the kind for which we are worst.
func byLargest(own, native made) (worst float64) {
	for i, size := range own.sizes {
		worst = max(worst, float64(size)/float64(native.sizes[i]))
	}
	return worst
}

// drawFrontier draws size against time for all levels, ours and the native library's.
func (b *bench) drawFrontier(path string) {
	python, err := exec.LookPath("python3")
	must(err)
	paths := b.kinds(python)
	whole := 0.0
	for _, path := range paths {
		info, err := os.Stat(path)
		must(err)
		whole += float64(info.Size())
	}
	p := newPlot("Deflate: size against time, levels 1 to 9", "seconds for 100 MB of eight kinds of data, one core", "size, in % of the data")
	p.Legend.Left = false
	p.X.Scale, p.X.Tick.Marker = plot.LogScale{}, plot.ConstantTicks(seconds(0.5, 1, 2, 5, 10, 20))
	lines := []struct {
		of    string
		color color.RGBA
		make  func(level int) made
	}{
		{"this program", color.RGBA{0x1f, 0x6f, 0xa8, 0xff}, func(level int) made { return own(paths, codec.Level(level), 1) }},
		{"native library", color.RGBA{0xb8, 0x5c, 0x1e, 0xff}, func(level int) made { return b.native(python, paths, level) }},
	}
	points := make([]plotter.XYs, len(lines))
	for run := range b.runs { // the least of all runs, each of which measures everything
		for k, line := range lines {
			for level := 1; level <= int(codec.Best); level++ {
				m := line.make(level)
				at := plotter.XY{X: m.took.Seconds() * 1e8 / whole, Y: 100 * float64(m.total()) / whole}
				if run == 0 {
					points[k] = append(points[k], at)
				}
				points[k][level-1].X = min(points[k][level-1].X, at.X)
			}
		}
	}
	for k, line := range lines {
		var names []string
		for i, at := range points[k] {
			names = append(names, fmt.Sprint(i+1))
			fmt.Printf("%-14s  level %d  %7.3f s  %6.2f %%\n", line.of, i+1, at.X, at.Y)
		}
		addCurve(p, line.of, points[k], line.color)
		labels, err := plotter.NewLabels(plotter.XYLabels{XYs: points[k], Labels: names})
		must(err)
		labels.Offset = vg.Point{X: vg.Points(4), Y: vg.Points(4)}
		p.Add(labels)
	}
	must(p.Save(24*vg.Centimeter, 15*vg.Centimeter, path))
}

func seconds(at ...float64) (ticks []plot.Tick) {
	for _, s := range at {
		ticks = append(ticks, plot.Tick{Value: s, Label: fmt.Sprint(s)})
	}
	return ticks
}

// newPlot is an empty chart.
func newPlot(title, x, y string) *plot.Plot {
	p := plot.New()
	p.Title.Text, p.X.Label.Text, p.Y.Label.Text = title, x, y
	p.Title.Padding, p.X.Label.Padding, p.Y.Label.Padding = vg.Points(8), vg.Points(4), vg.Points(4)
	p.Legend.Top, p.Legend.Left, p.Legend.Padding = true, true, vg.Points(3)
	p.Legend.XOffs, p.Legend.YOffs = vg.Points(8), -vg.Points(8)
	p.Add(plotter.NewGrid())
	return p
}

func addCurve(p *plot.Plot, of string, points plotter.XYs, c color.RGBA) {
	line, dots, err := plotter.NewLinePoints(points)
	must(err)
	line.Color, line.Width, dots.Color, dots.Shape = c, vg.Points(2), c, draw.CircleGlyph{}
	p.Add(line, dots)
	p.Legend.Add(of, line)
}
