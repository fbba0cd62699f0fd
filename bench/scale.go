package main

import (
	"fmt"
	"os"
	"path/filepath"
	"time"
)

// A night is a run on a folder of archives, with what comes before it.
type night struct {
	before, run []string
}

var (
	nightly     = []string{"extract", "in", "--recursive", "--into", "out", "-q", "--receipt", "receipt.jsonl", "--skip-done"}
	firstNight  = night{nil, nightly}
	secondNight = night{nightly, nightly}
	share       = night{nil, []string{"extract", "in", "--recursive", "--into", "out", "-q", "--shard", "7/1000"}}
)

// growth runs a night on 100,000 archives and on 1,000,000, a thousand in a folder, and
// compares what one costs: 1 is a straight line. The file system needs about 12 GB and five
// million inodes.
func growth(n night) func(*bench) result {
	return func(b *bench) result {
		few, _ := b.night(n, 100_000)
		many, memory := b.night(n, 1_000_000)
		return result{value: many.Seconds() / (10 * few.Seconds()), floor: 10 * few.Seconds(), ours: many, memory: memory}
	}
}

func (b *bench) night(n night, archives int) (took time.Duration, memory int64) {
	work := filepath.Join(b.dir, "nights")
	defer os.RemoveAll(work)
	one := filepath.Join(b.dir, "one.zip")
	write(one, func(add func(string, []byte)) { add("levels.csv", []byte("level\n1.23\n")) })
	data, err := os.ReadFile(one)
	must(err)
	for a := range archives {
		folder := filepath.Join(work, "in", fmt.Sprintf("%04d", a/1000))
		if a%1000 == 0 {
			must(os.MkdirAll(folder, 0o777))
		}
		must(os.WriteFile(filepath.Join(folder, fmt.Sprintf("day-%07d.zip", a)), data, 0o666))
	}
	must(os.Chdir(work))
	if n.before != nil {
		b.time(n.before...)
	}
	started := time.Now()
	memory = b.warmUp(n.run...)
	return time.Since(started), memory
}
