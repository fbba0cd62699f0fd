package job

import (
	"bytes"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"

	"widecrate/core/fault"
)

// version is what a job file says that it is written for.
const version = "1"

// The keys of a file, and of a job beside its command.
const (
	versionKey  = "widecrate"
	varsKey     = "vars"
	envKey      = "env"
	defaultsKey = "defaults"
	jobsKey     = "jobs"
	nameKey     = "name"
	followsKey  = "follows"
	evenIfKey   = "even-if"
	needsKey    = "needs"
	repeatKey   = "repeat"
)

// Read reads a job file. set has variables from outside, and look finds those of the
// environment, of which only the ones that the file lists are asked for. All mistakes
// are found at once: see File.Err, which the program may add to. The error here is one of
// kind fault.Unreadable.
func Read(path string, l *Language, set map[string]string, look func(name string) (string, bool)) (*File, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, fault.Reading(path, err)
	}
	return Parse(path, text, l, set, look), nil
}

// Parse is Read for the text of a file.
func Parse(path string, text []byte, l *Language, set map[string]string, look func(name string) (string, bool)) *File {
	text = bytes.TrimPrefix(text, []byte("\ufeff"))
	s := &source{path: path, lines: strings.Split(string(text), "\n")}
	r := &reader{source: s, Language: l, variables: newVariables(s, set, look), file: &File{source: s}}
	if root := s.tree(text); root != nil {
		r.root(root)
	}
	return r.file
}

// mostJobs bounds those of a file, with all repetitions.
const mostJobs = 100_000

// reader turns nodes into jobs.
type reader struct {
	*source
	*Language
	*variables
	file     *File
	defaults map[string]*node
}

// expect notes that a node is not of a kind, if so.
func (r *reader) expect(n *node, want kind, of string) bool {
	if n.kind != want && n.kind != broken {
		r.mistake(n.at, "", "%s must be %s, and is %s", of, want, n.kind)
	}
	return n.kind == want
}

func (r *reader) root(n *node) {
	if n.kind == nothing {
		r.mistake(n.at, "", "the file is empty: it needs at least widecrate: 1, and jobs")
		return
	}
	if !r.expect(n, table, "a job file") {
		return
	}
	keys := []string{versionKey, varsKey, envKey, defaultsKey, jobsKey}
	for _, k := range r.Common {
		keys = append(keys, k.Name)
	}
	for _, e := range n.entries {
		if !slices.Contains(keys, e.key) {
			r.unknown(e.at, e.key, keys, "there is no key %q at the top of a job file", e.key)
		}
	}
	switch v := n.get(versionKey); {
	case v == nil:
		r.mistake(n.at, "write widecrate: "+version+" as its first line", "the file does not say for which version of job files it is written")
	case v.kind != scalar || v.text != version:
		r.mistake(v.at, "", "this program reads job files of version %s", version)
	}
	r.declare(n.get(varsKey), n.get(envKey))
	r.repeated(n.get(jobsKey))
	r.readDefaults(n.get(defaultsKey))
	for _, e := range n.entries {
		if k := find(r.Common, e.key); k != nil {
			if setting, ok := r.setting(k, e, round{}); ok {
				r.file.Common = append(r.file.Common, setting)
			}
		}
	}
	jobs := n.get(jobsKey)
	switch {
	case jobs == nil:
		r.mistake(n.at, "", "there are no jobs")
	case r.expect(jobs, list, "jobs"):
		r.jobs(jobs)
	}
	r.file.Strays = r.strays()
	r.file.Variables = slices.DeleteFunc(r.names(round{}), func(name string) bool { return slices.Contains(r.file.Strays, name) })
}

func find(keys []Key, name string) *Key {
	for i := range keys {
		if keys[i].Name == name {
			return &keys[i]
		}
	}
	return nil
}

func (r *reader) command(name string) *Command {
	for i := range r.Commands {
		if r.Commands[i].Name == name {
			return &r.Commands[i]
		}
	}
	return nil
}

func (r *reader) commandNames() []string {
	var names []string
	for _, c := range r.Commands {
		names = append(names, c.Name)
	}
	return names
}

