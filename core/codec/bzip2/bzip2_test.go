package bzip2

import (
	"bytes"
	"compress/bzip2"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"runtime"
	"strconv"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	packer "github.com/dsnet/compress/bzip2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/systemtest"
)

func pack(t testing.TB, data []byte, level int) []byte {
	t.Helper()
	var b bytes.Buffer
	w, err := packer.NewWriter(&b, &packer.WriterConfig{Level: level})
	require.NoError(t, err)
	_, err = w.Write(data)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Bytes()
}

func unpack(packed []byte, find finder) ([]byte, error) {
	r := newReader(iotest.HalfReader(bytes.NewReader(packed)), find)
	defer r.Close()
	return io.ReadAll(r)
}

func noise(n int) []byte {
	data := make([]byte, n)
	rand.NewChaCha8([32]byte{}).Read(data)
	return data
}

func TestReader(t *testing.T) {
	text := []byte(strings.Repeat("2026-05-01T00:00Z,osk-bay,2.600,good\n", 20_000))
	for name, data := range map[string][]byte{"nothing": {}, "one byte": {7}, "text": text, "noise": noise(230_000), "a run": make([]byte, 2_000_000),
		"runs": bytes.Repeat([]byte("aaaabbbbbccccccd"), 20_000), "all bytes": append(noise(3000), text[:100_000]...)} {
		for _, level := range []int{1, 9} {
			packed := pack(t, data, level)
			got, err := unpack(packed, find)
			require.NoError(t, err, name)
			require.True(t, bytes.Equal(data, got), name)
			twice, err := unpack(append(append(bytes.Clone(packed), packed...), pack(t, []byte("end"), 3)...), find)
			require.NoError(t, err, name)
			require.Len(t, twice, 2*len(data)+3)
			for _, cut := range []int{1, 3, 4, 10, len(packed) / 2, len(packed) - 1} {
				if cut < len(packed) {
					_, err := unpack(packed[:cut], find)
					require.ErrorIs(t, err, io.ErrUnexpectedEOF, "%s, cut at %d", name, cut)
				}
			}
			_, err = unpack(append(bytes.Clone(packed), 0), find)
			require.Error(t, err)
		}
	}
}

// A number in the data of a block that looks like a magic one is none, wherever it stands.
func TestFalseMagic(t *testing.T) {
	data := noise(250_000)
	packed := pack(t, data, 1)
	for _, every := range []int{1_009, 100_003, 333_332} {
		got, err := unpack(packed, func(b []byte, from int) (int, bool) {
			bit, end := find(b, from)
			if fake := from + every; fake+64 < len(b)*8 && (bit < 0 || fake < bit) {
				return fake, every%2 == 0
			}
			return bit, end
		})
		require.NoError(t, err, "every %d", every)
		require.True(t, bytes.Equal(data, got))
	}
}

// A block that follows the end of a stream within the same byte is damage.
func TestBlockWithinTheLastByte(t *testing.T) {
	tried := 0
	for n := range 40 {
		packed := pack(t, noise(n+1), 1)
		var bits strings.Builder
		for _, b := range packed {
			fmt.Fprintf(&bits, "%08b", b)
		}
		all := bits.String()
		end := strings.Index(all, fmt.Sprintf("%048b", uint64(endMagic))) + magicBits + 32
		if end%8 == 0 {
			continue
		}
		tried++
		all = all[:end] + fmt.Sprintf("%048b", uint64(blockMagic)) + strings.Repeat("0", 800)
		var spoilt []byte
		for ; len(all) >= 8; all = all[8:] {
			b, err := strconv.ParseUint(all[:8], 2, 8)
			require.NoError(t, err)
			spoilt = append(spoilt, byte(b))
		}
		_, err := unpack(spoilt, find)
		require.ErrorIs(t, err, ErrCorrupt)
	}
	assert.Positive(t, tried)
}

// Damage is named with its block and offset, and what comes before it is read.
func TestDamage(t *testing.T) {
	data := noise(450_000)
	packed := pack(t, data, 1)
	packed[len(packed)/2] ^= 1
	got, err := unpack(packed, find)
	require.ErrorIs(t, err, ErrCorrupt)
	assert.Contains(t, err.Error(), "block 3, at offset ")
	assert.True(t, bytes.HasPrefix(data, got))
	assert.Greater(t, len(got), 150_000)
}

// agrees makes sure that a stream comes to the same as with the standard library, but for codes
// that are not complete, of which that makes something else than the format does.
func agrees(t *testing.T, packed []byte) {
	t.Helper()
	got, err := unpack(packed, find)
	want, wrong := io.ReadAll(bzip2.NewReader(bytes.NewReader(packed)))
	switch {
	case err == nil && wrong == nil:
		require.True(t, bytes.Equal(want, got))
	case err == nil: // its checksums are right
	case wrong == nil:
		require.Regexp(t, "a code that there is not|a code has more symbols", err.Error())
	default:
		require.True(t, errors.Is(err, ErrCorrupt) || errors.Is(err, io.ErrUnexpectedEOF), "%v", err)
	}
}

func TestFlips(t *testing.T) {
	packed := append(pack(t, []byte(strings.Repeat("level 2.60 at osk bay; ", 12)), 1), pack(t, noise(70), 9)...)
	for i := 0; i < len(packed); i += systemtest.Rounds(10, 4, 1) {
		agrees(t, packed[:i])
		for bit := range 8 {
			flipped := bytes.Clone(packed)
			flipped[i] ^= 1 << bit
			agrees(t, flipped)
		}
	}
}

// One that is closed early ends its goroutines.
func TestClose(t *testing.T) {
	before := runtime.NumGoroutine()
	packed := pack(t, noise(700_000), 1)
	for range 8 {
		r := NewReader(bytes.NewReader(packed))
		_, err := io.CopyN(io.Discard, r, 150_000)
		require.NoError(t, err)
		require.NoError(t, r.Close())
		require.NoError(t, r.Close())
	}
	for end := time.Now().Add(10 * time.Second); runtime.NumGoroutine() > before; time.Sleep(time.Millisecond) {
		require.True(t, time.Now().Before(end), "goroutines are left")
	}
}

func FuzzReader(f *testing.F) {
	f.Add(pack(f, []byte("level 2.60 at osk bay"), 1))
	f.Add(append(pack(f, noise(300), 9), pack(f, nil, 2)...))
	f.Fuzz(func(t *testing.T, packed []byte) { agrees(t, packed) })
}
