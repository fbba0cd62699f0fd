package place

import (
	"hash/maphash"
	"path"
	"path/filepath"
	"runtime"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"widecrate/core/fault"
)

// Names says what becomes of names that some common system cannot hold.
type Names uint8

// The rules for names.
const (
	AsIs     Names = iota // a system that cannot hold one refuses its archive
	Portable              // they are changed; see Spelling
)

// A Spelling is how the paths of one archive are spelt so that every common system
// can hold them. What cannot stay is percent-encoded (RFC 3986, section 2.1), and so
// percent-decoding gives every name back:
//
//   - < > : " | ? * \, control characters, and bytes that are no UTF-8
//   - a dot or a space at the end of a name
//   - the first character of the name of a device, such as con or LPT1.txt
//   - of two names in one folder that differ in letter case or composition alone,
//     the first characters of the later one
//   - a percent sign before two hexadecimal digits
//
// It depends on nothing but the paths and their order. Its zero value is ready.
type Spelling struct {
	seed    maphash.Seed
	taken   map[uint64]uint64 // what a spelt path is to systems that fold, and the path that has it
	changed map[string]string // by path, its last name where that is another one
	dir     string            // of the last path, and how that is spelt
	speltIn string
}

// Path is how a path of names between slashes is spelt.
func (s *Spelling) Path(stored string) string {
	if s.taken == nil {
		s.seed, s.taken, s.changed = maphash.MakeSeed(), map[uint64]uint64{}, map[string]string{}
	}
	dir, name := path.Split(stored)
	if dir == "" {
		return s.child(stored, "", name)
	}
	if dir != s.dir {
		s.dir, s.speltIn = dir, s.Path(strings.TrimSuffix(dir, "/"))+"/"
	}
	return s.child(stored, s.speltIn, name)
}

// child spells a name in a folder that is spelt already.
func (s *Spelling) child(stored, in, name string) string {
	if other, changed := s.changed[stored]; changed {
		return in + other
	}
	self := maphash.String(s.seed, stored)
	for spelt, n := SpellName(name), 0; ; n++ {
		key := maphash.String(s.seed, folded(in+spelt))
		if owner, taken := s.taken[key]; taken && owner != self && n < len(name) {
			spelt = encoded(name, func(i int, c rune) bool { return i <= n || unheld(name, i, c) })
			continue
		}
		s.taken[key] = self
		if spelt != name {
			s.changed[stored] = spelt
		}
		return in + spelt
	}
}

// Link is the target of a symbolic link at the path stored, spelt as the path that it
// leads to.
func (s *Spelling) Link(stored, target string) string {
	names := strings.Split(target, "/")
	at := path.Dir(stored)
	for i, name := range names {
		at = path.Join(at, name)
		switch name {
		case "", ".", "..":
			continue
		}
		if other, changed := s.changed[at]; changed {
			names[i] = other
		} else {
			names[i] = SpellName(name)
		}
	}
	return strings.Join(names, "/")
}

// SpellName spells a single name that has no twin; see Spelling.
func SpellName(name string) string {
	return encoded(name, func(i int, c rune) bool { return unheld(name, i, c) })
}

// Spell spells the path of a folder that has no twin by this rule.
func (n Names) Spell(path string) string {
	if n == AsIs {
		return path
	}
	names := strings.Split(path, "/")
	for i, name := range names {
		if name != "." {
			names[i] = SpellName(name)
		}
	}
	return strings.Join(names, "/")
}

// encoded percent-encodes the characters of a name that are to be.
func encoded(name string, which func(i int, c rune) bool) string {
	const digits = "0123456789ABCDEF"
	var b strings.Builder
	from := 0 // of what is not yet in b
	for i, c := range name {
		if !which(i, c) {
			continue
		}
		b.WriteString(name[from:i])
		_, size := utf8.DecodeRuneInString(name[i:])
		for from = i; from < i+size; from++ {
			b.Write([]byte{'%', digits[name[from]>>4], digits[name[from]&15]})
		}
	}
	if from == 0 {
		return name
	}
	b.WriteString(name[from:])
	return b.String()
}

// unheld reports whether the character c at i cannot stay in a name.
func unheld(name string, i int, c rune) bool {
	last := i+utf8.RuneLen(max(c, 0)) == len(name)
	switch {
	case c < ' ', c == 0x7f, strings.ContainsRune(`<>:"/\|?*`, c):
		return true
	case c == '.', c == ' ':
		return last
	case c == '%':
		return i+2 < len(name) && isHex(name[i+1]) && isHex(name[i+2])
	case c == utf8.RuneError:
		_, size := utf8.DecodeRuneInString(name[i:])
		return size == 1
	}
	return i == 0 && isDevice(name)
}

func isHex(c byte) bool {
	return '0' <= c && c <= '9' || 'a' <= c|0x20 && c|0x20 <= 'f'
}

// isDevice reports whether Windows takes a name, whatever its extension, for that of
// a device.
func isDevice(name string) bool {
	stem, _, _ := strings.Cut(name, ".")
	stem = strings.ToUpper(strings.TrimRight(stem, " "))
	switch stem {
	case "CON", "PRN", "AUX", "NUL", "CONIN$", "CONOUT$":
		return true
	}
	kind, number := stem[:min(3, len(stem))], stem[min(3, len(stem)):]
	if kind != "COM" && kind != "LPT" {
		return false
	}
	switch number {
	case "¹", "²", "³":
		return true
	}
	return len(number) == 1 && '0' <= number[0] && number[0] <= '9'
}

// Folds reports whether file systems usually take names for equal here that differ in
// letter case.
const Folds = runtime.GOOS == "windows" || runtime.GOOS == "darwin"

// Key is what paths have in common that are usually the same on this system.
func Key(path string) string {
	if Folds {
		return folded(filepath.ToSlash(path))
	}
	return filepath.ToSlash(path)
}

// folded is the same for paths that some common system takes for equal.
func folded(path string) string {
	for i := range len(path) {
		if path[i] >= utf8.RuneSelf {
			return strings.ToLower(strings.ToUpper(norm.NFC.String(path)))
		}
	}
	return strings.ToLower(path)
}

// Holds makes sure that this system can hold a path of names between slashes under
// just these names: Windows cannot hold all. The error is of kind fault.Refused.
func Holds(path string) error {
	if runtime.GOOS != "windows" || path == "." {
		return nil
	}
	return heldOnWindows(path)
}

func heldOnWindows(path string) error {
	for name := range strings.SplitSeq(path, "/") {
		for i, c := range name {
			if c != '%' && unheld(name, i, c) {
				return fault.New(fault.Refused, "this system cannot hold the name %q", name).Suggest(fault.PortableNames)
			}
		}
	}
	if runtime.GOOS == "windows" && !filepath.IsLocal(filepath.FromSlash(path)) {
		return fault.New(fault.Refused, "this system gives the path %q a meaning of its own", path)
	}
	return nil
}
