package main

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"github.com/klauspost/compress/flate"

	"widecrate/core/archive"
	"widecrate/core/codec"
	"widecrate/core/codec/inflate"
	"widecrate/core/format/zip"
)

func manySmall(layout string) func(*bench) result {
	return func(b *bench) result {
		in, out := filepath.Join(b.dir, "many"), filepath.Join(b.dir, "out")
		must(os.MkdirAll(in, 0o777))
		r := rand.New(rand.NewPCG(1, 1))
		for a := range 200 {
			write(filepath.Join(in, fmt.Sprintf("day-%03d.zip", a)), func(add func(string, []byte)) {
				for f := range 100 {
					add(fmt.Sprintf("levels/gauge-%03d-%03d.csv", a, f), table(r, 4<<10))
				}
			})
		}
		jobs := index(in, layout)
		defer os.RemoveAll(in)
		return b.pair(remover(out), func() { handLoop(out, jobs) }, "extract", in, "--into", out, "--layout", layout, "-q", "--workers", workers)
	}
}

func manyTiny(b *bench) result {
	in, out := filepath.Join(b.dir, "tiny"), filepath.Join(b.dir, "out")
	must(os.MkdirAll(in, 0o777))
	r := rand.New(rand.NewPCG(3, 3))
	for a := range 5000 {
		write(filepath.Join(in, fmt.Sprintf("day-%04d.zip", a)), func(add func(string, []byte)) {
			add(fmt.Sprintf("levels-%04d.csv", a), table(r, 20<<10))
		})
	}
	jobs := index(in, "shared")
	defer os.RemoveAll(in)
	return b.pair(remover(out), func() { handLoop(out, jobs) }, "extract", in, "--into", out, "--layout", "shared", "-q", "--workers", workers)
}

// oneEntry compares the picking of one entry with the listing of all.
func oneEntry(b *bench) result {
	path, out := filepath.Join(b.dir, "entries.zip"), filepath.Join(b.dir, "out")
	r := rand.New(rand.NewPCG(4, 4))
	content := table(r, 400)
	write(path, func(add func(string, []byte)) {
		for i := range 100_000 {
			add(fmt.Sprintf("station-%02d/level-%06d.csv", i%20, i), content)
		}
	})
	defer os.Remove(path)
	list := func() { b.time("inspect", path, "--as", "names") }
	return b.pair(remover(out), list, "extract", path, "--into", out, "--entry", "station-07/level-090007.csv", "-q")
}

// huge measures memory, not time.
func huge(b *bench) result {
	path := filepath.Join(b.dir, "huge.zip")
	const size = 5 << 30
	f, err := os.Create(path)
	must(err)
	w := zip.NewWriter(f, archive.WriteOptions{})
	_, err = w.Add(archive.Entry{Path: "grid.dat", Size: size}, io.LimitReader(repeated{}, size))
	must(err)
	must(w.Close())
	must(f.Close())
	defer os.Remove(path)
	out := filepath.Join(b.dir, "out")
	defer os.RemoveAll(out)
	var r result
	started := time.Now()
	r.memory = b.warmUp("extract", path, "--into", out, "-q", "--max-ratio", "2000", "--workers", workers)
	r.ours = time.Since(started)
	r.value = float64(r.memory) / (1 << 20)
	return r
}

// repeated is an endless row of the same bytes.
type repeated struct{}

func (repeated) Read(p []byte) (int, error) { clear(p); return len(p), nil }

func oneLarge(b *bench) result {
	in, out := filepath.Join(b.dir, "large"), filepath.Join(b.dir, "out")
	must(os.MkdirAll(in, 0o777))
	writeMixed(filepath.Join(in, "survey.zip"), 300_000_000)
	jobs := index(in, "own")
	defer os.RemoveAll(in)
	return b.pair(remover(out), func() { handLoop(out, jobs) }, "extract", in, "--into", out, "-q", "--workers", workers)
}

// oneHuge has so many entries of 150 MB of text, and nothing else.
func oneHuge(entries int) func(*bench) result {
	return func(b *bench) result {
		in, out := filepath.Join(b.dir, "survey"), filepath.Join(b.dir, "out")
		must(os.MkdirAll(in, 0o777))
		content := words(rand.New(rand.NewPCG(5, 5)), 150_000_000)
		write(filepath.Join(in, "survey.zip"), func(add func(string, []byte)) {
			for i := range entries {
				add(fmt.Sprintf("log-%d.txt", i), content)
			}
		})
		jobs := index(in, "own")
		defer os.RemoveAll(in)
		return b.pair(remover(out), func() { handLoop(out, jobs) }, "extract", in, "--into", out, "-q", "--workers", workers)
	}
}

// checking compares the checking of 1 GB on all cores with the decoder alone, on
// one of them, with everything in memory.
func checking(b *bench) result {
	dir := filepath.Join(b.dir, "check")
	must(os.MkdirAll(dir, 0o777))
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "survey.zip")
	r := rand.New(rand.NewPCG(6, 6))
	write(path, func(add func(string, []byte)) {
		for f := range 500 {
			data := table(r, 2_000_000)
			if f%2 == 1 {
				data = words(r, 2_000_000)
			}
			add(fmt.Sprintf("grid-%03d.dat", f), data)
		}
	})
	jobs := index(dir, "shared")
	d := inflate.New(nil, false)
	alone := func() {
		for _, j := range jobs {
			var src codec.Bytes
			src.Reset(j.packed)
			d.Reset(&src)
			_, err := io.Copy(io.Discard, d)
			must(err)
		}
	}
	return b.pair(func() {}, alone, "verify", path, "-q", "--workers", workers)
}

