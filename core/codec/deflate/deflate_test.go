package deflate

import (
	"bufio"
	"bytes"
	"compress/flate"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"testing"

	library "github.com/klauspost/compress/flate"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/codec/inflate"
)

// kinds are data of all kinds of repetition.
func kinds() map[string][]byte {
	r := rand.New(rand.NewPCG(1, 2))
	noise := make([]byte, 300_000)
	for i := range noise {
		noise[i] = byte(r.Uint32())
	}
	var table bytes.Buffer
	for i := range 12_000 {
		fmt.Fprintf(&table, "2026-11-%02d,station-%02d,%.3f,%s\n", i%30, r.IntN(40), r.NormFloat64(), []string{"ok", "gap"}[r.IntN(2)])
	}
	mixed := append(append(append([]byte{}, table.Bytes()[:90_000]...), noise[:90_000]...), make([]byte, 90_000)...)
	rare := make([]byte, 0, 400_000) // symbols whose counts grow like those of the longest codes
	for c, a, b := byte(0), 1, 1; len(rare)+a < cap(rare); c, a, b = c+1, b, a+b {
		rare = append(rare, bytes.Repeat([]byte{c}, a)...)
	}
	r.Shuffle(len(rare), func(i, j int) { rare[i], rare[j] = rare[j], rare[i] })
	return map[string][]byte{
		"nothing": nil, "a byte": {7}, "three": []byte("aba"), "zeros": make([]byte, 200_000), "noise": noise,
		"table": table.Bytes(), "mixed": mixed, "rare": rare,
		"far":  append(append(append([]byte{}, noise[:window]...), noise[:window]...), noise[1:window]...),
		"pair": bytes.Repeat([]byte("ab"), 40_000), "blocks": bytes.Repeat(noise[:700], 300),
	}
}

// pieces compresses data in pieces of a size, each with what stands before it.
func pieces(e *Encoder, data []byte, size int) []byte {
	var out []byte
	for at := 0; ; at += size {
		end := min(at+size, len(data))
		from := max(0, at-window)
		out = e.Encode(out, data[from:end], at-from, end == len(data))
		if end == len(data) {
			return out
		}
	}
}

// back decodes with three decoders: the standard one, the library, and our own.
func back(t testing.TB, packed, data []byte) {
	for name, r := range map[string]io.Reader{
		"standard": flate.NewReader(bytes.NewReader(packed)), "library": library.NewReader(bytes.NewReader(packed)),
		"own": inflate.New(bufio.NewReader(bytes.NewReader(packed)), false),
	} {
		got, err := io.ReadAll(r)
		require.NoError(t, err, name)
		require.True(t, bytes.Equal(data, got), name)
	}
}

// TestEncode gives all kinds of data to all levels, and what was encoded before makes no
// difference.
func TestEncode(t *testing.T) {
	all := kinds()
	for level := Lowest; level <= Highest; level++ {
		warm := New(level)
		for name, data := range all {
			for _, size := range []int{1 << 20, 70_001} {
				packed := pieces(warm, data, size)
				back(t, packed, data)
				assert.True(t, bytes.Equal(pieces(New(level), data, size), packed), "level %d, %s: the same by a new encoder", level, name)
				assert.LessOrEqual(t, len(packed), len(data)+len(data)/5000+5*(len(data)/size+1)+8, "level %d, %s", level, name)
			}
		}
	}
}

// TestSmaller holds the levels in their order, and the usual library's level 6 behind.
func TestSmaller(t *testing.T) {
	data := kinds()["table"]
	var theirs bytes.Buffer
	w, err := library.NewWriter(&theirs, 6)
	require.NoError(t, err)
	w.Write(data)
	require.NoError(t, w.Close())
	before := theirs.Len()
	for level := 6; level <= Highest; level++ {
		now := len(pieces(New(level), data, 1<<20))
		assert.Less(t, now, before, "level %d", level)
		before = now
	}
	assert.Less(t, float64(before), 0.9*float64(theirs.Len()))
}

// TestCounts lets the count of places reach its end, and begin anew.
func TestCounts(t *testing.T) {
	e, data := New(6), kinds()["table"]
	want := pieces(e, data, 1<<20)
	e.finder.first = math.MaxUint32 - uint32(len(data)) - window
	for range 3 {
		assert.True(t, bytes.Equal(want, pieces(e, data, 1<<20)))
	}
	assert.Less(t, e.finder.first, uint32(4*len(data)))
}

// TestAllocations: a warm encoder makes none.
func TestAllocations(t *testing.T) {
	for _, level := range []int{6, 9} {
		for _, size := range []int{1 << 10, 200_000} {
			e, data := New(level), kinds()["table"][:size]
			out := make([]byte, 0, size)
			assert.Zero(t, testing.AllocsPerRun(5, func() { e.Encode(out, data, 0, true) }), "level %d, %d bytes", level, size)
		}
	}
}

// TestAssign checks codes by the theorem of Kraft: complete, none too long.
func TestAssign(t *testing.T) {
	fibonacci := make([]uint32, 30)
	for i, a, b := 0, uint32(1), uint32(1); i < len(fibonacci); i, a, b = i+1, b, a+b {
		fibonacci[i] = a
	}
	for _, c := range []struct {
		counts []uint32
		limit  int
		words  int
	}{
		{fibonacci, 15, 30}, {fibonacci, 14, 30}, {fibonacci[:19], 7, 19}, {[]uint32{1, 1, 1, 1}, 7, 4},
		{[]uint32{0, 9, 0}, 15, 2}, {make([]uint32, 5), 15, 2},
	} {
		words := make([]word, len(c.counts))
		assign(words, c.counts, c.limit)
		sum, n := 0.0, 0
		for s, w := range words {
			if w.length > 0 {
				sum += math.Pow(2, -float64(w.length))
				n++
			}
			assert.LessOrEqual(t, int(w.length), c.limit)
			assert.False(t, c.counts[s] > 0 && w.length == 0)
		}
		assert.Equal(t, 1.0, sum)
		assert.Equal(t, c.words, n)
	}
}

// FuzzEncode cuts data at any place into what was seen and what is compressed.
func FuzzEncode(f *testing.F) {
	for _, data := range kinds() {
		f.Add(data[:min(len(data), 3000)], uint16(len(data)/3), byte(len(data)))
	}
	var encoders [Highest + 1]*Encoder
	for level := Lowest; level <= Highest; level++ {
		encoders[level] = New(level)
	}
	f.Fuzz(func(t *testing.T, data []byte, cut uint16, level byte) {
		e := encoders[Lowest+int(level)%(Highest-Lowest+1)]
		start := min(int(cut), len(data))
		packed := e.Encode(nil, data[:start], 0, start == len(data))
		if start < len(data) {
			packed = e.Encode(packed, data[max(0, start-window):], min(start, window), true)
		}
		back(t, packed, data)
	})
}
