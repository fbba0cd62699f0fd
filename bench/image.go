package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"time"

	"widecrate/core/codec"
	"widecrate/demo"
)

// onDisc are so many small files, a thousand in a folder.
func onDisc(files int) (list []demo.ImageFile, jobs []job) {
	r := rand.New(rand.NewPCG(11, 11))
	when := time.Unix(1_777_000_000, 0)
	for i := range files {
		path, data := fmt.Sprintf("station-%03d/level-%06d.csv", i/1000, i), table(r, 1500)
		list = append(list, demo.ImageFile{Path: path, Data: data, Modified: when})
		jobs = append(jobs, job{path: path, packed: data, size: len(data)})
	}
	return list, jobs
}

// listImage lists an image of 100,000 files.
func listImage(b *bench) result {
	list, _ := onDisc(100_000)
	path := filepath.Join(b.dir, "disc.iso")
	must(os.WriteFile(path, demo.Image(list, demo.RockRidge), 0o666))
	defer os.Remove(path)
	return b.alone("inspect", path, "--as", "names")
}

// extractImage compares the extraction of an image with that of the same files in a tar.
func extractImage(b *bench) result {
	list, jobs := onDisc(20_000)
	disc, plain, out := filepath.Join(b.dir, "disc.iso"), filepath.Join(b.dir, "disc.tar"), filepath.Join(b.dir, "out")
	must(os.WriteFile(disc, demo.Image(list, demo.RockRidge), 0o666))
	store, _ := codec.ByName(codec.Store)
	must(os.WriteFile(plain, packTar(store, jobs).Bytes(), 0o666))
	defer os.Remove(disc)
	defer os.Remove(plain)
	return b.pair(remover(out), func() { b.time("extract", plain, "--into", out, "-q", "--workers", workers) }, "extract", disc, "--into", out, "-q", "--workers", workers)
}
