// Package choose decides which entries of an archive, or files on disk, are
// kept. It judges an entry by what the archive says of it, never by its data.
package choose

import (
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/agnivade/levenshtein"
	"github.com/bmatcuk/doublestar/v4"
	"github.com/dustin/go-humanize"

	"widecrate/core/archive"
	"widecrate/core/fault"
)

// Rules is what a user asks for. The zero value keeps everything.
//
// Several of Entry and Pick mean "any of them"; Ext, sizes and times then
// narrow; Drop is stronger than all. A pattern is shell-style with "**". One
// without a slash is matched against each name of the path, one with a slash
// against the whole path; one that matches a folder takes everything below it.
type Rules struct {
	Entry      []string // paths, to the letter
	Pick       []string // patterns
	Drop       []string // patterns
	Ext        []string // extensions, with or without their dot; letter case ignored
	NoClutter  bool     // leave out what desktop systems add
	MinSize    int64    // bytes
	MaxSize    int64    // bytes; 0: no bound
	Since      time.Time
	Until      time.Time
	IgnoreCase bool // for Entry, Pick and Drop
}

// A Rule is the reason why an entry is left out.
type Rule uint8

// Kept is the verdict on an entry that no rule leaves out. The rules up to
// OtherTime are those of a Selection; the others are for its users, who count
// in the same Tally.
const (
	Kept        Rule = iota
	NotNamed         // there are rules of Entry or Pick, and none of them matches
	OtherSuffix      // the extension is none of Ext
	Dropped          // a rule of Drop matches
	Clutter          // a desktop system added the entry
	OtherSize        // smaller or larger than asked for
	OtherTime        // older or newer than asked for, or without a time
	Special          // a device or another thing that is never unpacked
	Link             // a link, and links are not wanted
	Pathless         // nothing is left of the path
	Unfinished       // what a run, here or elsewhere, has not completed
	Deeper           // an archive that lies too deep to be opened, and that no rule keeps as a file
	ruleCount
)

var ruleNames = [ruleCount]string{"kept", "not picked", "other extension", "dropped", "clutter", "other size",
	"other time", "special file", "link", "no path left", "unfinished work", "deeper archive"}

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

// String says how many entries were left out, and by which rules.
func (t *Tally) String() string {
	if t.LeftOut() == 0 {
		return "none left out"
	}
	var rules []string
	for rule := Kept + 1; rule < ruleCount; rule++ {
		switch t[rule] {
		case 0:
		case t.LeftOut():
			rules = append(rules, rule.String())
		default:
			rules = append(rules, humanize.Comma(int64(t[rule]))+" "+rule.String())
		}
	}
	return fmt.Sprintf("%s left out (%s)", humanize.Comma(int64(t.LeftOut())), strings.Join(rules, ", "))
}

// ByRule counts by the names of rules, as scripts get them.
func (t *Tally) ByRule() map[string]int {
	counts := map[string]int{}
	for rule := Kept + 1; rule < ruleCount; rule++ {
		if t[rule] > 0 {
			counts[strings.ReplaceAll(rule.String(), " ", "_")] = t[rule]
		}
	}
	return counts
}

// MarshalJSON gives them, without what is kept.
func (t Tally) MarshalJSON() ([]byte, error) { return json.Marshal(t.ByRule()) }

// IsZero reports whether nothing is left out.
func (t Tally) IsZero() bool { return t.LeftOut() == 0 }

// Add adds another tally to this one.
func (t *Tally) Add(other Tally) {
	for rule, n := range other {
		t[rule] += n
	}
}

// A Selection is a compiled set of rules. It remembers which of them matched,
// and may be used by several goroutines at once.
type Selection struct {
	rules          Rules
	named, dropped []*matcher
	extensions     []string
}

// matcher is one Entry, Pick or Drop rule.
type matcher struct {
	text    string
	literal bool
	whole   bool // matched against the whole path
	given   string
	matched atomic.Bool

	mu      sync.Mutex
	nearest string // the path most like a literal one that was not found; of a pattern, see Unmatched
	apart   int    // letters that it differs in
	looked  int    // at how many paths a pattern was tried otherwise
}

