package main

import (
	"context"
	"crypto/sha256"
	"fmt"
	"hash"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"

	"widecrate/core/parts/cut"
)

// inParts compares the extraction of a set, with or without a list of sums beside it,
// with that of the same archive in one file.
func inParts(listed bool) func(*bench) result {
	return func(b *bench) result {
		path, into, out := filepath.Join(b.dir, "survey.zip"), filepath.Join(b.dir, "cut"), filepath.Join(b.dir, "out")
		writeMixed(path, 300_000_000)
		split(path, into, 20<<20, cut.Numbered)
		if !listed {
			lists, err := filepath.Glob(filepath.Join(into, "*.sha256"))
			must(err)
			for _, list := range lists {
				must(os.Remove(list))
			}
		}
		defer os.RemoveAll(into)
		defer os.Remove(path)
		whole := func() { b.time("extract", path, "--into", out, "-q", "--workers", workers) }
		return b.pair(remover(out), whole, "extract", into, "--into", out, "-q", "--workers", workers)
	}
}

func split(path, into string, size int64, style cut.Style) {
	_, err := cut.Split(context.Background(), path, into, cut.Options{PartSize: size, Style: style}, new(atomic.Int64))
	must(err)
}

const partSize = 30 << 20

// dump writes 400 MB that do not compress.
func dump(b *bench) string {
	path := filepath.Join(b.dir, "dump.bin")
	must(os.WriteFile(path, noise(rand.New(rand.NewPCG(9, 9)), 400_000_000), 0o666))
	return path
}

func splitting(b *bench) result {
	path, out := dump(b), filepath.Join(b.dir, "out")
	defer os.Remove(path)
	floor := func() { cutLoop(path, out, true) }
	return b.pair(remover(out), floor, "parts", "split", path, "--part-size", fmt.Sprint(partSize), "--into", out, "-q")
}

func splittingZIP(b *bench) result {
	path, out := filepath.Join(b.dir, "survey.zip"), filepath.Join(b.dir, "out")
	writeMixed(path, 300_000_000)
	defer os.Remove(path)
	floor := func() { cutLoop(path, out, false) }
	return b.pair(remover(out), floor, "parts", "split", path, "--part-size", fmt.Sprint(partSize), "--part-style", "zip", "--into", out, "-q")
}

func joining(sums bool) func(*bench) result {
	return func(b *bench) result {
		path, into, out := dump(b), filepath.Join(b.dir, "cut"), filepath.Join(b.dir, "joined.bin")
		split(path, into, partSize, cut.Numbered)
		must(os.Remove(path))
		defer os.RemoveAll(into)
		if !sums {
			must(os.Remove(filepath.Join(into, "dump.bin.sha256")))
		}
		names, err := filepath.Glob(filepath.Join(into, "dump.bin.0*"))
		must(err)
		return b.pair(remover(out), func() { joinLoop(names, out, sums) }, "parts", "join", names[0], "--into", out, "-q")
	}
}

// copyBlocks is the copy floor: read and write, and sum meanwhile, each sum on a
// goroutine of its own.
func copyBlocks(dst io.Writer, src io.Reader, sums ...hash.Hash) {
	block := make([]byte, 1<<20)
	for {
		n, err := io.ReadFull(src, block)
		var group sync.WaitGroup
		for _, sum := range sums {
			group.Go(func() { sum.Write(block[:n]) })
		}
		_, failed := dst.Write(block[:n])
		must(failed)
		group.Wait()
		if err != nil {
			return
		}
	}
}

// cutLoop copies a file into parts, with the sums of the parts, and that of the
// whole if it is wanted.
func cutLoop(path, out string, whole bool) {
	must(os.MkdirAll(out, 0o777))
	in, err := os.Open(path)
	must(err)
	defer in.Close()
	info, err := in.Stat()
	must(err)
	all := sha256.New()
	for at, n := int64(0), 1; at < info.Size(); at, n = at+partSize, n+1 {
		f, err := os.Create(fmt.Sprintf("%s/dump.%03d", out, n))
		must(err)
		sums := []hash.Hash{sha256.New()}
		if whole {
			sums = append(sums, all)
		}
		copyBlocks(f, io.LimitReader(in, partSize), sums...)
		must(f.Close())
	}
}

func joinLoop(names []string, out string, sums bool) {
	f, err := os.Create(out)
	must(err)
	all := sha256.New()
	for _, name := range names {
		in, err := os.Open(name)
		must(err)
		if sums {
			copyBlocks(f, in, sha256.New(), all)
		} else {
			copyBlocks(f, in)
		}
		must(in.Close())
	}
	must(f.Close())
}

// scanning looks through a folder of archives, sets, and other files.
func scanning(b *bench) result {
	dir := filepath.Join(b.dir, "many")
	must(os.MkdirAll(dir, 0o777))
	defer os.RemoveAll(dir)
	path := filepath.Join(b.dir, "day.zip")
	write(path, func(add func(string, []byte)) { add("levels.csv", table(rand.New(rand.NewPCG(8, 8)), 20<<10)) })
	archive, err := os.ReadFile(path)
	must(err)
	for i := range 10_000 {
		name, data := fmt.Sprintf("day-%04d.zip", i), archive
		switch i % 4 {
		case 1:
			name, data = fmt.Sprintf("grid-%03d.tar.gz.%03d", i/100, i%100/4+1), noise(rand.New(rand.NewPCG(uint64(i), 1)), 4096)
		case 2:
			name, data = fmt.Sprintf("survey_part%d.of.notes-%d.txt", i, i), nil
		case 3:
			name, data = fmt.Sprintf("gauge.%d.log", i), nil
		}
		must(os.WriteFile(filepath.Join(dir, name), data, 0o666))
	}
	return b.alone("parts", "scan", dir, "-q")
}
