package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
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
