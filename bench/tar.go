package main

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/readahead"

	"widecrate/core/archive"
	"widecrate/core/codec"
	"widecrate/core/format/tar"
)

// tarOf measures a tar with a compression method around it: large files, or
// many small ones.
func tarOf(method string, small bool) func(*bench) result {
	return func(b *bench) result {
		m, _ := codec.ByName(method)
		files := tarFiles(small)
		packed := packTar(m, files)
		path, out := filepath.Join(b.dir, "x.tar"), filepath.Join(b.dir, "out")
		must(os.WriteFile(path, packed.Bytes(), 0o666))
		defer os.Remove(path)
		return b.pair(remover(out), func() { tarLoop(filepath.Join(out, "x"), m, packed.Bytes(), files) }, "extract", path, "--into", out, "-q", "--workers", workers)
	}
}

// packTar makes a tar with a compression method around it, and lets go of the data.
func packTar(m codec.Method, files []job) *bytes.Buffer {
	var packed bytes.Buffer
	enc, err := m.Encode(&packed, codec.EncodeOptions{})
	must(err)
	w := tar.NewWriter(enc)
	for i := range files {
		_, err := w.Add(archive.Entry{Path: files[i].path, Size: int64(files[i].size), Modified: time.Unix(1_777_000_000, 0)}, bytes.NewReader(files[i].packed))
		must(err)
		files[i].packed = nil
	}
	must(w.Close())
	must(enc.Close())
	return &packed
}

func tarFiles(small bool) []job {
	r := rand.New(rand.NewPCG(7, 7))
	var files []job
	add := func(name string, data []byte) { files = append(files, job{path: name, packed: data, size: len(data)}) }
	if small {
		content := table(r, 2000)
		for i := range 20_000 {
			add(fmt.Sprintf("station-%02d/level-%05d.csv", i/1000, i), content)
		}
		return files
	}
	for i := range 10 {
		data := table(r, 20_000_000)
		if i%3 == 2 {
			data = words(r, 20_000_000)
		}
		add(fmt.Sprintf("grid-%02d.dat", i), data)
	}
	return files
}

// library decodes with a library alone.
func library(m codec.Method, packed []byte) io.Reader {
	src := bufio.NewReader(bytes.NewReader(packed))
	if m.Name == codec.Gzip {
		r, err := gzip.NewReader(src)
		must(err)
		return r
	}
	r, err := m.Decode(src, codec.Options{})
	must(err)
	return r
}

// tarLoop is the floor: decode ahead of the writing, on a second goroutine, and
// write file by file at known places; nothing is checked or listed.
func tarLoop(out string, m codec.Method, packed []byte, files []job) {
	in := readahead.NewReader(library(m, packed))
	defer in.Close()
	block := make([]byte, 256<<10)
	made := map[string]bool{}
	when := time.Unix(1_777_000_000, 0)
	for i := range files {
		if dir := filepath.Join(out, filepath.Dir(files[i].path)); !made[dir] {
			made[dir] = true
			must(os.MkdirAll(dir, 0o777))
		}
		_, err := io.CopyN(io.Discard, in, 512)
		must(err)
		path := filepath.Join(out, files[i].path)
		f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666)
		must(err)
		_, err = io.CopyBuffer(struct{ io.Writer }{f}, struct{ io.Reader }{io.LimitReader(in, int64(files[i].size))}, block)
		must(err)
		must(f.Close())
		must(os.Chtimes(path, when, when))
		_, err = io.CopyN(io.Discard, in, int64(-files[i].size&511))
		must(err)
	}
}

// twoWorkers compares a command on many compressed tars with itself on one core.
func twoWorkers(command string) func(*bench) result {
	return func(b *bench) result {
		in, files := filepath.Join(b.dir, "in"), filepath.Join(b.dir, "files")
		must(os.MkdirAll(in, 0o777))
		must(os.MkdirAll(files, 0o777))
		defer os.RemoveAll(in)
		defer os.RemoveAll(files)
		must(os.WriteFile(filepath.Join(files, "levels.csv"), table(rand.New(rand.NewPCG(15, 15)), 5_000_000), 0o666))
		first := filepath.Join(in, "day-000.tar.gz")
		b.time("create", first, files, "-q")
		data, err := os.ReadFile(first)
		must(err)
		for i := range 200 {
			must(os.WriteFile(filepath.Join(in, fmt.Sprintf("day-%03d.tar.gz", i)), data, 0o666))
		}
		return b.pair(func() {}, func() { b.time(command, in, "-q", "--workers", "1") }, command, in, "-q", "--workers", "2")
	}
}
