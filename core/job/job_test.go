package job

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/fault"
)

// tiny is a language with every form.
var tiny = &Language{
	Commands: []Command{
		{Name: "fetch", Help: "fetch things", Keys: []Key{{Name: "sources", Form: Texts}, {Name: "into"}, {Name: "deep", Form: Switch},
			{Name: "depth", Form: Number, Least: 1}, {Name: "rule", Form: Word, Words: []string{"refuse", "replace"}}, {Name: "pairs", Form: Rows}},
			Refused: map[string]string{"secret": "a job file holds none"}},
		{Name: "send", Help: "send things", Keys: []Key{{Name: "sources", Form: Texts}, {Name: "into"}}},
	},
	Common: []Key{{Name: "receipt"}},
}

func read(text string, set map[string]string) *File {
	look := func(name string) (string, bool) {
		value, known := map[string]string{"INBOX": "/in", "HIDDEN": "h", "EMPTY": ""}[name]
		return value, known
	}
	return Parse("night.yaml", []byte(text), tiny, set, look)
}

// shown is a job, so that a line of a test can say it.
func shown(j Job) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s %s", j.Title(), j.Command)
	for _, s := range j.Settings {
		fmt.Fprintf(&b, " %s=", s.Key)
		for i, v := range s.Values {
			fmt.Fprint(&b, strings.Repeat(",", min(i, 1)), v.Text)
		}
		for _, row := range s.Rows {
			fmt.Fprintf(&b, "[%s>%s]", row[0].Text, row[1].Text)
		}
	}
	return b.String()
}

const head = "widecrate: 1\n"

// schema is the compiled schema of a language.
func schema(t *testing.T) *jsonschema.Schema {
	t.Helper()
	text, err := tiny.Schema()
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("job.json", doc))
	s, err := c.Compile("job.json")
	require.NoError(t, err)
	return s
}

// accepts reports whether the schema takes a file.
func accepts(t *testing.T, s *jsonschema.Schema, text string) bool {
	t.Helper()
	var v any
	require.NoError(t, yaml.Unmarshal([]byte(text), &v))
	b, err := json.Marshal(v)
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(b))
	require.NoError(t, err)
	return s.Validate(doc) == nil
}

func TestRead(t *testing.T) {
	s := schema(t)
	for _, tt := range []struct {
		text string
		set  map[string]string
		jobs []string
	}{
		{"jobs:\n- name: a\n  fetch: {sources: [x, 'y z'], into: 5, deep: true, depth: 3}\n", nil, []string{"a fetch sources=x,y z into=5 deep=true depth=3"}},
		{"jobs: [{name: a, fetch: }]", nil, []string{"a fetch"}},
		{"vars: {root: /data, sub: '${root}/new'}\nenv: [INBOX]\njobs:\n- {name: a, fetch: {sources: '${INBOX}/$${x}', into: '${sub}'}}\n", nil,
			[]string{"a fetch sources=/in/${x} into=/data/new"}},
		{"vars: {day: monday, more: '${day}s'}\njobs:\n- {name: a, fetch: {into: '${more}'}}\n", map[string]string{"day": "friday"}, []string{"a fetch into=fridays"}},
		{"env: [INBOX]\nvars: {INBOX: mine}\njobs:\n- {name: a, fetch: {into: '${INBOX}'}}\n", map[string]string{"INBOX": "set"}, []string{"a fetch into=set"}},
		{"env: [EMPTY, NONE]\nvars: {EMPTY: e, NONE: n}\njobs:\n- {name: a, fetch: {into: '${EMPTY}${NONE}'}}\n", nil, []string{"a fetch into=en"}},
		{"vars: {s: v}\njobs:\n- name: a\n  repeat: {s: [1, '${b}'], t: [x, y]}\n  fetch: {into: '${s}-${t}'}\n", map[string]string{"b": "two"}, []string{
			"a (s=1, t=x) fetch into=1-x", "a (s=1, t=y) fetch into=1-y", "a (s=two, t=x) fetch into=two-x", "a (s=two, t=y) fetch into=two-y"}},
		{"defaults:\n  fetch: {rule: replace, into: '${s}'}\njobs:\n- {name: a, repeat: {s: [q]}, fetch: }\n- {name: b, fetch: {into: own, rule: refuse}}\n- {name: c, send: }\n", nil,
			[]string{"a (s=q) fetch rule=replace into=q", "b fetch into=own rule=refuse", "c send"}},
		{"jobs:\n- name: a\n  fetch: &usual {sources: x, deep: '${d}'}\n- name: b\n  follows: a\n  fetch: {<<: [*usual, {sources: z, into: w}], sources: y}\n", map[string]string{"d": "true"},
			[]string{"a fetch sources=x deep=true", "b fetch sources=y deep=true into=w"}},
		{"receipt: r\njobs:\n- {name: a, fetch: {pairs: [[a, b], ['${x}', d]]}}\n- {name: b, follows: [a], even-if: failed, needs: 95%, fetch: {pairs: list.tsv}}\n", map[string]string{"x": "c"},
			[]string{"a fetch pairs=[a>b][c>d]", "b fetch pairs=list.tsv"}},
	} {
		f := read("\ufeff"+head+tt.text, tt.set)
		require.NoError(t, f.Err(), tt.text)
		var jobs []string
		for _, j := range f.Jobs {
			jobs = append(jobs, shown(j))
		}
		assert.Equal(t, tt.jobs, jobs, tt.text)
		assert.Empty(t, f.Strays)
		assert.True(t, accepts(t, s, head+tt.text), "the schema refuses %s", tt.text)
	}
	f := read(head+"vars: {dya: x}\njobs: [{name: a, fetch: }]", map[string]string{"day": "1"})
	assert.Equal(t, []string{"day"}, f.Strays)
	assert.Equal(t, []string{"dya"}, f.Variables)
}

