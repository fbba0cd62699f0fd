package wire

import (
	"net/url"
	"strconv"
	"strings"

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
