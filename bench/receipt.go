package main

import (
	"crypto/sha256"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
)

// hashing compares an extraction that keeps a receipt with one that does not.
func hashing(fill func(in string)) func(*bench) result {
	return func(b *bench) result {
		in, out, kept := filepath.Join(b.dir, "in"), filepath.Join(b.dir, "out"), filepath.Join(b.dir, "receipt.jsonl")
		must(os.MkdirAll(in, 0o777))
		fill(in)
		defer os.RemoveAll(in)
		clean := func() {
			must(os.RemoveAll(out))
			must(os.RemoveAll(kept))
		}
		without := func() { b.time("extract", in, "--into", out, "-q", "--workers", workers) }
		return b.pair(clean, without, "extract", in, "--into", out, "-q", "--workers", workers, "--receipt", kept)
	}
}

func largeMixed(in string) { writeMixed(filepath.Join(in, "survey.zip"), 300_000_000) }

func manyOfMany(in string) {
	r := rand.New(rand.NewPCG(1, 1))
	for a := range 200 {
		write(filepath.Join(in, fmt.Sprintf("day-%03d.zip", a)), func(add func(string, []byte)) {
			for f := range 100 {
				add(fmt.Sprintf("levels/gauge-%03d-%03d.csv", a, f), table(r, 4<<10))
			}
		})
	}
}

// undoing compares taking back 100,000 files with hashing and removing them one after the other.
func undoing(b *bench) result {
	in, out, kept := filepath.Join(b.dir, "in"), filepath.Join(b.dir, "out"), filepath.Join(b.dir, "receipt.jsonl")
	must(os.MkdirAll(in, 0o777))
	r := rand.New(rand.NewPCG(35, 35))
	for a := range 100 {
		write(filepath.Join(in, fmt.Sprintf("day-%03d.zip", a)), func(add func(string, []byte)) {
			for f := range 1000 {
				add(fmt.Sprintf("levels/gauge-%04d.csv", f), table(r, 1<<10))
			}
		})
	}
	defer os.RemoveAll(in)
	clean := func() {
		must(os.RemoveAll(out))
		must(os.RemoveAll(kept))
		b.time("extract", in, "--into", out, "-q", "--receipt", kept)
	}
	floor := func() {
		var folders []string
		must(filepath.WalkDir(out, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				folders = append(folders, path)
				return err
			}
			f, err := os.Open(path)
			must(err)
			_, err = io.Copy(sha256.New(), f)
			must(err)
			must(f.Close())
			return os.Remove(path)
		}))
		for _, folder := range slices.Backward(folders) {
			must(os.Remove(folder))
		}
	}
	return b.pair(clean, floor, "undo", kept, "-q")
}

// doneBefore has 100,000 archives that a receipt says are done; with memory, the peak
// of that is the figure.
func doneBefore(memory bool) func(*bench) result {
	return func(b *bench) result {
		in, out, kept := filepath.Join(b.dir, "in"), filepath.Join(b.dir, "out"), filepath.Join(b.dir, "receipt.jsonl")
		must(os.MkdirAll(in, 0o777))
		defer os.RemoveAll(in)
		defer os.RemoveAll(out)
		defer os.Remove(kept)
		one := filepath.Join(b.dir, "one.zip")
		write(one, func(add func(string, []byte)) { add("levels.csv", []byte("level\n1.23\n")) })
		data, err := os.ReadFile(one)
		must(err)
		for a := range 100_000 {
			must(os.WriteFile(filepath.Join(in, fmt.Sprintf("day-%06d.zip", a)), data, 0o666))
		}
		args := []string{"extract", in, "--into", out, "-q", "--receipt", kept, "--skip-done"}
		b.time(args...)
		r := b.alone(args...)
		if memory {
			r.value = float64(r.memory) / (1 << 20)
		}
		return r
	}
}