// Every mistake is found, at its place, and the schema finds those that are in its power.
func TestMistakes(t *testing.T) {
	s := schema(t)
	job := func(of string) string { return head + "jobs:\n- name: a\n  fetch: " + of + "\n" }
	for _, tt := range []struct {
		text   string
		found  []string // line:column why → do
		schema bool     // finds it as well
	}{
		{"", []string{"1:1 the file is empty"}, true},
		{"widecrate: [1\n", []string{"1:12 it is not YAML: sequence end token ']' not found"}, false},
		{"[a]", []string{"1:1 a job file must be keys with values, and is a list"}, true},
		{"jobs: []", []string{"1:1 the file does not say for which version of job files it is written → write widecrate: 1", "1:7 there are no jobs"}, true},
		{"widecrate: 2", []string{"1:1 there are no jobs", "1:12 this program reads job files of version 1"}, true},
		{head + "reciept: r\njobs: [{name: a, fetch: }]", []string{`2:1 there is no key "reciept" at the top of a job file → the nearest is receipt`}, true},
		{head + "jobs: [{name: a, fetch: }]\n---\nb: 2", []string{"4:1 a job file is one document"}, false},
		{head + "jobs: [{name: a, fetch: , fetch: }]", []string{`2:27 it is not YAML: mapping key "fetch" already defined`}, false},
		{head + "vars: {x: [1]}\nenv: INBOX\njobs: [{name: a, fetch: }]", []string{"2:11 the variable x must be a text, and is a list", "3:6 env must be a list of names"}, true},
		{head + "env: [NONE, 1x, EMPTY]\njobs: [{name: a, fetch: }]", []string{"2:7 the environment has nothing in NONE", `2:13 "1x" is no name of a variable`, "2:17 the environment has nothing in EMPTY"}, true},
		{head + "defaults: {fecth: {into: x}, send: {deep: true}}\njobs: [{name: a, fetch: }]", []string{`2:12 there is no command "fecth" that a job could run → the nearest is fetch`, `2:37 there is no key "deep" for send`}, true},
		{head + "jobs: [{fetch: }, {name: b}, {name: c, fetch: , send: }, 5]", []string{"2:8 this job has no name", "2:19 this job has no command → it is one of fetch, send",
			"2:49 a job has one command, and this one has fetch already", "2:58 a job must be keys with values, and is a text"}, true},
		{head + "jobs: [{name: a, fetch: }, {name: a, follows: [b, a], fetch: }, {name: b, follows: b, fetch: }]", []string{`2:35 there is a job "a" in line 2 already`,
			`2:48 no job before this one is called "b"`, `2:84 no job before this one is called "b"; jobs run in the order of the file`}, false},
		{head + "jobs: [{name: a, even-if: failed, needs: 95, fetch: }, {name: b, follows: a, even-if: done, needs: 0%, fetch: }]", []string{"2:27 even-if needs follows", `2:42 needs must be a share from 1% to 100%, and not "95"`,
			`2:87 even-if can only be failed, and not "done"`, `2:100 needs must be a share`}, true},
		{head + "jobs: [{name: a, fetsch: {}, follow: b}]", []string{"2:8 this job has no command", `2:18 there is no key "fetsch" for a job, and no such command → the nearest is fetch`, `2:30 there is no key "follow"`}, true},
		{job("{dept: 3}"), []string{`4:11 there is no key "dept" for fetch → the nearest is depth`}, true},
		{job("{secret: x}"), []string{`4:11 "secret" cannot be said in a job file: a job file holds none`}, true},
		{job("{deep: yes, rule: repalce, into: [a]}"), []string{`4:17 deep must be true or false, and not "yes"`, `4:28 rule cannot be "repalce" → the nearest is replace`, "4:43 into must be a text, and is a list"}, true},
		{job("{deep: 'true', sources: [], into: }"), []string{`4:17 deep must be true or false, and not "true"`, "4:34 the list of sources is empty → leave the key out", "4:38 into must be a text, and is nothing"}, true},
		{job("{pairs: [[a], b], sources: [[x]]}"), []string{"4:19 a line of pairs is two texts", "4:24 a line of pairs is two texts", "4:38 sources must be a text or a list of texts, and is a list"}, true},
		{job("{sources: [*.zip, x]}"), []string{"4:21 nothing before it has the name &.zip → a value that starts with * is written in quotes"}, false},
		{job("{into: 'é${dayy} ${HIDDEN} ${un known} $x ${'}"), []string{"4:19 there is no variable dayy", "4:27 there is no variable HIDDEN → list it under env",
			`4:37 "${un known}" is neither a variable nor a dollar`, `4:49 "$x" is neither a variable nor a dollar → the variable is written ${x}`, `4:52 "${" is neither`}, false},
		{head + "vars: {a: '${b}', b: 'x${a}'}\njobs: [{name: a, fetch: {into: '${b}'}}]", []string{"2:22 the variable b is made of itself"}, false},
		{head + "jobs: [{name: a, repeat: {x: [], y: 3, z: [[1]]}, fetch: }, {name: b, repeat: [1], fetch: }]", []string{"2:30 x must have a list of values", "2:37 y must have a list of values",
			"2:44 a value to repeat a job for must be a text, and is a list", "2:79 repeat must be variables with lists of values"}, true},
		{head + "jobs: [{name: a, fetch: {into: '${s}'}, repeat: {s: ['${t}']}}]", []string{"2:55 there is no variable t"}, false},
	} {
		f := read(tt.text, nil)
		var wrong *Mistakes
		require.True(t, errors.As(f.Err(), &wrong), tt.text)
		require.Equal(t, fault.Usage, fault.Of(f.Err()))
		require.Len(t, wrong.List, len(tt.found), "%s: %v", tt.text, wrong.List)
		for i, want := range tt.found {
			m := wrong.List[i]
			assert.Contains(t, fmt.Sprintf("%d:%d %s → %s", m.Line, m.Column, m.Why, m.Do), want)
			_, caret := m.Mark()
			assert.Equal(t, m.Column, len(caret), "nothing wide stands before it")
		}
		if tt.schema {
			assert.False(t, accepts(t, s, tt.text), "the schema takes %s", tt.text)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add(head + "vars: {a: b}\njobs:\n- name: a\n  repeat: {s: [1]}\n  fetch: &x {sources: ['${a}', '$${s}']}\n- {name: b, follows: a, fetch: *x}\n")
	f.Fuzz(func(t *testing.T, text string) {
		file := read(text, nil)
		if err := file.Err(); err != nil {
			var wrong *Mistakes
			require.True(t, errors.As(err, &wrong))
			for _, m := range wrong.List {
				m.Mark()
			}
		} else {
			require.NotEmpty(t, file.Jobs)
		}
	})
}
