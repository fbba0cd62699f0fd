// Package choose decides which entries of an archive, or files on disk, are
// kept. It judges an entry by what the archive says of it, never by its data.
package choose

import (
	"path"
	"strings"
	"sync/atomic"

	"github.com/bmatcuk/doublestar/v4"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

// Rules is what a user asks for. The zero value keeps everything.
//
// Several of Entry and Pick mean "any of them"; Ext then narrows; Drop is
// stronger than all. A pattern is shell-style with "**". One without a slash
// is held against each name of the path, one with a slash against the whole
// path; one that matches a folder takes everything below it.
type Rules struct {
	Entry []string // paths, to the letter
	Pick  []string // patterns
	Drop  []string // patterns
	Ext   []string // extensions, with or without their dot; letter case ignored
}

// A Rule is the reason why an entry is left out.
type Rule uint8

// Kept is the verdict on an entry that no rule leaves out.
const (
	Kept        Rule = iota
	NotNamed         // there are Entry or Pick rules, and none of them matches
	OtherSuffix      // its extension is none of Ext
	Dropped          // it matches Drop
	Special          // it is a device or another thing that is never unpacked
	ruleCount
)

var ruleNames = [ruleCount]string{"kept", "not picked", "other extension", "dropped", "special file"}

func (r Rule) String() string { return ruleNames[r] }

// Tally counts entries by the rule that left them out; folders do not count.
type Tally [ruleCount]int

// LeftOut is the number of entries that were left out by any rule.
func (t *Tally) LeftOut() int {
	n := 0
	for _, c := range t[Kept+1:] {
		n += c
	}
	return n
}

// Add adds another tally to this one.
func (t *Tally) Add(other Tally) {
	for rule, n := range other {
		t[rule] += n
	}
}

// A Selection is a compiled set of rules. It remembers which of them matched,
// and may be used by several goroutines at once.
type Selection struct {
	named, dropped []*matcher
	extensions     []string
}

// matcher is one Entry, Pick or Drop rule.
type matcher struct {
	text    string
	literal bool
	whole   bool // held against the whole path
	matched atomic.Bool
}

// New compiles rules. A malformed pattern is of kind fault.Usage.
func New(r Rules) (*Selection, error) {
	s := &Selection{}
	for _, text := range r.Entry {
		s.named = append(s.named, &matcher{text: strings.TrimSuffix(text, "/"), literal: true, whole: true})
	}
	for _, list := range []struct {
		from []string
		to   *[]*matcher
	}{{r.Pick, &s.named}, {r.Drop, &s.dropped}} {
		for _, text := range list.from {
			if !doublestar.ValidatePattern(text) {
				return nil, fault.New(fault.Usage, "the pattern %q is malformed", text).
					Advise(`a '[' needs its ']', a '{' its '}'; --entry takes a path to the letter`)
			}
			trimmed := strings.TrimSuffix(text, "/")
			*list.to = append(*list.to, &matcher{text: trimmed, whole: strings.Contains(trimmed, "/")})
		}
	}
	for _, ext := range r.Ext {
		s.extensions = append(s.extensions, "."+strings.ToLower(strings.TrimPrefix(ext, ".")))
	}
	return s, nil
}

// All reports whether the selection keeps everything.
func (s *Selection) All() bool {
	return len(s.named) == 0 && len(s.dropped) == 0 && len(s.extensions) == 0
}

// Judge says whether an entry is kept, or which rule leaves it out. A folder is
// kept as an entry of its own only where rules match it by name: files bring
// the folders that they need with them.
func (s *Selection) Judge(e *archive.Entry) Rule {
	if s.All() {
		return Kept
	}
	if anyMatches(s.dropped, e.Path) {
		return Dropped
	}
	if len(s.named) > 0 && !anyMatches(s.named, e.Path) {
		return NotNamed
	}
	if len(s.extensions) > 0 && !s.hasExtension(e) {
		return OtherSuffix
	}
	return Kept
}

func (s *Selection) hasExtension(e *archive.Entry) bool {
	if e.Kind == archive.Folder {
		return false
	}
	name := strings.ToLower(path.Base(e.Path))
	for _, ext := range s.extensions {
		if strings.HasSuffix(name, ext) && name != ext {
			return true
		}
	}
	return false
}

// Unmatched lists the entry and pick rules, as given, that matched nothing so far.
func (s *Selection) Unmatched() []string {
	var texts []string
	for _, m := range s.named {
		if !m.matched.Load() {
			texts = append(texts, m.text)
		}
	}
	return texts
}

// anyMatches holds every matcher against the path, so that each learns whether
// it ever matched.
func anyMatches(matchers []*matcher, path string) bool {
	found := false
	for _, m := range matchers {
		if m.matches(path) {
			found = true
			if !m.matched.Load() {
				m.matched.Store(true)
			}
		}
	}
	return found
}

// matches holds the rule against the path and each folder above it.
func (m *matcher) matches(path string) bool {
	start := 0
	for i := 0; i <= len(path); i++ {
		if i < len(path) && path[i] != '/' {
			continue
		}
		part := path[:i]
		if !m.whole {
			part = path[start:i]
		}
		start = i + 1
		if m.literal {
			if part == m.text {
				return true
			}
		} else if ok, _ := doublestar.Match(m.text, part); ok { // validated by New
			return true
		}
	}
	return false
}
