package web

import (
	"errors"
	"strings"
	"unicode"
)

// logins are those of a netrc file (ftp(1)), by host; "" is the default.
type logins map[string]login

type login struct{ user, password string }

// of is the login for a host.
func (l logins) of(host string) (login, bool) {
	if found, is := l[host]; is {
		return found, true
	}
	found, is := l[""]
	return found, is
}

// parseNetrc reads the words machine, default, login, password and account, each but default with a value. What is in
// quotes may have spaces, and quotes after a backslash; what comes after a word that starts with # is a comment, to the end
// of the line, but for values; a macdef goes on to the next empty line. The first entry of a host counts.
func parseNetrc(text string) (logins, error) {
	all := logins{}
	words := netrcWords{left: text}
	var host string
	var now *login
	done := func() {
		if _, known := all[host]; now != nil && !known {
			all[host] = *now
		}
	}
	for {
		word, is := words.next(true)
		if !is {
			done()
			return all, words.err
		}
		switch word {
		case "machine", "default":
			done()
			if host, now = "", new(login); word == "machine" {
				if host, is = words.next(false); !is || host == "" {
					return nil, errors.New("a machine has no name")
				}
			}
		case "login", "password", "account":
			value, is := words.next(false)
			if !is || now == nil {
				return nil, errors.New(word + " has no value, or no machine before it")
			}
			switch word {
			case "login":
				now.user = value
			case "password":
				now.password = value
			}
		case "macdef":
			_, words.left, _ = strings.Cut(words.left, "\n\n")
		default:
			return nil, errors.New("the word " + word + " is none that is known")
		}
	}
}

// netrcWords reads one word after the other.
type netrcWords struct {
	left string
	err  error
}

func (w *netrcWords) next(comments bool) (word string, is bool) {
	w.left = strings.TrimLeftFunc(w.left, unicode.IsSpace)
	for comments && strings.HasPrefix(w.left, "#") {
		_, w.left, _ = strings.Cut(w.left, "\n")
		w.left = strings.TrimLeftFunc(w.left, unicode.IsSpace)
	}
	if w.left == "" {
		return "", false
	}
	if w.left[0] != '"' {
		end := strings.IndexFunc(w.left, unicode.IsSpace)
		if end < 0 {
			end = len(w.left)
		}
		word, w.left = w.left[:end], w.left[end:]
		return word, true
	}
	var b strings.Builder
	for i := 1; i < len(w.left); i++ {
		switch c := w.left[i]; {
		case c == '\\' && i+1 < len(w.left):
			i++
			b.WriteByte(w.left[i])
		case c == '"':
			w.left = w.left[i+1:]
			return b.String(), true
		default:
			b.WriteByte(c)
		}
	}
	w.left, w.err = "", errors.New("a quote has no end")
	return "", false
}
