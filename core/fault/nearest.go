package fault

import "github.com/agnivade/levenshtein"

// Nearest is the word that one which there is not was probably meant to be; empty
// if none is near.
func Nearest(word string, words []string) string {
	nearest, least := "", len(word)/2+1
	for _, w := range words {
		if apart := levenshtein.ComputeDistance(word, w); apart < least {
			nearest, least = w, apart
		}
	}
	return nearest
}
