package wire

import (
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"sync"

	"widecrate/core/fault"
)

// NameOf is the last part of the path of an address, decoded, without the slash of a folder;
// that of the host where there is none.
func NameOf(at *url.URL) string {
	if name := LastPart(at.Path); name != "" {
		return name
	}
	return at.Hostname()
}

// LastPart is what follows the last slash or backslash of a name; empty where that
// names no file.
func LastPart(name string) string {
	name = name[strings.LastIndexAny(name, `/\`)+1:]
	if name == "." || name == ".." {
		return ""
	}
	return name
}

// PackedOnceMore is the error of a server that packs what it sends, and how it says that.
func PackedOnceMore(encoding string) error {
	return fault.New(fault.Unreadable, "the server sends it packed once more (Content-Encoding: %s), which was not asked for", Printable(encoding)).
		Advise("have the server send it as it is")
}

// Printable is text of a server for people, shortened.
func Printable(text string) string {
	const most = 80
	text = strconv.Quote(text)
	if text = text[1 : len(text)-1]; len(text) > most {
		text = text[:most] + "…"
	}
	return text
}

// HiddenPrefix starts the names of what is unfinished, or stands for something, which nobody else gives to anything.
const HiddenPrefix = ".widecrate-"

// unfinished matches the names of files that are being sent: a random part, the process, and the number of the file.
var unfinished = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^(` + regexp.QuoteMeta(HiddenPrefix) + `[a-z2-7]{14}-p[0-9]+)-[0-9]+$`)
})

// Unfinished is what the names of all unfinished files of a task begin with, of which this is one; empty: it is none.
func Unfinished(name string) string {
	if m := unfinished().FindStringSubmatch(name); m != nil {
		return m[1]
	}
	return ""
}
