package inflate

import (
	"bufio"
	"bytes"
	"compress/flate"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/systemtest"
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
				rounds := systemtest.Rounds(5, 25, 80)
				for range rounds {
					mutated := bytes.Clone(packed[:min(len(packed), 4000)])
					mutated[r.IntN(len(mutated))] ^= 1 << r.IntN(8)
					compare(t, mutated)
				}
				for n := range min(len(packed), rounds) {
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

// bitWriter writes a stream bit by bit.
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

// aligned ends the stream at a whole byte.
func (w *bitWriter) aligned() []byte {
	w.put(0, -w.n&7)
	return w.out.Bytes()
}

// field writes 0s and 1s in the order of the input; spaces only divide them.
func (w *bitWriter) field(s string) {
	for _, c := range strings.ReplaceAll(s, " ", "") {
		w.put(uint64(c-'0'), 1)
	}
}

// Streams of which the RFC says what they are.
func TestByTheBit(t *testing.T) {
	const (
		fixed   = "1 10 "
		a       = "10010001 " // the literal a, in the fixed codes
		three   = "0000001 "  // a length of 3
		end     = "0000000 "
		stored  = "00 00000 1000000000000000 0111111111111111 10000110 " // an a
		dynamic = "1 01 00000 00000 0000 "                               // of 257 literals, 1 distance, 4 code lengths
	)
	for name, c := range map[string]struct {
		bits string
		want string // "": it is refused
	}{
		"a literal":                      {fixed + a + end, "a"},
		"a match":                        {fixed + a + three + "00000 " + end, "aaaa"},
		"a distance to before the start": {fixed + a + three + "00001 " + end, ""},
		"distance code 30":               {fixed + a + three + "11110 " + end, ""},
		"length code 286":                {fixed + a + "11000110 00000 " + end, ""},
		"a block of type 3":              {"1 11 " + end, ""},
		"stored":                         {"1" + stored, "a"},
		"stored, then fixed":             {"0" + stored + fixed + a + end, "aa"},
		"a length contradicted":          {"1 00 00000 1000000000000000 0011111111111111 10000110", ""},
		"no end":                         {fixed + a, ""},
		"more than 286 literals":         {"1 01 11111 00000 0000" + strings.Repeat("0", 99), ""},
		"more than 30 distances":         {"1 01 00000 01111 0000" + strings.Repeat("0", 99), ""},
		"code lengths without a code":    {dynamic + "000 000 000 000" + strings.Repeat("0", 99), ""},
		"a code with too many words":     {dynamic + "100 100 100 000" + strings.Repeat("0", 99), ""},
		"a code with too few words":      {dynamic + "000 010 000 000" + strings.Repeat("0", 99), ""},
		"a code of half its words":       {dynamic + "000 000 000 100 1" + strings.Repeat("0", 99), ""},
		"a repetition of nothing":        {dynamic + "100 000 100 000 0 00" + strings.Repeat("0", 99), ""},
		"more code lengths than codes":   {dynamic + "000 000 100 100" + strings.Repeat("1 1111111", 3), ""},
	} {
		t.Run(name, func(t *testing.T) {
			var w bitWriter
			w.field(c.bits)
			packed := w.aligned()
			got, err := io.ReadAll(New(bufio.NewReader(bytes.NewReader(packed)), false))
			if assert.Equal(t, c.want != "", err == nil, err); err == nil {
				assert.Equal(t, c.want, string(got))
			}
			compare(t, packed)
		})
	}
}

// randomCode are the lengths of a complete code of so many words, up to the
// longest.
func randomCode(r *rand.Rand, words int) []byte {
	lengths := []byte{0}
	for len(lengths) < words {
		i := len(lengths) - 1 - r.IntN(min(len(lengths), 1+r.IntN(len(lengths)))) // mostly a long one
		if lengths[i] < longestCode {
			lengths[i]++
			lengths = append(lengths, lengths[i])
		}
	}
	return lengths
}

// encoder writes the words of a code.
type encoder map[int]struct{ word, length int }

// newEncoder gives the words of the code with these lengths (3.2.2).
func newEncoder(lengths []byte) encoder {
	e := encoder{}
	word := 0
	for n := byte(1); n <= longestCode; n++ {
		word <<= 1
		for symbol, length := range lengths {
			if length == n {
				e[symbol] = struct{ word, length int }{word, int(n)}
				word++
			}
		}
	}
	return e
}

func (e encoder) write(w *bitWriter, symbol int) {
	w.word(uint64(e[symbol].word), uint(e[symbol].length))
}

// Blocks of codes of all shapes, that no encoder would choose: with words of up to
// 15 bits for literals, lengths and distances. Codes that are changed a little are
// refused as the standard library refuses them.
func TestCodesOfAllShapes(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 4))
		literals, distances := make([]byte, maxLiterals), make([]byte, 30)
		chosen := append(r.Perm(maxLiterals)[:1+r.IntN(maxLiterals-1)], endOfBlock)
		chosen = slices.Compact(slices.Sorted(slices.Values(chosen)))
		r.Shuffle(len(chosen), func(i, k int) { chosen[i], chosen[k] = chosen[k], chosen[i] })
		for i, n := range randomCode(r, len(chosen)) {
			literals[chosen[i]] = max(n, 1)
		}
		far := r.Perm(30)[:2+r.IntN(28)]
		for i, n := range randomCode(r, len(far)) {
			distances[far[i]] = n
		}
		if seed%3 == 0 { // most of these are wrong
			all := [][]byte{literals, distances}[r.IntN(2)]
			all[r.IntN(len(all))] = byte(r.IntN(longestCode + 1))
		}
		var w bitWriter
		w.put(1, 1)
		w.put(2, 2)
		w.put(maxLiterals-257, 5)
		w.put(30-1, 5)
		w.put(19-4, 4)
		for _, symbol := range lengthOrder { // all code lengths in four bits
			if symbol < 16 {
				w.put(4, 3)
			} else {
				w.put(0, 3)
			}
		}
		for _, n := range append(bytes.Clone(literals), distances...) {
			w.word(uint64(n), 4)
		}
		words, places := newEncoder(literals), newEncoder(distances)
		size := 0
		for range r.IntN(5000) {
			switch symbol := chosen[r.IntN(len(chosen))]; {
			case symbol < endOfBlock:
				words.write(&w, symbol)
				size++
			case symbol > endOfBlock:
				length, place := deflate().literals[symbol], far[r.IntN(len(far))]
				distance := deflate().distances[place]
				if int(distance>>valueShift) > size && (seed%7 > 0 || r.IntN(2000) > 0) {
					continue
				}
				words.write(&w, symbol)
				w.put(0, uint(length&63))
				places.write(&w, place)
				w.put(0, uint(distance&63))
				size += int(length >> valueShift)
			}
		}
		words.write(&w, endOfBlock)
		compare(t, append(w.aligned(), "behind"...))
	}
}

