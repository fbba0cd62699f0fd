package crossed

import (
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// A Choice is what the words of a command line choose among the entries of archives.
type Choice struct {
	words   []string
	matched map[string]bool // of --entry
}

func choose(words []string) *Choice { return &Choice{words: words, matched: map[string]bool{}} }

// has reports whether an option is given.
func (c *Choice) has(option string) bool { return slices.Contains(c.words, "--"+option) }

// of is the value of an option; fallback where it is not given.
func (c *Choice) of(option, fallback string) string {
	if i := slices.Index(c.words, "--"+option); i >= 0 {
		return c.words[i+1]
	}
	return fallback
}

// entries are the paths to the letter.
func (c *Choice) entries() (list []string) {
	if c.has("entry") {
		list = append(list, c.of("entry", ""))
	}
	if c.has("entry-list") {
		list = append(list, "a.csv", "d/a.csv")
	}
	return list
}

// missed reports whether no entry had one of those paths.
func (c *Choice) missed() bool {
	return slices.ContainsFunc(c.entries(), func(entry string) bool { return !c.matched[entry] })
}

// judge says why an entry is left out, in the words of docs/json.md; empty: it is kept, or is an
// archive that lies so many deep and is opened.
func (c *Choice) judge(e *Entry, depth int) (why string, open bool) {
	is := e.Kind == File && (c.has("archives") && c.archive(e.Path) || !c.has("archives") && e.Inner != nil)
	deepest, _ := strconv.Atoi(c.of("nested-depth", "3"))
	fold := func(s string) string { return s }
	if c.has("ignore-case") {
		fold = strings.ToLower
	}
	at := fold(e.Path)
	switch {
	case c.has("drop") && glob(fold(c.of("drop", "")), at):
		return "dropped", false
	case c.has("no-clutter") && path.Base(e.Path) == ".DS_Store":
		return "clutter", false
	}
	named := len(c.entries()) == 0 && !c.has("pick")
	for _, entry := range c.entries() {
		if fold(entry) == at {
			c.matched[entry], named = true, true
		}
	}
	named = named || c.has("pick") && glob(fold(c.of("pick", "")), at)
	if c.has("nested") && is && depth < deepest {
		return "", true
	}
	if why = "not_picked"; named {
		why = c.narrow(e)
	}
	if why != "" && c.has("nested") && is {
		why = "deeper_archive"
	}
	return why, false
}

// narrow says whether an entry has the extension, size and time that are asked for.
func (c *Choice) narrow(e *Entry) string {
	if c.has("ext") && !slices.ContainsFunc(strings.Split(c.of("ext", ""), ","), func(ext string) bool {
		return e.Kind != Folder && strings.HasSuffix(strings.ToLower(e.Path), "."+ext)
	}) {
		return "other_extension"
	}
	size := len(e.Data)
	least, _ := strconv.Atoi(c.of("min-size", "0"))
	most, err := strconv.Atoi(c.of("max-size", ""))
	if size < least || err == nil && size > most || e.Kind == Folder && (c.has("min-size") || c.has("max-size")) {
		return "other_size"
	}
	const tolerance = 2 * time.Second
	since, sinceIs := moment(c.of("since", ""), false)
	until, untilIs := moment(c.of("until", ""), true)
	if sinceIs && e.Time.Before(since.Add(-tolerance)) || untilIs && e.Time.After(until.Add(tolerance)) || e.Kind == Folder && (sinceIs || untilIs) {
		return "other_time"
	}
	return ""
}

// moment reads a date, or a date and time.
func moment(text string, end bool) (time.Time, bool) {
	if at, err := time.Parse(time.RFC3339, text); err == nil {
		return at, true
	}
	at, err := time.Parse(time.DateOnly, text)
	if end {
		at = at.Add(24*time.Hour - time.Second)
	}
	return at, err == nil
}

// shape is the path that an entry gets, in an archive of this name; empty: none is left.
func (c *Choice) shape(e *Entry, archive string) string {
	names := strings.Split(e.Path, "/")
	peel, _ := strconv.Atoi(c.of("peel", "0"))
	if len(names) <= peel {
		return ""
	}
	names = names[peel:]
	if c.has("flatten") {
		if e.Kind == Folder {
			return ""
		}
		names = names[len(names)-1:]
	}
	if last := len(names) - 1; e.Kind != Folder && archive != "" {
		name := names[last]
		names[last] = strings.NewReplacer("{name}", name, "{stem}", stem(name), "{ext}", name[len(stem(name)):], "{archive}", archive).Replace(c.of("rename", "{name}"))
	}
	return strings.Join(names, "/")
}

// archive reports whether a file is taken for an archive by --archives.
func (c *Choice) archive(at string) bool {
	pattern := c.of("archives", "**/*")
	if !strings.Contains(pattern, "/") {
		at = path.Base(at)
	}
	return wild(pattern, "").MatchString(at)
}

// opens reports whether the passwords that are given open an archive.
func (c *Choice) opens(a *Archive) bool {
	return a.Key == "" || a.Key == keys[0] && c.has("password-env") || c.has("password-file")
}

// keys are passwords: of --password-env the first, of --password-file all.
var keys = []string{"tide", "moor"}

// codeOf is the exit code of a run with such failures.
func codeOf(failures []int) (code int) {
	for _, one := range failures {
		if code != 0 && code != one {
			return 1
		}
		code = one
	}
	return code
}

// archiveName matches the names of archives.
var archiveName = regexp.MustCompile(`(?i)\.(tar\.(gz|zst|xz|bz2|lz4)|tgz|tar|zip)$`)

// stem is a name without its extension.
func stem(name string) string {
	if at := archiveName.FindStringIndex(name); at != nil && at[0] > 0 {
		return name[:at[0]]
	}
	if short := strings.TrimSuffix(name, path.Ext(name)); short != "" {
		return short
	}
	return name
}

// glob reports whether a pattern matches a path, one of its names, or a folder above it.
func glob(pattern, at string) bool {
	if !strings.Contains(pattern, "/") {
		return slices.ContainsFunc(strings.Split(at, "/"), func(name string) bool {
			is, _ := path.Match(pattern, name)
			return is
		})
	}
	return wild(pattern, `(/.*)?`).MatchString(at)
}

// wild is a pattern as an expression, for a whole path with something behind it.
func wild(pattern, behind string) *regexp.Regexp {
	text := regexp.QuoteMeta(pattern)
	text = strings.ReplaceAll(text, `/\*\*`, `(/.*)?`)
	text = strings.ReplaceAll(text, `\*\*/`, `(.*/)?`)
	text = strings.ReplaceAll(text, `\*`, `[^/]*`)
	return regexp.MustCompile(`^` + text + behind + `$`)
}
