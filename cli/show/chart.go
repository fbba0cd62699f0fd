package show

import (
	"fmt"
	"path/filepath"
	"strings"

	"github.com/go-analyze/charts"

	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/newfile"
	"widecrate/core/report"
	"widecrate/core/storage"
)

var (
	water  = charts.ColorRGB(0x1f, 0x6f, 0xa8)
	chosen = charts.ColorRGB(0x2e, 0x8b, 0x57)
	ink    = charts.ColorRGB(0x22, 0x22, 0x22)
	faint  = charts.ColorRGB(0x70, 0x70, 0x70)
)

// Chart draws a bar for each way, with its size and time beside it; the
// marked ones stand out.
func Chart(r *report.Weighed, path string) error {
	const width, top, row, margin, gap = 960, 84, 44, 24, 12
	p := charts.NewPainter(charts.PainterOptions{Width: width, Height: top + row*len(r.Ways) + margin,
		OutputFormat: strings.TrimPrefix(strings.ToLower(filepath.Ext(path)), ".")})
	p.FilledRect(0, 0, p.Width(), p.Height(), charts.ColorWhite, charts.ColorWhite, 0)
	text := charts.NewFontStyleWithSize(13).WithColor(ink)
	p.Text("Size by way of packing", margin, 36, 0, charts.NewFontStyleWithSize(18).WithColor(ink))
	below := "packed as a whole"
	if r.Packed < r.Size {
		below = fmt.Sprintf("estimated, up to %.0f %% off", 100*r.Off)
	}
	p.Text(below, margin, 62, 0, charts.NewFontStyleWithSize(11).WithColor(faint))

	names, labels, largest := 0, 0, int64(1)
	label := make([]string, len(r.Ways))
	for i := range r.Ways {
		w := &r.Ways[i]
		label[i] = fmt.Sprintf("%s, %s", Size(w.Estimate), seconds(w.Took.Duration))
		if w.Best != nil {
			label[i] += "  " + strings.Join(w.Best, ", ")
		}
		name, beside := p.MeasureText(w.Name, 0, text), p.MeasureText(label[i], 0, text)
		names, labels, largest = max(names, name.Width()), max(labels, beside.Width()), max(largest, w.Estimate)
	}
	start := margin + names + gap
	room := width - margin - gap - labels - start
	for i := range r.Ways {
		w := &r.Ways[i]
		y, color := top+row*i, water
		if w.Best != nil {
			color = chosen
		}
		long := max(1, int(int64(room)*w.Estimate/largest))
		p.FilledRect(start, y, start+long, y+row-16, color, color, 0)
		name := p.MeasureText(w.Name, 0, text)
		p.Text(w.Name, start-gap-name.Width(), y+19, 0, text)
		p.Text(label[i], start+long+gap, y+19, 0, text)
	}
	drawn, err := p.Bytes()
	if err != nil {
		return err
	}
	if err := CheckChart(path); err != nil {
		return err
	}
	out, err := newfile.Create(path, true)
	if err != nil {
		return err
	}
	if _, err := out.Write(drawn); err != nil {
		_ = out.Discard() // the first error says what is wrong
		return fault.Writing(path, err)
	}
	return out.Commit()
}

// CheckChart makes sure that a file can become a chart: it is a picture of the same format,
// or there is nothing in it. Anything else is of kind fault.Refused.
func CheckChart(path string) error {
	mark := "<svg"
	if strings.EqualFold(filepath.Ext(path), ".png") {
		mark = "\x89PNG\r\n\x1a\n"
	}
	return disposal.OfKind(storage.Sites{}, path, "such a picture", func(start []byte) bool { return strings.HasPrefix(string(start), mark) })
}
