package job

import (
	"maps"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"
)

// variables are what a text may have in it as ${name}.
type variables struct {
	*source
	set    map[string]string // from outside; they win
	look   func(string) (string, bool)
	env    map[string]Place
	vars   map[string]*node
	asked  map[string]bool // those of set that something uses
	inside []string        // those that are being filled, to find circles
	repeat map[string]bool // names that some job is repeated for
}

func newVariables(s *source, set map[string]string, look func(string) (string, bool)) *variables {
	if look == nil {
		look = func(string) (string, bool) { return "", false }
	}
	return &variables{source: s, set: set, look: look, env: map[string]Place{}, vars: map[string]*node{}, asked: map[string]bool{}, repeat: map[string]bool{}}
}

// name is how variables are called.
const name = `[A-Za-z_][A-Za-z0-9_-]*`

var (
	wholeName = regexp.MustCompile(`^` + name + `$`)

	// reference is what a dollar can be part of: itself, a variable, or a mistake.
	reference = regexp.MustCompile(`\$(?:\$|\{(` + name + `)\}|\{[^}]*\}?|` + name + `|)`)
)

// declare takes the variables of a file.
func (v *variables) declare(vars, env *node) {
	if vars != nil && vars.kind != table {
		v.mistake(vars.at, "", "vars must be keys with values, and is %s", vars.kind)
	} else if vars != nil {
		for _, e := range vars.entries {
			v.declareName(e.key, e.at)
			if e.value.kind != scalar {
				v.mistake(e.value.at, "", "the variable %s must be a text, and is %s", e.key, e.value.kind)
				continue
			}
			v.vars[e.key] = e.value
		}
	}
	if env == nil {
		return
	}
	if env.kind != list {
		v.mistake(env.at, "", "env must be a list of names, such as [INBOX], and is %s", env.kind)
		return
	}
	for _, item := range env.items {
		if item.kind != scalar {
			v.mistake(item.at, "", "the name of a variable must be a text, and is %s", item.kind)
			continue
		}
		if !v.declareName(item.text, item.at) {
			continue
		}
		v.env[item.text] = item.at
		_, given := v.set[item.text]
		if value, _ := v.look(item.text); value == "" && !given && v.vars[item.text] == nil {
			v.mistake(item.at, "set it, or give it another value under vars", "the environment has nothing in %s", item.text)
		}
	}
}

// declareName reports whether a variable can have a name, and notes it if not.
func (v *variables) declareName(text string, at Place) bool {
	is := wholeName.MatchString(text)
	if !is {
		v.mistake(at, "", "%q is no name of a variable: it has letters, digits, - and _, and starts with a letter", text)
	}
	return is
}

// names are all that there are.
func (v *variables) names(with round) []string {
	all := map[string]bool{}
	for name := range v.set {
		all[name] = true
	}
	for name := range v.env {
		all[name] = true
	}
	for name := range v.vars {
		all[name] = true
	}
	for name := range with.values {
		all[name] = true
	}
	return slices.Sorted(maps.Keys(all))
}

// fill replaces what a text has of variables. It reports false where one is not known,
// which is noted, or not yet.
func (v *variables) fill(n *node, with round) (string, bool) {
	var b strings.Builder
	rest, ok := n.text, true
	for {
		found := reference.FindStringSubmatchIndex(rest)
		if found == nil {
			b.WriteString(rest)
			return b.String(), ok
		}
		b.WriteString(rest[:found[0]])
		text, at := rest[found[0]:found[1]], v.placeIn(n, len(n.text)-len(rest)+found[0])
		rest = rest[found[1]:]
		switch {
		case text == "$$":
			b.WriteByte('$')
		case found[2] >= 0:
			value, known := v.value(text[2:len(text)-1], at, with)
			b.WriteString(value)
			ok = ok && known
		default:
			do := "a variable is written ${NAME}, and a dollar $$"
			if bare := strings.Trim(text, "${}"); wholeName.MatchString(bare) {
				do = "the variable is written ${" + bare + "}, and a dollar $$"
			}
			v.mistake(at, do, "%q is neither a variable nor a dollar", text)
			ok = false
		}
	}
}

