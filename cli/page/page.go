// Package page makes a page about a run, all in one file: what came of it at a glance,
// failures first, a table of archives, and charts. It asks for nothing from anywhere,
// and can be read without scripts, on a phone, in print, and in the dark.
package page

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	_ "embed" // what the page is made of
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"path"
	"strings"
	"time"

	"widecrate/cli/show"
	"widecrate/core/archive"
	"widecrate/core/choose"
	"widecrate/core/disposal"
	"widecrate/core/fault"
	"widecrate/core/newfile"
	"widecrate/core/report"
	"widecrate/core/stage"
	"widecrate/core/storage"
)

//go:embed page.css
var style string

//go:embed page.js
var script string

// A Page gathers what happens in a run.
type Page struct {
	Command string   // "extract"
	Args    []string // of the command line, as they were typed
	Version string   // of the program
	Started time.Time
	Say     fault.Wording
	Job     string // that is under way; empty: there are none

	rows     []row
	jobs     bool // there are any
	failures []failure
	byExt    map[string]int64
	leftOut  choose.Tally
	files    int
	bytes    int64
}

// row is an archive in the table.
type row struct {
	Job         string
	Archive, To string
	Files       int
	Bytes       int64
	Took        time.Duration
	State       string // done, failed, done before
	Bad         bool
}

// Size and Seconds are for people.
func (r row) Size() string    { return show.Size(r.Bytes) }
func (r row) Seconds() string { return fmt.Sprintf("%.2f s", r.Took.Seconds()) }

type failure struct{ Where, Why, Do string }

// Event takes note of what happened.
func (p *Page) Event(e report.Event) {
	switch e := e.(type) {
	case *report.Unpacked:
		p.unpacked(e)
	case *report.Created:
		if e.Done {
			p.add(row{Archive: cmp.Or(p.Job, sources(p.Args)), To: e.Archive}, before(true), nil)
			break
		}
		p.add(row{Archive: cmp.Or(p.Job, sources(p.Args)), To: e.Archive, Files: e.Files, Bytes: e.Packed, Took: e.Took.Duration}, "", nil)
		p.created(e)
	case *report.Converted:
		p.add(row{Archive: e.Archive, To: e.Path, Files: e.Files, Bytes: e.Packed, Took: e.Took.Duration}, before(e.Done), e.Err)
		p.leftOut.Add(e.LeftOut)
	case *report.Edited:
		p.add(row{Archive: e.Source, To: e.Archive, Files: e.Stay + e.Moved + e.Replaced + e.Added, Bytes: e.After, Took: e.Took.Duration}, unchanged(e.Same), e.Err)
		p.leftOut.Add(e.LeftOut)
	case *report.Verified:
		r := row{Archive: e.Archive, Files: e.Entries, Bytes: e.Bytes, Took: e.Took.Duration}
		r.Bad = len(e.Bad) > 0
		for _, bad := range e.Bad {
			p.fail(bad.Err)
		}
		p.add(r, "", e.Err)
		p.leftOut.Add(e.LeftOut)
	case *report.Disposal:
		if e.Err != nil {
			p.fail(e.Err)
		}
	case *report.Failed:
		p.fail(e.Err)
	}
}

func sources(args []string) string {
	if len(args) < 2 {
		return ""
	}
	return args[1]
}

func (p *Page) unpacked(o *report.Unpacked) {
	r := row{Archive: o.Archive, To: o.Target, Bytes: o.Bytes, Took: o.Took.Duration}
	for i := range o.Placed {
		f := &o.Placed[i]
		if f.Kind == archive.Folder {
			continue
		}
		r.Files++
		if f.Action == stage.Added || f.Action == stage.Replaced {
			p.sized(f.Path, f.Size)
		}
	}
	for _, lost := range o.Lost {
		p.fail(lost.Err)
	}
	p.add(r, before(o.Done), o.Err)
	p.leftOut.Add(o.LeftOut)
}

// before is the state of what earlier runs did; empty: this one did it.
func before(done bool) string {
	if done {
		return "done before"
	}
	return ""
}

// unchanged is the state of what stayed; empty: it changed.
func unchanged(same bool) string {
	if same {
		return "as before"
	}
	return ""
}

func (p *Page) created(c *report.Created) {
	for i := range c.Entries {
		if e := &c.Entries[i]; e.Kind == archive.File {
			p.sized(e.Path, e.Size)
		}
	}
	p.leftOut.Add(c.LeftOut)
}

// sized counts a file by its extension.
func (p *Page) sized(name string, size int64) {
	if p.byExt == nil {
		p.byExt = map[string]int64{}
	}
	ext := strings.ToLower(path.Ext(storage.Base(name)))
	p.byExt[cmp.Or(ext, "(none)")] += max(size, 0)
}

