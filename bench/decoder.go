package main

import (
	"bufio"
	"bytes"
	stdbzip2 "compress/bzip2"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"time"

	packer "github.com/dsnet/compress/bzip2"
	"github.com/klauspost/compress/flate"
	liblzma "github.com/ulikunitz/xz/lzma"

	"widecrate/core/codec"
	"widecrate/core/codec/bzip2"
	"widecrate/core/codec/inflate"
	"widecrate/core/codec/lzma"
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
		return b.versus(theirs, ours)
	}
}

// versus compares two decoders, in turn.
func (b *bench) versus(theirs, ours func() time.Duration) (r result) {
	var ratios, floors []float64
	var took []time.Duration
	for range b.runs {
		floor, own := theirs(), ours()
		ratios, floors, took = append(ratios, own.Seconds()/floor.Seconds()), append(floors, floor.Seconds()), append(took, own)
	}
	r.value, r.floor, r.ours = median(ratios), median(floors), median(took)
	return r
}

// stream is a decoder beside the library that it replaces.
type stream struct {
	pack         func(io.Writer) io.WriteCloser
	theirs, ours func(io.Reader) io.Reader
}

// decodingStream compares them on one stream, in memory.
func decodingStream(content func(*bench) []byte, s stream) func(*bench) result {
	return func(b *bench) result {
		data := content(b)
		var packed bytes.Buffer
		w := s.pack(&packed)
		_, err := w.Write(data)
		must(err)
		must(w.Close())
		drain := func(open func(io.Reader) io.Reader) func() time.Duration {
			return timed(func() {
				n, err := io.Copy(io.Discard, open(bytes.NewReader(packed.Bytes())))
				must(err)
				if n != int64(len(data)) {
					panic("a decoder lost something")
				}
			}, max(1, 10_000_000/len(data)))
		}
		return b.versus(drain(s.theirs), drain(s.ours))
	}
}

const dictionary = 8 << 20

var lzma2 = stream{
	pack: func(to io.Writer) io.WriteCloser {
		w, err := liblzma.Writer2Config{DictCap: dictionary}.NewWriter2(to)
		must(err)
		return w
	},
	theirs: func(r io.Reader) io.Reader {
		d, err := liblzma.Reader2Config{DictCap: dictionary}.NewReader2(bufio.NewReader(r))
		must(err)
		return d
	},
	ours: func(r io.Reader) io.Reader {
		d := &lzma.Reader2{}
		d.Reset(bufio.NewReader(r), dictionary)
		return d
	},
}

var bunzip2 = stream{
	pack: func(to io.Writer) io.WriteCloser {
		w, err := packer.NewWriter(to, &packer.WriterConfig{Level: 9})
		must(err)
		return w
	},
	theirs: stdbzip2.NewReader,
	ours:   func(r io.Reader) io.Reader { return bzip2.NewReader(r) },
}

// timed returns a function that says how long it takes to do something so many
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
