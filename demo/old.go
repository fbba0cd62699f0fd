package demo

import (
	"bytes"
	"strings"
	"time"

	"golang.org/x/text/encoding/charmap"
)

// old is an archive as packers of 1994 made them: its names are in the code page of the system,
// which nothing in it says.
func old() []byte {
	when := time.Date(1994, 5, 1, 12, 0, 0, 0, time.UTC)
	names := []string{"УРОВНИ/ЗАЛИВ.CSV", "УРОВНИ/ПРИЧАЛ.CSV", "README.TXT"}
	var files []file
	for i, name := range names {
		files = append(files, file{standIn(i, name), []byte("TIME,MM\r\n00:00,2600\r\n06:00,1874\r\n")})
	}
	b := pack("old.zip", when, files)
	for i, name := range names { // both headers have it
		b = bytes.ReplaceAll(b, []byte(standIn(i, name)), []byte(inCodePage(name)))
	}
	return b
}

// standIn is a plain name of the same length.
func standIn(i int, name string) string {
	return strings.Repeat(string(rune('p'+i)), len(inCodePage(name)))
}

func inCodePage(name string) string {
	s, err := charmap.CodePage866.NewEncoder().String(name)
	if err != nil {
		panic(err) // all of the names above are in it
	}
	return s
}
