package inflate

import (
	"bufio"
	"bytes"
	"compress/flate"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"

	kflate "github.com/klauspost/compress/flate"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// compare decodes with the standard library and with ours, with buffers of all
// sizes: the same output, the same bytes consumed, and all accept or all refuse.
func compare(t *testing.T, packed []byte) {
	t.Helper()
	for _, buffer := range []int{16, 100, 64 << 10} {
		compareFrom(t, packed, buffer)
	}
}

func compareFrom(t *testing.T, packed []byte, buffer int) {
	t.Helper()
	theirs, rest := bytes.NewReader(packed), bytes.NewReader(packed)
	want, wantErr := io.ReadAll(io.LimitReader(flate.NewReader(theirs), 1<<22))
	ours := bufio.NewReaderSize(rest, buffer)
	got, err := io.ReadAll(io.LimitReader(New(ours, false), 1<<22))
	require.Equal(t, wantErr == nil, err == nil, "%v, %v", wantErr, err)
	if err == nil {
		require.True(t, bytes.Equal(want, got))
		if len(got) < 1<<22 {
			require.Equal(t, theirs.Len(), rest.Len()+ours.Buffered(), "bytes consumed")
		}
	} else {
		// Where they stop may differ, what came before may not.
		n := min(len(want), len(got))
		require.True(t, bytes.Equal(want[:n], got[:n]))
		require.Equal(t, wantErr == io.ErrUnexpectedEOF, err == io.ErrUnexpectedEOF, "%v, %v", wantErr, err)
	}
}

func samples() map[string][]byte {
	r := rand.New(rand.NewPCG(1, 2))
	noise := make([]byte, 100_000)
	for i := range noise {
		noise[i] = byte(r.Uint32())
	}
	return map[string][]byte{"nothing": nil, "one": {1}, "noise": noise, "zeros": make([]byte, 300_000),
		"text": []byte(strings.Repeat("2026-05-01T12:00Z,2601,good\n", 9000) + "end"), "skewed": bytes.Map(func(c rune) rune { return c & (c >> 3) & 31 }, noise)}
}

func deflated(data []byte, level int) []byte {
	var b bytes.Buffer
	w, err := flate.NewWriter(&b, level)
	if err != nil {
		panic(err)
	}
	w.Write(data)
	w.Close()
	return b.Bytes()
}

func TestAgainstTheStandardLibrary(t *testing.T) {
	for name, data := range samples() {
		for _, level := range []int{0, 1, 6, 9, flate.HuffmanOnly} {
			t.Run(fmt.Sprint(name, level), func(t *testing.T) {
				packed := deflated(data, level)
				compare(t, append(packed, "behind"...))
				r := rand.New(rand.NewPCG(3, uint64(level)))
				for range 80 {
					mutated := bytes.Clone(packed[:min(len(packed), 4000)])
					mutated[r.IntN(len(mutated))] ^= 1 << r.IntN(8)
					compare(t, mutated)
				}
				for n := range min(len(packed), 60) {
					compare(t, packed[:n])
				}
			})
		}
	}
}

func FuzzDeflate(f *testing.F) {
	for _, data := range samples() {
		f.Add(deflated(data[:min(len(data), 2000)], 6))
	}
	f.Fuzz(func(t *testing.T, packed []byte) { compare(t, packed) })
}

// bitWriter writes a block of deflate64 with the fixed codes.
type bitWriter struct {
	out  bytes.Buffer
	bits uint64
	n    uint
}

func (w *bitWriter) put(v uint64, n uint) {
	w.bits |= v << w.n
	for w.n += n; w.n >= 8; w.n -= 8 {
		w.out.WriteByte(byte(w.bits))
		w.bits >>= 8
	}
}

// word writes a Huffman word, whose first bit comes first.
func (w *bitWriter) word(code uint64, n uint) {
	for i := range n {
		w.put(code>>(n-1-i)&1, 1)
	}
}

func (w *bitWriter) literal(c byte) {
	if c < 144 {
		w.word(0x30+uint64(c), 8)
	} else {
		w.word(0x190+uint64(c)-144, 9)
	}
}

func (w *bitWriter) match(lengthExtra uint64, distanceCode, distanceExtra uint64, bits uint) {
	w.word(0xc0+285-280, 8)
	w.put(lengthExtra, 16)
	w.word(distanceCode, 5)
	w.put(distanceExtra, bits)
}

// What deflate64 has in addition: lengths of 16 bits and distances beyond 32 KiB.
func TestWide(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	var w bitWriter
	var want []byte
	w.put(1, 1) // the last block
	w.put(1, 2) // fixed codes
	for range 65_536 {
		c := byte(r.Uint32())
		want = append(want, c)
		w.literal(c)
	}
	again := func(length, distance int) {
		for range length {
			want = append(want, want[len(want)-distance])
		}
	}
	w.match(65_535, 31, 65_536-49_153, 14)
	again(65_538, 65_536)
	w.match(0, 30, 0, 14)
	again(3, 32_769)
	w.match(70_000-65_536, 0, 0, 0)
	again(70_000-65_536+3, 1)
	w.word(0, 7)
	w.put(0, 7)
	got, err := io.ReadAll(New(bufio.NewReader(bytes.NewReader(w.out.Bytes())), true))
	require.NoError(t, err)
	require.True(t, bytes.Equal(want, got))

	_, err = io.ReadAll(New(bufio.NewReader(bytes.NewReader(w.out.Bytes())), false))
	assert.ErrorIs(t, err, errCorrupt, "deflate has none of this")
}

// The speed of the decoder alone, beside that of the library.
func BenchmarkInflate(b *testing.B) {
	r := rand.New(rand.NewPCG(9, 9))
	var csv []byte
	for len(csv) < 4<<20 {
		csv = fmt.Appendf(csv, "2026-05-01T%02d:%02dZ,%d,%d,good\n", r.IntN(24), r.IntN(60), 2000+r.IntN(900), r.IntN(100))
	}
	for name, data := range map[string][]byte{"csv": csv, "small": csv[:4096]} {
		packed := deflated(data, 6)
		in := bufio.NewReaderSize(nil, 64<<10)
		out := make([]byte, 64<<10)
		d := New(in, false)
		library := kflate.NewReader(in)
		run := func(name string, reset func(), from io.Reader) {
			b.Run(name, func(b *testing.B) {
				b.SetBytes(int64(len(data)))
				for range b.N {
					in.Reset(bytes.NewReader(packed))
					reset()
					if n, err := io.CopyBuffer(io.Discard, struct{ io.Reader }{from}, out); err != nil || n != int64(len(data)) {
						b.Fatal(n, err)
					}
				}
			})
		}
		run(name+"/ours", func() { d.Reset(in) }, d)
		run(name+"/library", func() { library.(kflate.Resetter).Reset(in, nil) }, library)
	}
}
