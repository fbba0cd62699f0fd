package show

import (
	"bytes"
	"regexp"
	"strings"
	"sync"
)

// What is never shown: the query of an address, which may be its signature, and in a line of a job file what is called like
// a secret.
var (
	queries = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`(?i)\b((?:https?|sftp)://[^\s?"'<>]+\?)[^\s"'<>]*[^\s"'<>:,;)]`)
	})
	secrets = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`(?i)((?:password|token|secret|login|credential)[\w-]*["']?\s*[:=]\s*)[^\s,}]+.*`)
	})
)

// Discreet is text without the queries of addresses.
func Discreet(text []byte) []byte {
	if !bytes.Contains(text, []byte("://")) || bytes.IndexByte(text, '?') < 0 {
		return text
	}
	return queries().ReplaceAll(text, []byte("${1}…"))
}

// DiscreetLine is a line of a job file without what is called like a secret. The names of variables are none.
func DiscreetLine(line string) string {
	if strings.Contains(line, "-env") {
		return line
	}
	return secrets().ReplaceAllString(line, "${1}…")
}
