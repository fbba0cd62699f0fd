package lzma

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	library "github.com/ulikunitz/xz/lzma"
)

// samples are data of several kinds: what repeats far and near, runs, and what does not.
func samples() map[string][]byte {
	r := rand.New(rand.NewPCG(1, 1))
	noise := make([]byte, 70_000)
	for i := range noise {
		noise[i] = byte(r.Uint32())
	}
	var table strings.Builder
	for i := range 20_000 {
		table.WriteString([]string{"osk-bay,", "pell-point,", "gull-ness,"}[r.IntN(3)])
		table.WriteString(strings.Repeat("0", i%5))
		table.WriteByte(byte('0' + r.IntN(10)))
		table.WriteByte('\n')
	}
	far := append(append(bytes.Clone(noise[:30_000]), bytes.Repeat([]byte("ab"), 100_000)...), noise[:30_000]...)
	return map[string][]byte{"nothing": {}, "one byte": {7}, "a run": make([]byte, 300_000), "noise": noise, "table": []byte(table.String()), "far": far,
		"mixed": append(bytes.Clone(noise[:3000]), table.String()...)}
}

// pack2 packs with the library, in chunks that a flush ends here and there.
func pack2(t testing.TB, data []byte, p library.Properties, dictionary int) []byte {
	t.Helper()
	var b bytes.Buffer
	w, err := library.Writer2Config{Properties: &p, DictCap: dictionary}.NewWriter2(&b)
	require.NoError(t, err)
	for half := len(data) / 2; len(data) > 0; data, half = data[half:], len(data)-half {
		half = max(half, 1)
		_, err = w.Write(data[:half])
		require.NoError(t, err)
		require.NoError(t, w.Flush())
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

func read2(packed []byte, dictionary int64) ([]byte, error) {
	var r Reader2
	r.Reset(iotest.OneByteReader(bytes.NewReader(packed)), dictionary)
	return io.ReadAll(&r)
}

func TestReader2(t *testing.T) {
	for name, data := range samples() {
		for _, p := range []library.Properties{{LC: 3, LP: 0, PB: 2}, {LC: 0, LP: 4, PB: 0}, {LC: 2, LP: 2, PB: 4}} {
			packed := pack2(t, data, p, 1<<15)
			got, err := read2(append(bytes.Clone(packed), "next"...), 1<<15)
			require.NoError(t, err, name)
			require.True(t, bytes.Equal(data, got), name)
		}
	}
	// One reader for many, and nothing is allocated for each.
	packed := pack2(t, samples()["table"], library.Properties{LC: 3, PB: 2}, 1<<20)
	var r Reader2
	allocated := testing.AllocsPerRun(5, func() {
		r.Reset(bytes.NewReader(packed), 1<<20)
		_, err := r.WriteTo(io.Discard)
		require.NoError(t, err)
	})
	assert.LessOrEqual(t, allocated, 1.0, "the source alone")
}

func TestReader(t *testing.T) {
	for name, data := range samples() {
		for _, marked := range []bool{true, false} {
			var b bytes.Buffer
			w, err := library.WriterConfig{Properties: &library.Properties{LC: 8, LP: 1, PB: 3}, DictCap: 1 << 14, EOSMarker: marked, Size: int64(len(data)), SizeInHeader: !marked}.NewWriter(&b)
			require.NoError(t, err)
			_, err = w.Write(data)
			require.NoError(t, err)
			require.NoError(t, w.Close())
			packed := b.Bytes()[library.HeaderLen:]
			for _, size := range []int64{-1, int64(len(data))} {
				if !marked && size < 0 {
					continue
				}
				src := bufio.NewReader(bytes.NewReader(append(bytes.Clone(packed), "behind it"...)))
				r, err := NewReader(src, Properties{LC: 8, LP: 1, PB: 3}, 1<<14, size)
				require.NoError(t, err, name)
				got, err := io.ReadAll(r)
				require.NoError(t, err, "%s, mark %v, size %d", name, marked, size)
				require.True(t, bytes.Equal(data, got), name)
				rest, err := io.ReadAll(src)
				require.NoError(t, err)
				require.Equal(t, "behind it", string(rest), "%s, mark %v, size %d", name, marked, size)
			}
			for cut := range len(packed) {
				if cut > 40 && cut < len(packed)-40 {
					continue
				}
				r, err := NewReader(bufio.NewReader(bytes.NewReader(packed[:cut])), Properties{LC: 8, LP: 1, PB: 3}, 1<<14, -1)
				if err == nil {
					_, err = io.Copy(io.Discard, r)
				}
				require.Error(t, err, "%s, cut at %d", name, cut)
			}
		}
	}
}

// agrees makes sure that a stream comes to the same as with the library: what that refuses is
// refused, and what it takes is taken, with the same data.
func agrees(t *testing.T, packed []byte, dictionary int64) {
	t.Helper()
	got, err := read2(packed, dictionary)
	var want []byte
	r, wrong := library.Reader2Config{DictCap: int(dictionary)}.NewReader2(bytes.NewReader(packed))
	if wrong == nil {
		want, wrong = io.ReadAll(r)
	}
	if wrong == nil && err == nil {
		require.True(t, bytes.Equal(want, got))
	}
	if wrong != nil {
		require.Error(t, err, "the library says: %v", wrong)
	}
	if err != nil && wrong == nil {
		// The library lets chunks end elsewhere than they say, and streams without an end.
		require.True(t, errors.Is(err, ErrCorrupt) || errors.Is(err, io.ErrUnexpectedEOF), "%v", err)
	}
}

// Whatever becomes of a bit of a small stream, there is an error or the same data.
func TestFlips(t *testing.T) {
	packed := pack2(t, samples()["mixed"][2900:4500], library.Properties{LC: 3, PB: 2}, 1<<12)
	for i := range len(packed) {
		agrees(t, packed[:i], 1<<12)
		for bit := range 8 {
			flipped := bytes.Clone(packed)
			flipped[i] ^= 1 << bit
			agrees(t, flipped, 1<<12)
		}
	}
}

func FuzzReader2(f *testing.F) {
	for _, data := range samples() {
		if len(data) < 80_000 {
			f.Add(pack2(f, data, library.Properties{LC: 3, PB: 2}, 1<<15))
		}
	}
	f.Fuzz(func(t *testing.T, packed []byte) { agrees(t, packed, 1<<15) })
}
