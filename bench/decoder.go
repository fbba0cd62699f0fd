package main

import (
	"bytes"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"time"

	"github.com/klauspost/compress/flate"

	"widecrate/core/codec"
	"widecrate/core/codec/inflate"
)

// decoding compares our decoder of deflate with the library's: one goroutine,
// everything in memory, so many bytes to a stream (0: all in one).
func decoding(content func(*bench) []byte, stream int) func(*bench) result {
	return func(b *bench) result {
		data := content(b)
		if stream == 0 {
			stream = len(data)
		}
		var packed [][]byte
		for at := 0; at+stream <= len(data); at += stream {
			packed = append(packed, deflated(data[at:at+stream]))
		}
		repeat := max(1, 40_000_000/len(data))
		block := make([]byte, 64<<10)
		drain := func(r io.Reader) {
			_, err := io.CopyBuffer(struct{ io.Writer }{io.Discard}, struct{ io.Reader }{r}, block)
			must(err)
		}
		library, rest := flate.NewReader(nil), bytes.NewReader(nil)
		theirs := timed(func() {
			for _, p := range packed {
				rest.Reset(p)
				must(library.(flate.Resetter).Reset(rest, nil))
				drain(library)
			}
		}, repeat)
		var src codec.Bytes
		d := inflate.New(nil, false)
		ours := timed(func() {
			for _, p := range packed {
				src.Reset(p)
				d.Reset(&src)
				drain(d)
			}
		}, repeat)
		var r result
		var ratios, floors []float64
		var took []time.Duration
		for range b.runs {
			floor, own := theirs(), ours()
			ratios, floors, took = append(ratios, own.Seconds()/floor.Seconds()), append(floors, floor.Seconds()), append(took, own)
		}
		r.value, r.floor, r.ours = median(ratios), median(floors), median(took)
		return r
	}
}

// timed returns a function that tells how long it takes to do something so many
// times.
func timed(do func(), times int) func() time.Duration {
	return func() time.Duration {
		started := time.Now()
		for range times {
			do()
		}
		return time.Since(started)
	}
}

// sourceText is all of the source of this program.
func sourceText(*bench) []byte {
	var text []byte
	must(filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err == nil && filepath.Ext(path) == ".go" {
			var file []byte
			file, err = os.ReadFile(path)
			text = append(text, file...)
		}
		return err
	}))
	return text
}

// machineCode is what it was compiled to.
func machineCode(b *bench) []byte {
	code, err := os.ReadFile(b.program)
	must(err)
	return code[:8_000_000]
}

func levels(*bench) []byte { return table(rand.New(rand.NewPCG(8, 8)), 4_000_000) }