// New compiles rules. A malformed pattern is of kind fault.Usage.
func New(r Rules) (*Selection, error) {
	s := &Selection{rules: r}
	add := func(list *[]*matcher, text string, literal bool) {
		m := &matcher{text: strings.TrimSuffix(text, "/"), given: text, literal: literal}
		m.whole = literal || strings.Contains(m.text, "/")
		if r.IgnoreCase {
			m.text = strings.ToLower(m.text)
		}
		*list = append(*list, m)
	}
	for _, text := range append(slices.Clone(r.Pick), r.Drop...) {
		if !doublestar.ValidatePattern(text) {
			return nil, fault.New(fault.Usage, "the pattern %q is malformed", text).
				Suggest(fault.LiteralPath)
		}
	}
	for _, text := range r.Entry {
		add(&s.named, text, true)
	}
	for _, text := range r.Pick {
		add(&s.named, text, false)
	}
	for _, text := range r.Drop {
		add(&s.dropped, text, false)
	}
	for _, ext := range r.Ext {
		plain := strings.TrimPrefix(strings.TrimPrefix(ext, "*"), ".")
		if plain == "" || strings.ContainsAny(plain, `*?[]{}/\`) {
			return nil, fault.New(fault.Usage, "%q is no extension", ext).Advise("an extension is plain, such as csv or tar.gz; patterns choose by whole names")
		}
		s.extensions = append(s.extensions, "."+strings.ToLower(plain))
	}
	return s, nil
}

// All reports whether the selection keeps everything, as a nil one does.
func (s *Selection) All() bool {
	if s == nil {
		return true
	}
	r := &s.rules
	return len(s.named) == 0 && len(s.dropped) == 0 && !s.narrows() && !r.NoClutter
}

// Picks reports whether it keeps only what some rule asks for, and not all but what
// is left out.
func (s *Selection) Picks() bool { return s != nil && (len(s.named) > 0 || s.narrows()) }

// narrows reports whether there are rules that only files can pass.
func (s *Selection) narrows() bool {
	r := &s.rules
	return len(s.extensions) > 0 || r.MinSize > 0 || r.MaxSize > 0 || !r.Since.IsZero() || !r.Until.IsZero()
}

// Judge says whether an entry is kept, or which rule leaves it out. A folder is
// kept as an entry of its own only where no rule narrows to files: files bring
// the folders that they need with them.
func (s *Selection) Judge(e *archive.Entry) Rule {
	if s.All() {
		return Kept
	}
	path := e.Path
	if s.rules.IgnoreCase {
		path = strings.ToLower(path)
	}
	switch {
	case anyMatches(s.dropped, path):
		return Dropped
	case s.rules.NoClutter && IsClutter(e.Path):
		return Clutter
	case len(s.named) > 0 && !anyMatches(s.named, path):
		return NotNamed
	case len(s.extensions) > 0 && !s.hasExtension(e):
		return OtherSuffix
	case s.narrows() && e.Kind == archive.Folder:
		return OtherSuffix
	case e.Kind == archive.Symlink && !s.inSize(0), e.Kind != archive.Symlink && !s.inSize(e.Size): // some formats keep the target as data
		return OtherSize
	case !s.inTime(e.Modified):
		return OtherTime
	}
	return Kept
}

// JudgeArchive is Judge for an archive inside another that so many lie around, of which nested
// are opened. One that is to be opened is judged by what it holds, unless it is dropped.
func (s *Selection) JudgeArchive(e *archive.Entry, depth, nested int) (verdict Rule, open bool) {
	verdict = s.Judge(e)
	switch {
	case nested == 0, verdict == Dropped, verdict == Clutter:
		return verdict, false
	case depth < nested:
		return Kept, true
	case verdict != Kept:
		return Deeper, false
	}
	return verdict, false
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

// inSize passes a size that the archive does not record: it is not known to be
// wrong.
func (s *Selection) inSize(size int64) bool {
	return size == archive.Unknown || size >= s.rules.MinSize && (s.rules.MaxSize == 0 || size <= s.rules.MaxSize)
}

// tolerance is how coarse the times of some archives are.
const tolerance = 2 * time.Second

func (s *Selection) inTime(t time.Time) bool {
	since, until := s.rules.Since, s.rules.Until
	if since.IsZero() && until.IsZero() {
		return true
	}
	return !t.IsZero() && !t.Before(since.Add(-tolerance)) && (until.IsZero() || !t.After(until.Add(tolerance)))
}

// Unmatched is a rule that matched nothing.
type Unmatched struct {
	Text    string // as it was given
	Entry   bool   // the rule is a path to the letter, not a pattern
	Nearest string // for such a one, the path that is most like it; for a pattern, one that it just misses; may be empty
}

// Hint is what would have matched the nearest path.
func (u Unmatched) Hint() fault.Hint {
	same := func(path string) bool { return strings.EqualFold(path, u.Text) }
	switch {
	case u.Nearest == "":
		return fault.NoHint
	case u.Entry && path.Base(u.Nearest) == u.Text: // the nearest says it: it is in a folder
	case !u.Entry && (u.Nearest == u.Text || path.Base(u.Nearest) == u.Text):
		return fault.ExactPath
	case !u.Entry, same(u.Nearest), same(path.Base(u.Nearest)):
		return fault.IgnoreCase
	}
	return fault.NoHint
}

// Unmatched lists the rules that matched nothing so far.
func (s *Selection) Unmatched() []Unmatched {
	if s == nil {
		return nil
	}
	var list []Unmatched
	for _, m := range append(slices.Clone(s.named), s.dropped...) {
		if !m.matched.Load() {
			list = append(list, Unmatched{m.given, m.literal, m.nearest})
		}
	}
	return list
}

// considered bounds how many paths of an archive are compared with an entry
// that was not found in it, and how many in all with a pattern.
const considered = 20_000

// NoteNearest looks for the paths most like those that were asked for and not found yet.
// Call it once for each archive, after judging.
func (s *Selection) NoteNearest(entries []archive.Entry) {
	if s == nil {
		return
	}
	for _, list := range [][]*matcher{s.named, s.dropped} {
		for _, m := range list {
			if m.matched.Load() {
				continue
			}
			m.mu.Lock()
			if m.literal {
				m.compare(entries[:min(considered, len(entries))])
			} else if m.looked < considered {
				m.tryOtherwise(entries[:min(considered-m.looked, len(entries))])
			}
			m.mu.Unlock()
		}
	}
}

// compare looks for what is most like a path.
func (m *matcher) compare(entries []archive.Entry) {
	for i := range entries {
		candidate := entries[i].Path
		name := path.Base(candidate)
		// The last name alone is what people remember of a path.
		apart := min(levenshtein.ComputeDistance(m.text, candidate), levenshtein.ComputeDistance(m.text, name)+1)
		if strings.EqualFold(m.text, candidate) || strings.EqualFold(m.text, name) {
			apart = 0
		}
		if apart <= max(3, len(m.text)/2) && (m.nearest == "" || apart < m.apart || apart == m.apart && candidate < m.nearest) {
			m.nearest, m.apart = candidate, apart
		}
	}
}

// tryOtherwise looks for a path that a pattern is to the letter, or that it matches where letter
// case does not count.
func (m *matcher) tryOtherwise(entries []archive.Entry) {
	m.looked += len(entries)
	plain := matcher{text: m.text, whole: m.whole, literal: true}
	folded := matcher{text: strings.ToLower(m.text), whole: m.whole}
	for i := range entries {
		candidate := entries[i].Path
		if first := m.nearest == "" || candidate < m.nearest; first && (plain.matches(candidate) || folded.matches(strings.ToLower(candidate))) {
			m.nearest = candidate // the same, whichever archive comes first
		}
	}
}

// anyMatches checks every matcher against the path, so that each learns whether
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

// matches checks the rule against the path and each folder above it.
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

// Nowhere is an entry that was asked for by its path, and that nothing had; empty: there is none.
func (s *Selection) Nowhere() string {
	for _, rule := range s.Unmatched() {
		if rule.Entry {
			return rule.Text
		}
	}
	return ""
}