func (p *Page) add(r row, state string, err error) {
	r.State = cmp.Or(state, "done")
	if err != nil {
		p.fail(err)
		r.Bad = true
	}
	if r.Bad {
		r.State = "failed"
	} else {
		p.files += r.Files
		p.bytes += r.Bytes
	}
	r.Job = p.Job
	p.jobs = p.jobs || r.Job != ""
	p.rows = append(p.rows, r)
}

func (p *Page) fail(err error) {
	f := failure{Why: err.Error(), Do: p.Say.Advice(err)}
	if e, ok := errors.AsType[*fault.Error](err); ok {
		f.Where, f.Why = e.Where, e.Err.Error()
	}
	p.failures = append(p.failures, f)
}

// content is what the page shows.
type content struct {
	Policy                     string
	Title, Outcome, When, Took string
	Where                      string // it ran, and which program
	Bad                        bool
	Code                       int
	Tiles                      []tile
	Rows                       []row
	Jobs                       bool
	Failures                   []failure
	Charts                     []figure
	Reasons                    []reason
	Again                      string
}

type tile struct{ Name, Value string }

type reason struct {
	Rule  string
	Count int
}

// whereItRuns are the host and the folder, as far as they are known.
func whereItRuns() (text string) {
	if host, err := os.Hostname(); err == nil {
		text = host + " · "
	}
	if folder, err := os.Getwd(); err == nil {
		text += folder + " · "
	}
	return text
}

// maker is how a page says who made it.
const maker = "widecrate, a page about a run"

// Check makes sure that a file can become a page: it is one of ours, or there is nothing in
// it. Anything else is of kind fault.Refused.
func Check(file string) error {
	return disposal.OfKind(storage.Sites{}, file, "a page that widecrate made", func(start []byte) bool { return bytes.Contains(start, []byte(maker)) })
}

// Write makes the page, or replaces one that is there. code is the exit code of the
// run. Errors are of kind fault.Unwritable, or fault.Refused where something else is there.
func (p *Page) Write(file string, code int) error {
	if err := Check(file); err != nil {
		return err
	}
	var b bytes.Buffer
	if err := p.content(code).markup().Render(&b); err != nil {
		return err
	}
	f, err := newfile.Create(storage.Followed(file), true)
	if err != nil {
		return err
	}
	if _, err := f.Write(show.Discreet(b.Bytes())); err != nil {
		return errors.Join(fault.Writing(file, err), f.Discard())
	}
	return f.Commit()
}

func (p *Page) content(code int) *content {
	c := &content{Code: code, Rows: p.rows, Jobs: p.jobs, Failures: p.failures, Bad: code != 0}
	c.Policy = "default-src 'none'; style-src '" + sumOf(style) + "'; script-src '" + sumOf(script) + "'; base-uri 'none'; form-action 'none'"
	c.When = p.Started.Format("2 January 2006, 15:04:05 MST")
	c.Took = show.Took(time.Since(p.Started))
	c.Title = "widecrate " + p.Command
	c.Where = whereItRuns() + "widecrate " + p.Version
	failed, before := 0, 0
	for _, r := range p.rows {
		switch r.State {
		case "failed":
			failed++
		case "done before":
			before++
		}
	}
	done := map[string]string{"extract": "unpacked", "create": "made", "convert": "converted", "verify": "verified", "run": "done"}[p.Command]
	c.Outcome = fmt.Sprintf("%s %s", show.Count(len(p.rows)-failed-before, "archive"), done)
	if failed > 0 {
		c.Outcome += fmt.Sprintf(", %s failed", show.Number(failed))
	} else if code == 0 {
		c.Outcome = "All is well: " + c.Outcome
	}
	c.Tiles = []tile{{"archives", show.Number(len(p.rows))}, {"failed", show.Number(failed)}, {"files", show.Number(p.files)},
		{"bytes", show.Size(p.bytes)}, {"left out", show.Number(p.leftOut.LeftOut())}, {"took", c.Took}}
	if before > 0 {
		c.Tiles = append(c.Tiles, tile{"done before", show.Number(before)})
	}
	c.Charts = p.charts()
	for rule := choose.Kept + 1; int(rule) < len(p.leftOut); rule++ {
		if n := p.leftOut[rule]; n > 0 {
			c.Reasons = append(c.Reasons, reason{rule.String(), n})
		}
	}
	c.Again = "widecrate " + strings.Join(quoted(p.Args), " ")
	return c
}

// sumOf is how a policy names what it allows.
func sumOf(text string) string {
	sum := sha256.Sum256([]byte(text))
	return "sha256-" + base64.StdEncoding.EncodeToString(sum[:])
}

// quoted writes arguments as they are typed.
func quoted(args []string) []string {
	typed := make([]string, len(args))
	for i, arg := range args {
		typed[i] = arg
		if arg == "" || strings.ContainsAny(arg, " \t\n'\"\\$`*?[]{}()<>|&;!#~") {
			typed[i] = "'" + strings.ReplaceAll(arg, "'", `'\''`) + "'"
		}
	}
	return typed
}
