package main

import (
	"fmt"
	"os"
	"path/filepath"
)

// millionAs lists an archive of a million entries in one of the forms.
func millionAs(form string) func(*bench) result {
	return func(b *bench) result {
		path := filepath.Join(b.dir, "million.zip")
		if _, err := os.Stat(path); err != nil {
			write(path, func(add func(string, []byte)) {
				for i := range 1_000_000 {
					add(fmt.Sprintf("station-%02d/2026/level-%07d.csv", i%20, i), []byte("0"))
				}
			})
		}
		return b.alone("inspect", path, "--as", form)
	}
}

func start(b *bench) result { return b.alone("--help") }
