package cli

import (
	"bytes"
	"fmt"
	"image/color"
	"path/filepath"
	"strings"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"

	"widecrate/cli/show"
	"widecrate/core/fault"
	"widecrate/core/newfile"
	"widecrate/core/report"
)

var (
	water  = color.RGBA{0x1f, 0x6f, 0xa8, 0xff}
	chosen = color.RGBA{0x2e, 0x8b, 0x57, 0xff}
)

// drawChart draws a bar for each way, with its size and time beside it; the
// marked ones stand out.
func drawChart(r *report.Weighed, path string) error {
	p := plot.New()
	p.Title.Text = "Size by way of packing"
	p.Title.Padding = vg.Points(12)
	p.X.Label.Text = "size, MiB"
	if r.Packed < r.Size {
		p.X.Label.Text = fmt.Sprintf("estimated size, MiB (up to %.0f %% off)", 100*r.Off)
	}
	results := r.Ways
	names := make([]string, len(results))
	var sizes, marked plotter.Values
	labels := plotter.XYLabels{}
	largest := 0.0
	for i := range results {
		m := &results[len(results)-1-i] // the first at the top
		size := float64(m.Estimate) / (1 << 20)
		largest = max(largest, size)
		best := m.Best()
		names[i] = "  " + m.Name
		if best == nil {
			sizes, marked = append(sizes, size), append(marked, 0)
		} else {
			sizes, marked = append(sizes, 0), append(marked, size)
		}
		text := fmt.Sprintf(" %s, %s  %s", show.Size(m.Estimate), took(m.Took), strings.Join(best, ", "))
		labels.XYs = append(labels.XYs, plotter.XY{X: size, Y: float64(i) - 0.12})
		labels.Labels = append(labels.Labels, text)
	}
	for _, bars := range []struct {
		values plotter.Values
		color  color.Color
	}{{sizes, water}, {marked, chosen}} {
		chart, err := plotter.NewBarChart(bars.values, vg.Points(18))
		if err != nil {
			return err
		}
		chart.Horizontal = true
		chart.Color, chart.LineStyle.Width = bars.color, 0
		p.Add(chart)
	}
	text, err := plotter.NewLabels(labels)
	if err != nil {
		return err
	}
	p.Add(text)
	p.NominalY(names...)
	p.X.Min, p.X.Max = 0, largest*1.5
	drawn, err := p.WriterTo(24*vg.Centimeter, vg.Length(len(results)+3)*vg.Points(30), strings.TrimPrefix(strings.ToLower(filepath.Ext(path)), "."))
	if err != nil {
		return err
	}
	var b bytes.Buffer
	if _, err := drawn.WriteTo(&b); err != nil {
		return err
	}
	out, err := newfile.Create(path, true)
	if err != nil {
		return err
	}
	if _, err := out.Write(b.Bytes()); err != nil {
		_ = out.Discard() // the first error says what is wrong
		return fault.Writing(path, err)
	}
	return out.Commit(true)
}
