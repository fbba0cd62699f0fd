package main

import (
	"bytes"
	"fmt"
	"hash/crc32"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"sync"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zstd"
	"github.com/klauspost/pgzip"

	"widecrate/core/archive"
	"widecrate/core/format/tar"
)

// tree makes a folder of files and returns their paths.
func tree(b *bench, count int, data func(i int) []byte) (dir string, paths []string) {
	dir = filepath.Join(b.dir, "tree")
	for i := range count {
		path := filepath.Join(dir, fmt.Sprintf("station-%03d", i/1000), fmt.Sprintf("level-%06d.csv", i))
		must(os.MkdirAll(filepath.Dir(path), 0o777))
		must(os.WriteFile(path, data(i), 0o666))
		paths = append(paths, path)
	}
	return dir, paths
}

// packMany compares the packing of many files with reading and deflating them
// on all cores, at a level at which both use the library.
func packMany(count, size, level int) func(*bench) result {
	return func(b *bench) result {
		r := rand.New(rand.NewPCG(11, 11))
		samples := make([][]byte, 32)
		for i := range samples {
			samples[i] = table(r, size)
		}
		dir, paths := tree(b, count, func(i int) []byte { return samples[i%len(samples)] })
		defer os.RemoveAll(dir)
		out := filepath.Join(b.dir, "x.zip")
		return b.pair(remover(out), func() { deflateLoop(paths, out, level) }, "create", out, dir, "-q", "--level", strconv.Itoa(level), "--workers", workers)
	}
}

// deflateLoop reads and deflates files on all cores, and writes the results one
// after the other.
func deflateLoop(paths []string, out string, level int) {
	f, err := os.Create(out)
	must(err)
	var mu sync.Mutex
	var group sync.WaitGroup
	next := make(chan string)
	for range cores() {
		group.Go(func() {
			var b bytes.Buffer
			w, err := flate.NewWriter(&b, level)
			must(err)
			for path := range next {
				data, err := os.ReadFile(path)
				must(err)
				b.Reset()
				w.Reset(&b)
				_, err = w.Write(data)
				must(err)
				must(w.Close())
				crc32.ChecksumIEEE(data)
				mu.Lock()
				_, err = f.Write(b.Bytes())
				mu.Unlock()
				must(err)
			}
		})
	}
	for _, path := range paths {
		next <- path
	}
	close(next)
	group.Wait()
	must(f.Close())
}

// packLarge compares the packing of one file of 1 GB with a library that does
// the same on all cores.
func packLarge(format string) func(*bench) result {
	return func(b *bench) result {
		dir := filepath.Join(b.dir, "large")
		must(os.MkdirAll(dir, 0o777))
		defer os.RemoveAll(dir)
		path, out := filepath.Join(dir, "grid.csv"), filepath.Join(b.dir, "x."+format)
		r := rand.New(rand.NewPCG(12, 12))
		block := table(r, 50_000_000)
		f, err := os.Create(path)
		must(err)
		for range 20 {
			_, err := f.Write(block)
			must(err)
		}
		must(f.Close())
		floor := func() {
			in, err := os.Open(path)
			must(err)
			defer in.Close()
			to, err := os.Create(out)
			must(err)
			defer to.Close()
			enc := encoder(format, to)
			if format == "zip" {
				_, err = io.Copy(enc, in)
				must(err)
			} else {
				w := tar.NewWriter(enc)
				_, err = w.Add(archive.Entry{Path: "grid.csv", Size: 1_000_000_000}, in)
				must(err)
				must(w.Close())
			}
			must(enc.Close())
		}
		args := []string{"create", out, dir, "-q", "--workers", workers}
		if format != "tar.zst" {
			args = append(args, "--level", "fast") // the library's, as in the floor
		}
		return b.pair(remover(out), floor, args...)
	}
}

func encoder(format string, to io.Writer) io.WriteCloser {
	if format == "tar.zst" {
		enc, err := zstd.NewWriter(to, zstd.WithEncoderConcurrency(cores()))
		must(err)
		return enc
	}
	enc, err := pgzip.NewWriterLevel(to, 1)
	must(err)
	must(enc.SetConcurrency(1<<20, cores()))
	return enc
}

// packXZ compares one worker with all of them.
func packXZ(b *bench) result {
	dir := filepath.Join(b.dir, "large")
	must(os.MkdirAll(dir, 0o777))
	defer os.RemoveAll(dir)
	must(os.WriteFile(filepath.Join(dir, "grid.csv"), table(rand.New(rand.NewPCG(13, 13)), 64<<20), 0o666))
	out := filepath.Join(b.dir, "x.tar.xz")
	one := func() { b.time("create", out, dir, "-q", "--workers", "1") }
	return b.pair(remover(out), one, "create", out, dir, "-q", "--workers", workers)
}

// editing compares the adding of an entry to a ZIP of 1 GB with copying it.
func editing(b *bench) result {
	path, out := filepath.Join(b.dir, "survey.zip"), filepath.Join(b.dir, "copy.zip")
	data := noise(rand.New(rand.NewPCG(14, 14)), 5_000_000)
	write(path, func(add func(string, []byte)) {
		for i := range 200 {
			add(fmt.Sprintf("grid-%03d.dat", i), data)
		}
	})
	defer os.Remove(path)
	floor := func() {
		in, err := os.Open(path)
		must(err)
		to, err := os.Create(out)
		must(err)
		copyBlocks(to, in)
		must(to.Close())
		must(in.Close())
	}
	return b.pair(remover(out), floor, "edit", path, "--text", "notes.txt=All gauges report.", "-q")
}

// editingMany compares the adding of an entry to 1,000 ZIPs of 200 KiB with replacing each by
// a copy of itself that is written through to the disk, as an edit is.
func editingMany(b *bench) result {
	in, out := filepath.Join(b.dir, "originals"), filepath.Join(b.dir, "edited")
	must(os.MkdirAll(in, 0o777))
	data := noise(rand.New(rand.NewPCG(15, 15)), 20<<10)
	var names []string
	for i := range 1000 {
		names = append(names, fmt.Sprintf("day-%04d.zip", i))
		write(filepath.Join(in, names[i]), func(add func(string, []byte)) {
			for k := range 10 {
				add(fmt.Sprintf("levels-%d.dat", k), data)
			}
		})
	}
	defer os.RemoveAll(in)
	clean := func() {
		must(os.RemoveAll(out))
		must(os.CopyFS(out, os.DirFS(in)))
	}
	floor := func() {
		var group sync.WaitGroup
		turns := make(chan struct{}, runtime.GOMAXPROCS(0))
		for _, name := range names {
			turns <- struct{}{}
			group.Go(func() {
				defer func() { <-turns }()
				path := filepath.Join(out, name)
				data, err := os.ReadFile(path)
				must(err)
				to, err := os.Create(path + ".new")
				must(err)
				_, err = to.Write(data)
				must(err)
				must(to.Sync())
				must(to.Close())
				must(os.Rename(path+".new", path))
			})
		}
		group.Wait()
	}
	defer os.RemoveAll(out)
	return b.pair(clean, floor, "edit", out, "--text", "notes.txt=All gauges report.", "-q")
}