// writeMixed makes an archive of so many bytes of files of all sizes, some of
// which hardly compress.
func writeMixed(path string, total int) {
	r := rand.New(rand.NewPCG(2, 2))
	write(path, func(add func(string, []byte)) {
		for f, left := 0, total; left > 0; f++ {
			size := min(left, 1<<(12+r.IntN(12))) // 4 KiB to 8 MiB
			data := table(r, size)
			switch f % 4 {
			case 1:
				data = words(r, size)
			case 2:
				data = noise(r, size)
			}
			add(fmt.Sprintf("line-%02d/grid-%05d.dat", f%20, f), data)
			left -= size
		}
	})
}

func cores() int { return runtime.NumCPU() }

var workers = strconv.Itoa(cores())

func remover(dir string) func() { return func() { must(os.RemoveAll(dir)) } }

// job is one entry in memory: what the hand loop has to do.
type job struct {
	path    string
	deflate bool
	packed  []byte
	size    int
}

// handLoop is the floor of extraction: decode, create by path, write, set the
// time. It checks nothing and makes the folders beforehand.
func handLoop(out string, jobs []job) {
	folders := map[string]bool{}
	for _, j := range jobs {
		if dir := filepath.Join(out, filepath.Dir(j.path)); !folders[dir] {
			folders[dir] = true
			must(os.MkdirAll(dir, 0o777))
		}
	}
	var next atomic.Int64
	var wg sync.WaitGroup
	when := time.Unix(1_777_000_000, 0)
	for range runtime.NumCPU() {
		wg.Go(func() {
			decoder := flate.NewReader(nil)
			block := make([]byte, 256<<10)
			for i := int(next.Add(1)) - 1; i < len(jobs); i = int(next.Add(1)) - 1 {
				j := &jobs[i]
				path := filepath.Join(out, j.path)
				f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666)
				must(err)
				if j.deflate {
					must(decoder.(flate.Resetter).Reset(bytes.NewReader(j.packed), nil))
					for err = nil; err == nil; {
						var n int
						n, err = io.ReadFull(decoder, block)
						_, werr := f.Write(block[:n])
						must(werr)
					}
				} else {
					_, err := f.Write(j.packed)
					must(err)
				}
				must(f.Close())
				must(os.Chtimes(path, when, when))
			}
		})
	}
	wg.Wait()
}

// index reads archives that write made into memory, header by header.
// In the own layout each goes into a folder named after its archive.
func index(dir, layout string) []job {
	files, err := filepath.Glob(filepath.Join(dir, "*.zip"))
	must(err)
	var jobs []job
	for _, file := range files {
		data, err := os.ReadFile(file)
		must(err)
		stem := ""
		if layout == "own" {
			stem = filepath.Base(file[:len(file)-len(".zip")])
		}
		le := binary.LittleEndian
		for le.Uint32(data) == 0x04034b50 {
			packed, size := int(le.Uint32(data[18:])), int(le.Uint32(data[22:]))
			name, extra := int(le.Uint16(data[26:])), int(le.Uint16(data[28:]))
			start := 30 + name + extra
			jobs = append(jobs, job{filepath.Join(stem, string(data[30:30+name])), le.Uint16(data[8:]) == 8, data[start : start+packed], size})
			data = data[start+packed:]
		}
	}
	return jobs
}

// write makes an archive.
func write(path string, fill func(add func(name string, data []byte))) {
	f, err := os.Create(path)
	must(err)
	w := zip.NewWriter(f, archive.WriteOptions{})
	when := time.Unix(1_777_000_000, 0)
	fill(func(name string, data []byte) {
		_, err := w.Add(archive.Entry{Path: name, Size: int64(len(data)), Modified: when}, bytes.NewReader(data))
		must(err)
	})
	must(w.Close())
	must(f.Close())
}

// table is a CSV of water levels.
func table(r *rand.Rand, size int) []byte {
	b := make([]byte, 0, size+64)
	for minute, level := 0, 2000; len(b) < size; minute++ {
		level += r.IntN(21) - 10
		b = fmt.Appendf(b, "2026-05-%02dT%02d:%02d:00Z,%d.%03d,ok\n", 1+minute/1440%28, minute/60%24, minute%60, level/1000, max(level%1000, 0))
	}
	return b[:size]
}

// words is text of a small vocabulary.
func words(r *rand.Rand, size int) []byte {
	vocabulary := make([]string, 3000)
	for i := range vocabulary {
		word := make([]byte, 2+r.IntN(9))
		for k := range word {
			word[k] = 'a' + byte(r.IntN(26))
		}
		vocabulary[i] = string(word)
	}
	b := make([]byte, 0, size+16)
	for len(b) < size {
		b = append(append(b, vocabulary[min(r.IntN(3000), r.IntN(3000))]...), ' ')
	}
	return b[:size]
}

// noise cannot be compressed, as pictures cannot.
func noise(r *rand.Rand, size int) []byte {
	b := make([]byte, size)
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return b
}
