package place

import (
	"fmt"
	"path"
	"strings"

	"widecrate/core/format"
)

// Stem returns the last part of a file name without its archive extension, both
// of a double one, or else without whatever extension it has.
func Stem(name string) string {
	if stem, is := format.CutExtension(name); is {
		return stem
	}
	if stem := strings.TrimSuffix(name, path.Ext(name)); stem != "" {
		return stem
	}
	return name
}

// Numbered is the name of the nth thing that would have one name: name-2.tar.gz for 2, and the
// name itself for 1.
func Numbered(name string, n int) string {
	if n == 1 {
		return name
	}
	stem := Stem(name)
	return fmt.Sprintf("%s-%d%s", stem, n, name[len(stem):])
}