func (r *reader) readDefaults(n *node) {
	if n == nil || !r.expect(n, table, "defaults") {
		return
	}
	r.defaults = map[string]*node{}
	for _, e := range n.entries {
		c := r.command(e.key)
		if c == nil {
			r.unknown(e.at, e.key, r.commandNames(), "there is no command %q that a job could run", e.key)
			continue
		}
		if !r.expect(e.value, table, "the defaults of "+e.key) {
			continue
		}
		r.defaults[e.key] = e.value
		d := Defaults{Command: e.key}
		for _, e := range e.value.entries {
			// What depends on the variables of a repetition is known in its jobs alone.
			if setting, ok := r.option(c, e, round{later: true}); ok {
				d.Settings = append(d.Settings, setting)
			}
		}
		r.file.Defaults = append(r.file.Defaults, d)
	}
}

func (r *reader) jobs(n *node) {
	if len(n.items) == 0 {
		r.mistake(n.at, "", "there are no jobs")
	}
	seen := map[string]Place{}
	var names []string
	for i, item := range n.items {
		if !r.expect(item, table, "a job") {
			continue
		}
		j := Job{Name: fmt.Sprintf("number %d", i+1)}
		if name := item.get(nameKey); name == nil {
			r.mistake(item.at, "", "this job has no name")
		} else if r.expect(name, scalar, "a name") {
			j.Name = name.text
			if before, twice := seen[name.text]; twice {
				r.mistake(name.at, "", "there is a job %q in line %d already", name.text, before.Line)
			}
			seen[name.text] = name.at
		}
		j.Follows = r.follows(item.get(followsKey), names)
		j.EvenIf = r.evenIf(item, j.Follows)
		j.Needs = r.needs(item.get(needsKey))
		r.job(item, j)
		names = append(names, j.Name)
	}
}

// evenIf reports whether a job runs also after one that it follows has failed.
func (r *reader) evenIf(n *node, follows []string) bool {
	v := n.get(evenIfKey)
	switch {
	case v == nil || !r.expect(v, scalar, evenIfKey):
		return false
	case v.text != evenIfFailed:
		r.mistake(v.at, "", "%s can only be %s, and not %q", evenIfKey, evenIfFailed, v.text)
	case follows == nil:
		r.mistake(v.at, "", "%s needs %s", evenIfKey, followsKey)
	}
	return true
}

// evenIfFailed is all that even-if can be.
const evenIfFailed = "failed"

// needs is a share in per cent.
func (r *reader) needs(n *node) int {
	if n == nil || !r.expect(n, scalar, needsKey) {
		return 0
	}
	digits, is := strings.CutSuffix(n.text, "%")
	share, err := strconv.Atoi(digits)
	if !is || err != nil || share < 1 || share > 100 {
		r.mistake(n.at, "", "%s must be a share from 1%% to 100%%, and not %q", needsKey, n.text)
		return 0
	}
	return share
}

// follows are names of jobs before this one.
func (r *reader) follows(n *node, before []string) (names []string) {
	if n == nil {
		return nil
	}
	items := n.items
	if n.kind != list {
		items = []*node{n}
	}
	for _, item := range items {
		if !r.expect(item, scalar, "what a job follows") {
			continue
		}
		if !slices.Contains(before, item.text) {
			r.unknown(item.at, item.text, before, "no job before this one is called %q; jobs run in the order of the file", item.text)
		}
		names = append(names, item.text)
	}
	return names
}

// job reads one, as often as it is repeated.
func (r *reader) job(n *node, j Job) {
	var command *Command
	var does *node
	var repeat *node
	for _, e := range n.entries {
		switch c := r.command(e.key); {
		case c != nil && command != nil:
			r.mistake(e.at, "", "a job has one command, and this one has %s already", command.Name)
		case c != nil:
			command, does, j.Command, j.At = c, e.value, c.Name, e.at
		case e.key == repeatKey:
			repeat = e.value
		case !slices.Contains([]string{nameKey, followsKey, evenIfKey, needsKey}, e.key):
			r.unknown(e.at, e.key, append(r.commandNames(), nameKey, followsKey, repeatKey, evenIfKey, needsKey), "there is no key %q for a job, and no such command", e.key)
		}
	}
	rounds := r.repetitions(repeat)
	if command == nil {
		r.mistake(n.at, "it is one of "+strings.Join(r.commandNames(), ", "), "this job has no command")
		return
	}
	if does.kind == nothing {
		does = &node{kind: table, at: does.at}
	}
	if !r.expect(does, table, command.Name) {
		return
	}
	entries := does.entries
	if defaults := r.defaults[command.Name]; defaults != nil {
		for _, e := range defaults.entries {
			if does.get(e.key) == nil {
				entries = append(slices.Clip(entries), e)
			}
		}
	}
	if len(r.file.Jobs)+len(rounds) > mostJobs {
		r.mistake(n.at, "", "with this one there are more than %d jobs", mostJobs)
		return
	}
	for _, round := range rounds {
		j := j
		j.With, j.Settings = round.title(), nil
		for _, e := range entries {
			if setting, ok := r.option(command, e, round); ok {
				j.Settings = append(j.Settings, setting)
			}
		}
		r.file.Jobs = append(r.file.Jobs, j)
	}
}

