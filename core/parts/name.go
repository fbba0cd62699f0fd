package parts

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"sync"

	"widecrate/core/format"
)

// role is what the name of a file says about its place in a set.
type role struct {
	kind          Kind
	before, after string // what stands around the number, in letter case as it is
	whole         string // what the whole is called
	token         string // the number, as it is written
	total         int    // how many parts there are, as the name says; 0: it does not
}

// The names that parts have. Numbers have at most five digits: a longer one is
// a date.
var (
	splitName    = pattern(`^(.+\.[zZ])(\d{2,5})$`)
	ofName       = pattern(`^(.+?)([ ._-]\(?(?:(?i:part)[ ._-]?)?\(?)(\d{1,5})([ ._-]?(?i:of)[ ._-]?(\d{1,5})\)?)((?:\.[A-Za-z][A-Za-z0-9]*)*)$`)
	partName     = pattern(`^(.+?)([ ._-]\(?(?i:part)[ ._-]?)(\d{1,5})(\)?)((?:\.[A-Za-z][A-Za-z0-9]*)*)$`)
	numberedName = pattern(`^(.+)(\.)(\d{1,5})$`)
	letteredName = pattern(`^(.+?)(\.|[ ._-](?i:part)[ ._-]?)([a-z]{2,6}|[A-Z]{2,6})$`)
)

// pattern is compiled when it is needed first: most runs see no part.
func pattern(text string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(text) })
}

// roleOf reads a name; false: it is not that of a part. The last part of a split
// ZIP archive is called like a whole one, and not recognised here. Folders may hold
// very many names: the patterns are tried only where they can match.
func roleOf(name string) (role, bool) {
	lower := strings.ToLower(name)
	if strings.Contains(lower, "of") {
		if m := ofName().FindStringSubmatch(name); m != nil {
			total, err := strconv.Atoi(m[5])
			if number, _ := strconv.Atoi(m[3]); err == nil && total > 0 && number <= total {
				return role{kind: Named, before: m[1] + m[2], after: m[4] + m[6], whole: m[1] + m[6], token: m[3], total: total}, true
			}
		}
	}
	if strings.Contains(lower, "part") {
		if m := partName().FindStringSubmatch(name); m != nil {
			return role{kind: Named, before: m[1] + m[2], after: m[4] + m[5], whole: m[1] + m[5], token: m[3]}, true
		}
	}
	if last := lower[len(lower)-1]; last >= '0' && last <= '9' {
		return inDigits(name)
	}
	if _, known := format.ByName(name); known { // but see finder.add
		return role{}, false
	}
	return inLetters(name)
}

// inDigits reads a name that ends in a number.
func inDigits(name string) (role, bool) {
	if m := splitName().FindStringSubmatch(name); m != nil {
		stem := m[1][:len(m[1])-2]
		return role{kind: Split, before: m[1], whole: stem + ".zip", token: m[2]}, true
	}
	if m := numberedName().FindStringSubmatch(name); m != nil {
		return role{kind: Numbered, before: m[1] + m[2], whole: m[1], token: m[3]}, true
	}
	return role{}, false
}

// inLetters reads a name that ends in letters. They may be an extension, such as
// "gz", and yet the number of a part.
func inLetters(name string) (role, bool) {
	token := name[strings.LastIndexAny(name, " ._-")+1:]
	if len(token) < 2 || len(token) == len(name) || token != strings.ToLower(token) && token != strings.ToUpper(token) {
		return role{}, false
	}
	if m := letteredName().FindStringSubmatch(name); m != nil {
		return role{kind: Lettered, before: m[1] + m[2], whole: m[1], token: m[3]}, true
	}
	return role{}, false
}

// before is the number of the part in front of one of this number.
func before(token string) string {
	s := newSequence(Lettered, []string{token})
	if at, ok := s.position(token); ok && at > 0 {
		return s.token(at - 1)
	}
	return ""
}

// key is the same for all parts of one set, whatever their letter case.
func (r role) key() string {
	return fmt.Sprintf("%d %s\x00%s\x00%d", r.kind, strings.ToLower(r.before), strings.ToLower(r.after), r.total)
}

// likely reports whether numbers in names are those of parts, and not a version
// or an extension: the first of them must be there, or the whole be called like
// an archive. Letters must at least follow each other, like "ab" and "ac".
func (r role) likely(s sequence, tokens []string) bool {
	if r.kind == Split || r.kind == Named {
		return true
	}
	positions := map[int]bool{}
	follow := false
	for _, token := range tokens {
		if at, ok := s.position(token); ok {
			positions[at] = true
			follow = follow || positions[at-1] || positions[at+1]
		}
	}
	_, known := format.ByName(r.whole)
	padded := s.width >= 3 && tokens[0][0] == '0'
	return positions[0] || r.kind == Lettered && known && follow || r.kind == Numbered && (known || padded)
}

// sequence turns the numbers of a set into positions, and back.
type sequence struct {
	digits string // the characters, in order
	width  int    // of the shortest number
	first  int    // position of the first part
	// When the numbers of a width are used up, some writers go on with a mark
	// of that, the last character, and one more place: 89, 9000; yz, zaaa.
	extends bool
}

func newSequence(kind Kind, tokens []string) sequence {
	s := sequence{digits: "0123456789", width: len(tokens[0])}
	if kind == Lettered {
		s.digits = "abcdefghijklmnopqrstuvwxyz"
		if tokens[0] == strings.ToUpper(tokens[0]) {
			s.digits = strings.ToUpper(s.digits)
		}
	}
	for _, token := range tokens {
		s.width = min(s.width, len(token))
	}
	top := s.digits[len(s.digits)-1]
	marked, plain := false, false
	for _, token := range tokens {
		marked = marked || len(token) == s.width+2 && token[0] == top
		plain = plain || len(token) == s.width && token[0] == top || len(token) == s.width+1
	}
	s.extends = marked && !plain
	if kind != Lettered {
		s.first = 1
		for _, token := range tokens {
			if strings.Trim(token, "0") == "" {
				s.first = 0
			}
		}
	}
	return s
}

// position is that of a number among all of its set, from 0; false: it is none.
func (s sequence) position(token string) (int, bool) {
	marks, skipped := 0, 0
	if s.extends {
		top := s.digits[len(s.digits)-1]
		for marks = 0; s.width+2*marks < len(token); marks++ {
			if token[marks] != top {
				return 0, false
			}
			skipped += s.room(s.width + marks)
		}
		token = token[marks:]
	}
	value := 0
	for _, c := range []byte(token) {
		digit := strings.IndexByte(s.digits, c)
		if digit < 0 || value > 1<<20 {
			return 0, false
		}
		value = value*len(s.digits) + digit
	}
	return value + skipped - s.first, value+skipped >= s.first
}

// room is how many numbers of a width there are that do not start with the mark.
func (s sequence) room(width int) int {
	n := len(s.digits) - 1
	for range width - 1 {
		n *= len(s.digits)
	}
	return n
}

// token is the number of the part at a position.
func (s sequence) token(position int) string {
	value, width, marks := position+s.first, s.width, ""
	if s.extends {
		for value >= s.room(width) {
			value -= s.room(width)
			marks += s.digits[len(s.digits)-1:]
			width++
		}
	}
	var b []byte
	for value > 0 || len(b) < width {
		b = append([]byte{s.digits[value%len(s.digits)]}, b...)
		value /= len(s.digits)
	}
	return marks + string(b)
}
