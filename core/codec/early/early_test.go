package early

import (
	"bufio"
	"bytes"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/bent"
	"widecrate/core/codec/bits"
	"widecrate/core/codec/codectest"
)

// method is a way to pack and to decode.
type method struct {
	pack   func(data []byte) []byte
	decode func(src bits.Source, size int64) *Decoder
}

func methods() map[string]method {
	all := map[string]method{"shrink": {codectest.Shrink, NewShrink}}
	for factor := 1; factor <= 4; factor++ {
		all["reduce "+string(rune('0'+factor))] = method{
			func(data []byte) []byte { return codectest.Reduce(data, factor) },
			func(src bits.Source, size int64) *Decoder { return NewReduce(src, size, factor) },
		}
	}
	for name, layout := range map[string]Layout{"implode 4K": {}, "implode 8K": {Large: true}, "implode 4K with literals": {Literals: true}, "implode 8K with literals": {true, true}} {
		all[name] = method{
			func(data []byte) []byte { return codectest.Implode(data, layout.Large, layout.Literals) },
			func(src bits.Source, size int64) *Decoder { return NewImplode(src, size, layout) },
		}
	}
	return all
}

func texts() map[string][]byte {
	r := rand.New(rand.NewPCG(1, 1))
	text, noise := make([]byte, 300_000), make([]byte, 100_000)
	for i := range text {
		text[i] = byte(r.Uint32() & r.Uint32() & 63)
		if i > 9000 && i%1000 < 700 { // as some thousand bytes before
			text[i] = text[i-i%8191-1]
		}
	}
	for i := range noise {
		noise[i] = byte(r.Uint32())
	}
	return map[string][]byte{"nothing": {}, "one": {144}, "zeros": make([]byte, 200_000), "text": text, "noise": noise, "turns": bytes.Repeat([]byte("abab\x90abc"), 9000)}
}

// All that was packed comes back, in pieces of any size, and nothing is taken for whole when it is
// cut off.
func TestDecode(t *testing.T) {
	for name, m := range methods() {
		for what, data := range texts() {
			packed := m.pack(data)
			src := bufio.NewReaderSize(iotest(packed), 16)
			got, err := io.ReadAll(m.decode(src, int64(len(data))))
			require.NoError(t, err, "%s: %s", name, what)
			require.True(t, bytes.Equal(data, got), "%s: %s", name, what)
			if len(data) > 0 { // no packer made a stream of nothing
				_, err = src.ReadByte()
				require.Equal(t, io.EOF, err, "%s: %s", name, what)
			}
			if what == "text" {
				assert.Less(t, len(packed), len(data), name)
			}
			for _, n := range []int{0, len(packed) / 2, len(packed) - 1} {
				if len(data) == 0 || n < 0 {
					continue
				}
				_, err := io.ReadAll(m.decode(bufio.NewReader(bytes.NewReader(packed[:n])), int64(len(data))))
				require.Error(t, err, "%s: %s", name, what)
			}
		}
	}
}

// iotest gives one byte, two, three and so on.
func iotest(b []byte) io.Reader {
	var pieces []io.Reader
	for n := 1; len(b) > 0; n++ {
		n := min(n, len(b))
		pieces, b = append(pieces, bytes.NewReader(b[:n])), b[n:]
	}
	return io.MultiReader(pieces...)
}

// What the packers here do not make: escapes that there are not, codes for nothing, lengths that
// make no code, and strings in a circle.
func TestCorrupt(t *testing.T) {
	all := methods()
	for what, c := range map[string]struct {
		method string
		packed []byte
	}{
		"a first code above the bytes":    {"shrink", []byte{0x01, 0x01}},
		"an escape that there is not":     {"shrink", []byte{0x61, 0, 2, 0}},
		"codes of one length too many":    {"implode 4K", []byte{2, 0xf5, 0xf5, 0xf5, 0xf5}},
		"codes that leave room":           {"implode 4K", append([]byte{3, 0xf6, 0xf6, 0xf6, 0xf6}, make([]byte, 50)...)},
		"codes that there is no room for": {"implode 4K", append([]byte{3, 0xf4, 0xf4, 0xf4, 0xf4}, make([]byte, 50)...)},
	} {
		_, err := io.ReadAll(all[c.method].decode(bufio.NewReader(bytes.NewReader(c.packed)), 100))
		require.Error(t, err, what)
		assert.NotErrorIs(t, err, io.ErrUnexpectedEOF, what)
	}
}

func FuzzDecode(f *testing.F) {
	all := methods()
	var seeds [][]byte
	for _, m := range all {
		seeds = append(seeds, m.pack(texts()["turns"][:2000]), m.pack(texts()["text"][:2000]))
	}
	bent.Fuzz(f, seeds, 0, nil, func(t *testing.T, packed []byte) {
		for name, m := range all {
			n, err := io.Copy(bent.Decoded, m.decode(bufio.NewReader(bytes.NewReader(packed)), 1<<20))
			assert.True(t, err != nil || n == 1<<20, name)
		}
	})
}