// option reads a key of a command.
func (r *reader) option(c *Command, e entry, with round) (Setting, bool) {
	if why, refused := c.Refused[e.key]; refused {
		r.mistake(e.at, "", "%q cannot be said in a job file: %s", e.key, why)
		return Setting{}, false
	}
	k := find(c.Keys, e.key)
	if k == nil {
		var names []string
		for _, k := range c.Keys {
			names = append(names, k.Name)
		}
		r.unknown(e.at, e.key, names, "there is no key %q for %s", e.key, c.Name)
		return Setting{}, false
	}
	return r.setting(k, e, with)
}

// setting reads the value of a key.
func (r *reader) setting(k *Key, e entry, with round) (s Setting, ok bool) {
	s = Setting{Key: k.Name, At: e.at}
	items := []*node{e.value}
	switch {
	case e.value.kind == list && k.Form == Rows:
		return s, r.rows(&s, e.value, with)
	case e.value.kind == list && k.Form == Texts:
		items = e.value.items
		if len(items) == 0 {
			r.mistake(e.value.at, "leave the key out", "the list of %s is empty", k.Name)
		}
	}
	ok = true
	for _, item := range items {
		v, filled := r.value(k, item, with)
		s.Values, ok = append(s.Values, v), ok && filled
	}
	return s, ok && len(items) > 0
}

// rows reads a list of pairs.
func (r *reader) rows(s *Setting, n *node, with round) bool {
	ok := len(n.items) > 0
	if !ok {
		r.mistake(n.at, "leave the key out", "the list of %s is empty", s.Key)
	}
	text := &Key{Name: s.Key}
	for _, item := range n.items {
		if item.kind != list || len(item.items) != 2 {
			r.mistake(item.at, "", "a line of %s is two texts, such as [a, b]", s.Key)
			ok = false
			continue
		}
		var row []Value
		for _, cell := range item.items {
			v, filled := r.value(text, cell, with)
			row, ok = append(row, v), ok && filled
		}
		s.Rows = append(s.Rows, row)
	}
	return ok
}

var forms = [...]string{"a text", "a text or a list of texts", "true or false", "a whole number", "a word", "the name of a file, or a list of pairs"}

// value reads a text of a form, with its variables.
func (r *reader) value(k *Key, n *node, with round) (Value, bool) {
	v := Value{At: n.at}
	switch n.kind {
	case scalar:
	case broken:
		return v, false
	default:
		r.mistake(n.at, "", "%s must be %s, and is %s", k.Name, forms[k.Form], n.kind)
		return v, false
	}
	var ok bool
	if v.Text, ok = r.fill(n, with); !ok {
		return v, false
	}
	asked := n.plain || v.Text != n.text // the text says true itself, or a variable does

	if slices.Contains([]string{"True", "TRUE", "False", "FALSE"}, v.Text) && k.Form == Switch { // YAML 1.2, section 10.3.2
		v.Text = strings.ToLower(v.Text)
	}
	switch {
	case k.Form == Switch && (!asked || v.Text != "true" && v.Text != "false"):
		r.mistake(v.At, "", "%s must be true or false, and not %q", k.Name, v.Text)
		return v, false
	case k.Words != nil && k.Form == Word && !slices.Contains(k.Words, v.Text):
		r.unknown(v.At, v.Text, k.Words, "%s cannot be %q", k.Name, v.Text)
		return v, false
	}
	return v, true
}
