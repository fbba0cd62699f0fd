package page

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	"widecrate/cli/show"
)

type figure struct {
	Title string
	Bars  []bar
	Rest  string // what is not drawn
}

// bar is one of a chart; the longest is 100 wide.
type bar struct {
	Label, Value string
	Width        float64
}

// mostBars are in one chart.
const mostBars = 10

// newFigure draws the largest of some values, and says what the others come to.
func newFigure(title string, values map[string]int64, text func(int64) string) figure {
	names := slices.SortedFunc(maps.Keys(values), func(a, b string) int {
		return cmp.Or(cmp.Compare(values[b], values[a]), cmp.Compare(a, b))
	})
	f := figure{Title: title}
	rest := int64(0)
	for i, name := range names {
		if values[name] == 0 {
			break
		}
		if i >= mostBars {
			rest += values[name]
			continue
		}
		f.Bars = append(f.Bars, bar{name, text(values[name]), 100 * float64(values[name]) / float64(max(values[names[0]], 1))})
	}
	if more := len(names) - len(f.Bars); rest > 0 {
		f.Rest = fmt.Sprintf("and %s others, together %s", show.Number(more), text(rest))
	}
	return f
}

// spread draws how many archives are how large: in steps that double, or in equal ones where none
// is four times as large as another.
func spread(values map[string]int64) figure {
	names := slices.SortedFunc(maps.Keys(values), func(a, b string) int {
		return cmp.Or(cmp.Compare(values[a], values[b]), cmp.Compare(a, b))
	})
	least, most := max(values[names[0]], 1), values[names[len(names)-1]]
	f := figure{Title: "How much archives bring"}
	if most-least < least/4 {
		f.Rest = fmt.Sprintf("All of %s bring about the same, %s to %s.", show.Number(len(names)), show.Size(least), show.Size(most))
		return f
	}
	f.Rest = fmt.Sprintf("Half of them bring less than %s. The most comes from %s: %s.",
		show.Size(values[names[len(names)/2]]), names[len(names)-1], show.Size(most))
	step := (most-least)/mostBars + 1
	counts := map[int64]int{} // by where a step starts
	ends := map[int64]int64{}
	widest := 0
	for _, name := range names {
		from, to := least+(values[name]-least)/step*step, int64(0)
		if to = from + step; most >= 4*least {
			for from, to = 0, 1<<10; values[name] >= to; to *= 2 {
				from = to
			}
		}
		counts[from]++
		ends[from] = to
		widest = max(widest, counts[from])
	}
	for _, from := range slices.Sorted(maps.Keys(counts)) {
		f.Bars = append(f.Bars, bar{show.Size(from) + " to " + show.Size(ends[from]), show.Count(counts[from], "archive"), 100 * float64(counts[from]) / float64(widest)})
	}
	return f
}

func (p *Page) charts() (charts []figure) {
	byArchive, times := map[string]int64{}, map[string]int64{}
	for _, r := range p.rows {
		if r.Bytes > 0 { // else nothing came of it, now
			byArchive[r.Archive] += r.Bytes
		}
		times[r.Archive] += r.Took.Milliseconds()
	}
	bytes := newFigure("Bytes by archive", byArchive, show.Size)
	if len(byArchive) > mostBars {
		bytes = spread(byArchive)
	}
	slowest := newFigure("The slowest archives", times, func(ms int64) string { return fmt.Sprintf("%.2f s", float64(ms)/1000) })
	for _, f := range []figure{newFigure("Bytes by extension", p.byExt, show.Size), bytes, slowest} {
		if len(f.Bars) > 0 || f.Rest != "" {
			charts = append(charts, f)
		}
	}
	return charts
}