// value is that of a variable.
func (v *variables) value(name string, at Place, with round) (string, bool) {
	if value, known := with.values[name]; known {
		return value, true
	}
	if with.later && v.repeat[name] {
		return "", false
	}
	if value, known := v.set[name]; known {
		v.asked[name] = true
		return value, true
	}
	if _, listed := v.env[name]; listed {
		if value, _ := v.look(name); value != "" {
			return value, true
		}
		if v.vars[name] == nil {
			return "", false // noted where it is listed
		}
	}
	if n := v.vars[name]; n != nil {
		if slices.Contains(v.inside, name) {
			v.mistake(n.at, "", "the variable %s is made of itself", name)
			return "", false
		}
		v.inside = append(v.inside, name)
		text, ok := v.fill(n, round{})
		v.inside = v.inside[:len(v.inside)-1]
		return text, ok
	}
	if _, inEnv := v.look(name); inEnv {
		v.mistake(at, "list it under env to use that of the environment", "there is no variable %s", name)
	} else {
		v.unknown(at, name, v.names(with), "there is no variable %s", name)
	}
	return "", false
}

// placeIn is where the byte of a text stands, if its line has it as it is.
func (v *variables) placeIn(n *node, offset int) Place {
	at := n.at
	if at.Line > len(v.lines) {
		return at
	}
	line := []rune(v.lines[at.Line-1])
	rest := string(line[min(at.Column-1, len(line)):])
	if i := strings.Index(rest, n.text); i >= 0 {
		at.Column += utf8.RuneCountInString(rest[:i] + n.text[:offset])
	}
	return at
}

// strays are variables from outside that nothing uses.
func (v *variables) strays() (names []string) {
	for _, name := range slices.Sorted(maps.Keys(v.set)) {
		_, listed := v.env[name]
		if !v.asked[name] && !listed && v.vars[name] == nil {
			names = append(names, name)
		}
	}
	return names
}

// repeated finds the variables that jobs are repeated for.
func (v *variables) repeated(jobs *node) {
	if jobs == nil {
		return
	}
	for _, j := range jobs.items {
		if n := j.get(repeatKey); n != nil {
			for _, e := range n.entries {
				v.repeat[e.key] = true
			}
		}
	}
}

// A round is one of a repetition.
type round struct {
	names  []string
	values map[string]string
	later  bool // those of all repetitions may be used, and are not known yet
}

func (r round) title() string {
	parts := make([]string, len(r.names))
	for i, name := range r.names {
		parts[i] = name + "=" + r.values[name]
	}
	return strings.Join(parts, ", ")
}

// repetitions are the rounds of a job: one for each value, of several variables one for each
// combination, the last changing fastest.
func (v *variables) repetitions(n *node) []round {
	rounds := []round{{}}
	if n == nil {
		return rounds
	}
	if n.kind != table || len(n.entries) == 0 {
		v.mistake(n.at, "", "repeat must be variables with lists of values, such as {station: [osk-bay, pell-point]}")
		return rounds
	}
	count := 1
	for _, e := range n.entries {
		if count *= max(1, len(e.value.items)); count > mostJobs {
			v.mistake(n.at, "", "it would be repeated more than %d times", mostJobs)
			return rounds
		}
	}
	for _, e := range n.entries {
		v.declareName(e.key, e.at)
		if e.value.kind != list || len(e.value.items) == 0 {
			v.mistake(e.value.at, "", "%s must have a list of values to repeat the job for", e.key)
			continue
		}
		var next []round
		for _, before := range rounds {
			for _, item := range e.value.items {
				if item.kind != scalar {
					v.mistake(item.at, "", "a value to repeat a job for must be a text, and is %s", item.kind)
					continue
				}
				text, _ := v.fill(item, round{})
				values := maps.Clone(before.values)
				if values == nil {
					values = map[string]string{}
				}
				values[e.key] = text
				next = append(next, round{names: append(slices.Clip(before.names), e.key), values: values})
			}
		}
		rounds = next
	}
	return rounds
}
