package fault

import (
	"strings"

	"github.com/agnivade/levenshtein"
)

// Nearest is the word that one which there is not was probably meant to be; empty
// if none is near: more than a third of the letters are others.
func Nearest(word string, words []string) string {
	nearest, least := "", max(1, len(word)/3)+1
	for _, w := range words {
		apart := levenshtein.ComputeDistance(word, w)
		if strings.EqualFold(word, w) {
			apart = 0
		} else if swapped(word, w) {
			apart = 1
		}
		if apart < least {
			nearest, least = w, apart
		}
	}
	return nearest
}

// swapped reports whether two neighbouring letters changed places.
func swapped(a, b string) bool {
	if len(a) != len(b) {
		return false
	}
	i := 0
	for i < len(a) && a[i] == b[i] {
		i++
	}
	return i+1 < len(a) && a[i] == b[i+1] && a[i+1] == b[i] && a[i+2:] == b[i+2:]
}
