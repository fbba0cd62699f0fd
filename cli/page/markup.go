package page

import (
	"strconv"

	. "maragu.dev/gomponents"      //nolint:revive // the markup reads like what it makes
	. "maragu.dev/gomponents/html" //nolint:revive // so does this
)

// markup is the page as it is written.
func (c *content) markup() Node {
	mood := "good"
	if c.Bad {
		mood = "bad"
	}
	return Doctype(HTML(Lang("en"),
		Head(
			Meta(Charset("utf-8")),
			Meta(Attr("http-equiv", "Content-Security-Policy"), Content(c.Policy)),
			Meta(Name("viewport"), Content("width=device-width, initial-scale=1")),
			Meta(Name("color-scheme"), Content("light dark")),
			TitleEl(Text(c.Title+": "+c.Outcome)),
			StyleEl(Raw(style)),
		),
		Body(
			Header(Class(mood),
				P(Text(c.Title+" · "+c.When)),
				H1(Text(c.Outcome)),
				P(Textf("exit code %d · %s", c.Code, c.Took)),
			),
			Main(
				Dl(Class("tiles"), Map(c.Tiles, func(t tile) Node { return Div(Dt(Text(t.Name)), Dd(Text(t.Value))) })),
				If(len(c.Failures) > 0, Section(ID("failures"), H2(Text("What failed")), Ol(Map(c.Failures, failure.markup)))),
				Section(Class("charts"), Map(c.Charts, figure.markup)),
				If(len(c.Reasons) > 0, Section(H2(Text("What was left out, and why")),
					Table(Class("small"), TBody(Map(c.Reasons, func(r reason) Node {
						return Tr(Td(Text(r.Rule)), number("", strconv.Itoa(r.Count)))
					}))))),
				Section(H2(Text("To run it again")), Pre(Code(Text(c.Again)))),
				If(len(c.Rows) > 0, Section(H2(Text("Archives")), Div(Class("scroll"), c.table()))),
			),
			Script(Raw(script)),
		),
	))
}

func (f failure) markup() Node {
	return Li(If(f.Where != "", Code(Text(f.Where))), P(Text(f.Why)), If(f.Do != "", P(Class("do"), Text("→ "+f.Do))))
}

func (f figure) markup() Node {
	return Figure(FigCaption(Text(f.Title)),
		Table(Class("bars"), TBody(Map(f.Bars, func(b bar) Node {
			return Tr(Td(Text(b.Label)),
				Td(SVG(Attr("viewBox", "0 0 100 1"), Attr("preserveAspectRatio", "none"), Aria("hidden", "true"),
					El("rect", Width(strconv.FormatFloat(b.Width, 'g', -1, 64)), Height("1")))),
				number("", b.Value))
		}))),
		If(f.Rest != "", P(Class("do"), Text(f.Rest))))
}

func (c *content) table() Node {
	heading := func(class, text string) Node {
		return Th(Scope("col"), If(class != "", Class(class)), Text(text))
	}
	return Table(ID("archives"),
		THead(Tr(If(c.Jobs, heading("", "job")), heading("", "archive"), heading("", "went to"), heading("n", "files"),
			heading("n", "bytes"), heading("n", "took"), heading("", "state"))),
		TBody(Map(c.Rows, func(r row) Node {
			return Tr(If(r.Bad, Class("bad")), If(c.Jobs, Td(Text(r.Job))), Td(Text(r.Archive)), Td(Text(r.To)),
				number(strconv.Itoa(r.Files), strconv.Itoa(r.Files)),
				number(strconv.FormatInt(r.Bytes, 10), r.Size()),
				number(strconv.FormatInt(r.Took.Nanoseconds(), 10), r.Seconds()),
				Td(Text(r.State)))
		})))
}

// number is a cell with one, and what it is sorted by.
func number(value, text string) Node {
	return Td(Class("n"), If(value != "", Data("v", value)), Text(text))
}
