package lzw

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"widecrate/core/bent"
	"widecrate/core/codec/codectest"
)

func texts() map[string][]byte {
	r := rand.New(rand.NewPCG(1, 1))
	text, noise := make([]byte, 0, 600_000), make([]byte, 100_000)
	for len(text) < cap(text)-40 {
		text = fmt.Appendf(text, "2026-05-01T00:%02d,%d,good\n", r.IntN(60), 2000+r.IntN(900))
	}
	for i := range noise {
		noise[i] = byte(r.Uint32())
	}
	return map[string][]byte{"nothing": {}, "one": {7}, "zeros": make([]byte, 900_000), "text": text, "noise": noise}
}

func decode(packed []byte) ([]byte, error) {
	r, err := NewReader(bufio.NewReaderSize(bytes.NewReader(packed), 16))
	if err != nil {
		return nil, err
	}
	return io.ReadAll(r)
}

// All widths, with a table that starts anew and with one that stays, give back what was packed;
// a cut that leaves more than the rest of a byte is seen.
func TestDecode(t *testing.T) {
	for most := uint(9); most <= 16; most++ {
		for _, block := range []bool{true, false} {
			for what, data := range texts() {
				packed := codectest.Compress(data, most, block)
				require.True(t, IsHeader(packed))
				got, err := decode(packed)
				require.NoError(t, err, "%s, %d bits, %v", what, most, block)
				require.True(t, bytes.Equal(data, got), "%s, %d bits, %v", what, most, block)
				for cut := range min(len(packed), 5) {
					got, err := decode(packed[:len(packed)-cut-1])
					require.True(t, err != nil || bytes.HasPrefix(data, got), "%s cut by %d", what, cut)
				}
			}
		}
	}
}

// By hand, from the description in IEEE Std 1003.1: "aaaa" and a code that is about to be
// added; codes of nothing; a rest that is no padding.
func TestByHand(t *testing.T) {
	for packed, want := range map[string]string{
		"\x1f\x9d\x90\x61\x02\x86\x01": "aaaa", // 97, 257, 97
		"\x1f\x9d\x90\x61":             "",     // eight bits of a code
		"\x1f\x9d\x90\x61\x04\x02":     "",     // 97, 258
		"\x1f\x9d\x90\xff\x01":         "",     // 511 first
		"\x1f\x9d\x90\x61\x80":         "",     // bits behind the last code
		"\x1f\x9d":                     "",
		"\x1f\x9d\x88":                 "", // of at most 8 bits
		"\x1f\x9d\xb0":                 "", // a reserved bit
	} {
		got, err := decode([]byte(packed))
		require.Equal(t, want != "", err == nil, "%q: %q, %v", packed, got, err)
		if want != "" {
			require.Equal(t, want, string(got))
		}
	}
}

func FuzzReader(f *testing.F) {
	var seeds [][]byte
	for _, block := range []bool{true, false} {
		seeds = append(seeds, codectest.Compress(texts()["text"][:3000], 12, block), codectest.Compress(texts()["zeros"][:3000], 9, block))
	}
	bent.Fuzz(f, seeds, 0, nil, func(t *testing.T, packed []byte) {
		if r, err := NewReader(bufio.NewReader(bytes.NewReader(packed))); err == nil {
			_, _ = io.Copy(bent.Decoded, io.LimitReader(r, 1<<20)) // it may be damaged
		}
	})
}
