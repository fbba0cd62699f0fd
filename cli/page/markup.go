package page

import (
	"strconv"

	g "maragu.dev/gomponents"
	h "maragu.dev/gomponents/html"
)

// markup is the page as it is written.
func (c *content) markup() g.Node {
	mood := "good"
	if c.Bad {
		mood = "bad"
	}
	return h.Doctype(h.HTML(h.Lang("en"),
		h.Head(
			h.Meta(h.Charset("utf-8")),
			h.Meta(g.Attr("http-equiv", "Content-Security-Policy"), h.Content(c.Policy)),
			h.Meta(h.Name("generator"), h.Content(maker)),
			h.Meta(h.Name("viewport"), h.Content("width=device-width, initial-scale=1")),
			h.Meta(h.Name("color-scheme"), h.Content("light dark")),
			h.TitleEl(g.Text(c.Title+": "+c.Outcome)),
			h.StyleEl(g.Raw(style)),
		),
		h.Body(
			h.Header(h.Class(mood),
				h.P(g.Text(c.Title+" · "+c.When)),
				h.H1(g.Text(c.Outcome)),
				h.P(g.Textf("exit code %d · %s", c.Code, c.Took)),
				h.P(g.Text(c.Where)),
			),
			h.Main(
				h.Dl(h.Class("tiles"), g.Map(c.Tiles, func(t tile) g.Node { return h.Div(h.Dt(g.Text(t.Name)), h.Dd(g.Text(t.Value))) })),
				g.If(len(c.Failures) > 0, h.Section(h.ID("failures"), h.H2(g.Text("What failed")), h.Ol(g.Map(c.Failures, failure.markup)))),
				h.Section(h.Class("charts"), g.Map(c.Charts, figure.markup)),
				g.If(len(c.Reasons) > 0, h.Section(h.H2(g.Text("What was left out, and why")),
					h.Table(h.Class("small"), h.TBody(g.Map(c.Reasons, func(r reason) g.Node {
						return h.Tr(h.Td(g.Text(r.Rule)), number("", strconv.Itoa(r.Count)))
					}))))),
				h.Section(h.H2(g.Text("To run it again")), h.Pre(h.Code(g.Text(c.Again)))),
				g.If(len(c.Rows) > 0, h.Section(h.H2(g.Text("Archives")), h.Div(h.Class("scroll"), c.table()))),
			),
			h.Script(g.Raw(script)),
		),
	))
}

func (f failure) markup() g.Node {
	return h.Li(g.If(f.Where != "", h.Code(g.Text(f.Where))), h.P(g.Text(f.Why)), g.If(f.Do != "", h.P(h.Class("do"), g.Text("→ "+f.Do))))
}

func (f figure) markup() g.Node {
	return h.Figure(h.FigCaption(g.Text(f.Title)),
		h.Table(h.Class("bars"), h.TBody(g.Map(f.Bars, func(b bar) g.Node {
			return h.Tr(h.Td(g.Text(b.Label)),
				h.Td(h.SVG(g.Attr("viewBox", "0 0 100 1"), g.Attr("preserveAspectRatio", "none"), h.Aria("hidden", "true"),
					g.El("rect", h.Width(strconv.FormatFloat(b.Width, 'g', -1, 64)), h.Height("1")))),
				number("", b.Value))
		}))),
		g.If(f.Rest != "", h.P(h.Class("do"), g.Text(f.Rest))))
}

func (c *content) table() g.Node {
	heading := func(class, text string) g.Node {
		return h.Th(h.Scope("col"), g.If(class != "", h.Class(class)), g.Text(text))
	}
	return h.Table(h.ID("archives"),
		h.THead(h.Tr(g.If(c.Jobs, heading("", "job")), heading("", "archive"), heading("", "went to"), heading("n", "files"),
			heading("n", "bytes"), heading("n", "took"), heading("", "state"))),
		h.TBody(g.Map(c.Rows, func(r row) g.Node {
			return h.Tr(g.If(r.Bad, h.Class("bad")), g.If(c.Jobs, h.Td(g.Text(r.Job))), h.Td(g.Text(r.Archive)), h.Td(g.Text(r.To)),
				number(strconv.Itoa(r.Files), strconv.Itoa(r.Files)),
				number(strconv.FormatInt(r.Bytes, 10), r.Size()),
				number(strconv.FormatInt(r.Took.Nanoseconds(), 10), r.Seconds()),
				h.Td(g.Text(r.State)))
		})))
}

// number is a cell with one, and what it is sorted by.
func number(value, text string) g.Node {
	return h.Td(h.Class("n"), g.If(value != "", h.Data("v", value)), g.Text(text))
}
