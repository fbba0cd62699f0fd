package codec

import (
	"bytes"
	"compress/zlib"
	"fmt"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/fault"
)

// Frames that are to be skipped are, wherever they stand.
func TestSkippableFrames(t *testing.T) {
	m, _ := ByName(Zstd)
	skip := append([]byte{0x53, 0x2a, 0x4d, 0x18, 5, 0, 0, 0}, "notes"...)
	b := packed(t, m, []byte("1,2,3"))
	file := bytes.Join([][]byte{skip, b, skip, b, skip}, nil)
	assert.True(t, m.Magic(file))
	got, err := unpacked(m, file, Options{})
	require.NoError(t, err)
	assert.Equal(t, "1,2,31,2,3", string(got))

	other, _ := ByName(LZ4)
	file = append(skip, packed(t, other, []byte("4,5"))...)
	assert.False(t, m.Magic(file))
	require.True(t, other.Magic(file))
	got, err = unpacked(other, file, Options{})
	require.NoError(t, err)
	assert.Equal(t, "4,5", string(got))
	var older bytes.Buffer
	w := lz4.NewWriter(&older)
	require.NoError(t, w.Apply(lz4.LegacyOption(true)))
	_, err = w.Write(sample(100_000))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	require.True(t, other.Magic(older.Bytes()))
	got, err = unpacked(other, older.Bytes(), Options{})
	require.NoError(t, err)
	assert.Equal(t, sample(100_000), got)
}

// What was packed with a dictionary needs that one, of whatever kind it is; what was packed without
// one is read with it as well.
func TestDictionaries(t *testing.T) {
	var samples [][]byte
	for i := range 200 {
		samples = append(samples, fmt.Appendf(nil, "2026-05-01T%02d:%02dZ,%d,good,Osk Bay\n", i%24, i%60, 2000+i*i%900))
	}
	raw := bytes.Join(samples[:50], nil)
	trained, err := zstd.BuildDict(zstd.BuildDictOptions{ID: 7, Contents: samples, History: raw, Offsets: [3]int{1, 4, 8}})
	require.NoError(t, err)
	text := bytes.Join(samples[100:104], nil)
	pack := func(o ...zstd.EOption) []byte {
		e, err := zstd.NewWriter(nil, o...)
		require.NoError(t, err)
		return e.EncodeAll(text, nil)
	}
	for name, c := range map[string]struct {
		method             string
		packed, dictionary []byte
	}{
		"zstd, trained":                  {Zstd, pack(zstd.WithEncoderDict(trained)), trained},
		"zstd, nothing but content":      {Zstd, pack(zstd.WithEncoderDictRaw(0, raw)), raw},
		"zstd, without one":              {Zstd, pack(), trained},
		"zlib":                           {Zlib, presetWith(t, raw, text), raw},
		"zlib, without one":              {Zlib, packed(t, zlibMethod, text), raw},
		"zlib, longer than it can reach": {Zlib, presetWith(t, bytes.Repeat(raw, 40), text), bytes.Repeat(raw, 40)},
	} {
		m, _ := ByName(c.method)
		require.True(t, m.Magic(c.packed[:min(len(c.packed), 64)]), name)
		got, err := unpacked(m, c.packed, Options{Dictionary: c.dictionary})
		require.NoError(t, err, name)
		assert.Equal(t, string(text), string(got), name)
		if !strings.Contains(name, "without") {
			for _, other := range [][]byte{nil, []byte("another")} {
				if other != nil && strings.Contains(name, "content") { // nothing tells them apart
					continue
				}
				_, err := unpacked(m, c.packed, Options{Dictionary: other})
				require.Error(t, err, name)
				if c.method == Zlib || name == "zstd, trained" {
					require.ErrorIs(t, err, fault.Incomplete, name)
				}
			}
		}
	}
}

func presetWith(t *testing.T, dictionary, text []byte) []byte {
	var b bytes.Buffer
	w, err := zlib.NewWriterLevelDict(&b, 6, dictionary)
	require.NoError(t, err)
	_, err = w.Write(text)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Bytes()
}

// Frames of the older form of lz4 stand one after the other, and beside those of the newer one.
func TestOlderLZ4(t *testing.T) {
	older := func(data []byte) []byte {
		var b bytes.Buffer
		w := lz4.NewWriter(&b)
		require.NoError(t, w.Apply(lz4.LegacyOption(true)))
		_, err := w.Write(data)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		return b.Bytes()
	}
	data := sample(9 << 20) // a block has 8 MiB
	newer := packed(t, lz4Method, data[:1000])
	for name, frames := range map[string][][]byte{"one": {older(data)}, "two": {older(data[:50]), older(data[:70])}, "newer behind": {older(data[:50]), newer}, "older behind": {newer, older(data[:50])}} {
		file := bytes.Join(frames, nil)
		got, err := unpacked(lz4Method, file, Options{})
		require.NoError(t, err, name)
		want := map[string]int{"one": len(data), "two": 120, "newer behind": 1050, "older behind": 1050}[name]
		assert.Len(t, got, want, name)
	}
}