// Once it was used, a decoder needs nothing new for another stream, whatever
// became of the last one.
func TestReset(t *testing.T) {
	data := samples()["text"]
	packed, cut := deflated(data, 6), deflated(samples()["skewed"], 6)
	src := bytes.NewReader(nil)
	in := bufio.NewReader(src)
	d := New(in, false)
	read := func(packed []byte) error {
		src.Reset(packed)
		in.Reset(src)
		d.Reset(in)
		_, err := d.WriteTo(io.Discard)
		return err
	}
	require.ErrorIs(t, read(cut[:len(cut)/2]), io.ErrUnexpectedEOF)
	var corrupt *CorruptError
	require.ErrorAs(t, read([]byte{7}), &corrupt)
	assert.Equal(t, int64(1), corrupt.Offset)
	var out bytes.Buffer
	src.Reset(packed)
	in.Reset(src)
	d.Reset(in)
	n, err := d.WriteTo(&out)
	require.NoError(t, err)
	assert.EqualValues(t, len(data), n)
	assert.True(t, bytes.Equal(data, out.Bytes()))
	assert.Zero(t, testing.AllocsPerRun(20, func() {
		if read(packed) != nil {
			t.Error("it was right before")
		}
	}))
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
	packed := w.aligned()
	got, err := io.ReadAll(New(bufio.NewReader(bytes.NewReader(packed)), true))
	require.NoError(t, err)
	require.True(t, bytes.Equal(want, got))

	_, err = io.ReadAll(New(bufio.NewReader(bytes.NewReader(packed)), false))
	var corrupt *CorruptError
	require.ErrorAs(t, err, &corrupt, "deflate has none of this")
	assert.InDelta(t, len(packed), corrupt.Offset, 16, "the last block has it")
}
