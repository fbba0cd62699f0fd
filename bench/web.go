package main

import (
	"encoding/binary"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"time"

	"widecrate/core/codec"
	"widecrate/demo/standin"
)

// serve has a web server for a folder of the benchmark.
func (b *bench) serve(delay time.Duration) (s *standin.Server, address string, stop func()) {
	s = &standin.Server{Folder: b.dir, Delay: delay}
	address, stop, err := s.Start()
	must(err)
	return s, address, stop
}

// remoteEntries picks entries out of a ZIP of 2 GB at an address that has 10,000 of
// them, and returns the requests and the bytes beyond entries and directory.
func remoteEntries(pick string, figure func(requests, beyond int64) float64) func(*bench) result {
	const entries, size = 10_000, 200_000
	return func(b *bench) result {
		path := filepath.Join(b.dir, "month.zip")
		if _, err := os.Stat(path); err != nil {
			noise := rand.NewChaCha8([32]byte{7})
			content := make([]byte, 1<<20)
			write(path, func(add func(string, []byte)) {
				for i := range entries {
					n := size
					if i == entries/2 {
						n = len(content)
					}
					noise.Read(content[:n])
					kind := "dat"
					if i%100 == 50 {
						kind = "csv"
					}
					add(fmt.Sprintf("day-%05d.%s", i, kind), content[:n])
				}
			})
		}
		directory := directorySize(path)
		s, address, stop := b.serve(0)
		defer stop()
		out := filepath.Join(b.dir, "out")
		defer os.RemoveAll(out)
		var r result
		started := time.Now()
		r.memory = b.warmUp("extract", address+"month.zip", "--into", out, "--pick", pick, "-q")
		r.ours = time.Since(started)
		written := int64(0)
		must(filepath.Walk(out, func(_ string, info os.FileInfo, err error) error {
			if err == nil && !info.IsDir() {
				written += info.Size()
			}
			return err
		}))
		r.value = figure(s.Requests.Load(), s.Bytes.Load()-written-directory)
		return r
	}
}

// directorySize reads it from the record at the end of a ZIP.
func directorySize(path string) int64 {
	f, err := os.Open(path)
	must(err)
	defer f.Close()
	var end [22]byte
	size, err := f.Seek(-int64(len(end)), io.SeekEnd)
	must(err)
	_, err = f.ReadAt(end[:], size)
	must(err)
	return int64(binary.LittleEndian.Uint32(end[12:]))
}

// mixed and packedTar make the archives of remoteWhole.
func mixed(path string) { writeMixed(path, 300_000_000) }

func packedTar(path string) {
	m, _ := codec.ByName(codec.Gzip)
	must(os.WriteFile(path, packTar(m, tarFiles(false)).Bytes(), 0o666))
}

func requests(n, _ int64) float64    { return float64(n) }
func beyondInKiB(_, n int64) float64 { return float64(n) / 1024 }

// remoteWhole unpacks an archive at an address, against the same on disk.
func remoteWhole(name string, delay time.Duration, fill func(path string)) func(*bench) result {
	return func(b *bench) result {
		path, out := filepath.Join(b.dir, name), filepath.Join(b.dir, "out")
		fill(path)
		defer os.Remove(path)
		_, address, stop := b.serve(delay)
		defer stop()
		local := func() { b.time("extract", path, "--into", out, "-q", "--workers", workers) }
		return b.pair(remover(out), local, "extract", address+name, "--into", out, "-q", "--workers", workers)
	}
}

// remoteMemory is the peak of that.
func remoteMemory(name string, fill func(path string)) func(*bench) result {
	return func(b *bench) result {
		r := remoteWhole(name, 0, fill)(b)
		r.value, r.floor = float64(r.memory)/(1<<20), 0
		return r
	}
}

// remoteSmall unpacks many small archives at addresses, against a plain client that
// downloads them with as many connections.
func remoteSmall(delay time.Duration) func(*bench) result {
	return func(b *bench) result { return smallAt(b, delay) }
}

func smallAt(b *bench, delay time.Duration) result {
	const archives, connections = 1000, 4
	out, list := filepath.Join(b.dir, "out"), filepath.Join(b.dir, "list")
	r := rand.New(rand.NewPCG(8, 8))
	_, address, stop := b.serve(delay)
	defer stop()
	var addresses []string
	var names []byte
	for a := range archives {
		name := fmt.Sprintf("day-%04d.zip", a)
		write(filepath.Join(b.dir, name), func(add func(string, []byte)) { add("levels.csv", table(r, 60<<10)) })
		defer os.Remove(filepath.Join(b.dir, name))
		addresses = append(addresses, address+name)
		names = append(names, address+name+"\n"...)
	}
	must(os.WriteFile(list, names, 0o666))
	client := http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: connections}}
	download := func() {
		var workers sync.WaitGroup
		for w := range connections {
			workers.Go(func() {
				for i := w; i < archives; i += connections {
					answer, err := client.Get(addresses[i])
					must(err)
					_, err = io.Copy(io.Discard, answer.Body)
					must(err)
					answer.Body.Close()
				}
			})
		}
		workers.Wait()
	}
	return b.pair(remover(out), download, "extract", "--source-list", list, "--into", out, "-q")
}
