package codec

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"io"
	"os"
	"path/filepath"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"
)

// decoders are the two ways to read a file of several blocks.
var decoders = map[string]func(file []byte) ([]byte, error){
	"in order": func(file []byte) ([]byte, error) { return unpacked(xzMethod, file, Options{}) },
	"parallel": func(file []byte) ([]byte, error) {
		d, err := xzMethod.DecodeFile(bytes.NewReader(file), int64(len(file)), Options{})
		if err != nil {
			return nil, err
		}
		defer d.Close()
		return io.ReadAll(d)
	},
}

// foreign makes a stream with the library's own container.
func foreign(t *testing.T, data []byte, c xz.WriterConfig) []byte {
	var b bytes.Buffer
	w, err := c.NewWriter(&b)
	require.NoError(t, err)
	_, err = w.Write(data)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Bytes()
}

// Streams with all checks, of one block and of many, are read as the library
// reads them; no bit of them can be changed, and no cut goes unnoticed but one
// between two streams.
func TestXZContainer(t *testing.T) {
	data := sample(1500)
	var file, want []byte
	borders := map[int]bool{0: true}
	for i, c := range []xz.WriterConfig{{CheckSum: xz.CRC32}, {CheckSum: xz.CRC64, BlockSize: 300}, {CheckSum: xz.SHA256, BlockSize: 599}, {NoCheckSum: true, BlockSize: 4096}, {CheckSum: xz.CRC64}} {
		piece := data[:min(len(data), 300*i+270)]
		if i == 4 {
			piece = nil
		}
		c.DictCap = 1 << 16
		file, want = append(file, foreign(t, piece, c)...), append(want, piece...)
		borders[len(file)] = true
		if i%2 == 1 {
			file = append(file, 0, 0, 0, 0, 0, 0, 0, 0)
			borders[len(file)-4], borders[len(file)] = true, true
		}
	}
	for name, decode := range decoders {
		got, err := decode(file)
		require.NoError(t, err, name)
		require.True(t, bytes.Equal(want, got), name)
		for cut := 1; cut < len(file); cut++ {
			_, err := decode(file[:cut])
			if borders[cut] {
				continue
			}
			require.Error(t, err, "%s, cut at %d", name, cut)
			if name == "in order" {
				require.ErrorIs(t, err, io.ErrUnexpectedEOF, "cut at %d", cut)
			}
		}
		checked := len(file) - 24 - len(foreign(t, data[:1170], xz.WriterConfig{NoCheckSum: true, BlockSize: 4096, DictCap: 1 << 16})) - 40
		for at := range checked {
			broken := bytes.Clone(file)
			broken[at] ^= 1 << (at % 8)
			_, err := decode(broken)
			require.Error(t, err, "%s, changed at %d", name, at)
		}
	}
	for at := range 12 * 8 { // of the first header, every bit
		broken := bytes.Clone(file)
		broken[at/8] ^= 1 << (at % 8)
		_, err := unpacked(xzMethod, broken, Options{})
		require.Error(t, err, "bit %d", at)
	}
}

// What is written is one stream, which the library reads too.
func TestXZWritesOneStream(t *testing.T) {
	data := bytes.Repeat(sample(1000), 2500)
	o := At(Fast)
	o.Workers = 3
	var b bytes.Buffer
	w, err := xzMethod.Encode(&b, o)
	require.NoError(t, err)
	_, err = w.Write(data)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	blocks, err := xzBlocks(bytes.NewReader(b.Bytes()), int64(b.Len()))
	require.NoError(t, err)
	assert.Len(t, blocks, 3)
	assert.Equal(t, int64(xzEnds), blocks[0].start)
	r, err := xz.ReaderConfig{SingleStream: true}.NewReader(bytes.NewReader(b.Bytes()))
	require.NoError(t, err)
	got, err := io.ReadAll(r)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(data, got))
	for _, block := range blocks { // where something that looks whole would end
		_, err := unpacked(xzMethod, b.Bytes()[:block.start], Options{})
		assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
	}
}

// What is written of data of many blocks cannot be cut off unnoticed anywhere.
func TestCutOff(t *testing.T) {
	data := bytes.Repeat(sample(1000), 1500)
	if testing.Short() {
		data = data[:200_000]
	}
	for _, m := range Streams() {
		if m.Encode == nil {
			continue
		}
		var b bytes.Buffer
		w, err := m.Encode(&b, At(Fast))
		require.NoError(t, err)
		_, err = w.Write(data)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		for cut := 1; cut < b.Len(); cut += max(1, min(b.Len()/31, b.Len()-cut-30)) {
			_, err := unpacked(m, b.Bytes()[:cut], Options{})
			assert.Error(t, err, "%s cut at %d of %d", m.Name, cut, b.Len())
		}
	}
}

// Runs, which the first stage of bzip2 may make longer, come back, in one stream.
func TestBzip2Runs(t *testing.T) {
	data := bytes.Repeat([]byte("aaaabbbb"), 40_000)
	data = append(data, bytes.Repeat([]byte{'c'}, 300_000)...)
	stream := packed(t, bzip2Method, data)
	assert.Equal(t, 1, bytes.Count(stream, []byte("BZh")))
	got, err := unpacked(bzip2Method, stream, Options{})
	require.NoError(t, err)
	assert.True(t, bytes.Equal(data, got))
	for text, want := range map[string]int{"": 0, "a": 1, "aaa": 3, "aaaa": 5, "aaaaaaaab": 6} {
		assert.Equal(t, want, runLength([]byte(text)), text)
	}
	assert.Equal(t, 10, runLength(bytes.Repeat([]byte{'x'}, 510)))
}

// Hundreds of thousands of empty streams take a moment: with the square of their
// number it would be many minutes. Empty blocks, too, cost no memory each.
func TestManyXZStreams(t *testing.T) {
	for _, file := range [][]byte{bytes.Repeat(packed(t, xzMethod, nil), 300_000), bytes.Repeat(foreign(t, nil, xz.WriterConfig{}), 5000)} {
		began := time.Now()
		got, err := unpacked(xzMethod, file, Options{})
		require.NoError(t, err)
		assert.Empty(t, got)
		_, err = xzBlocks(bytes.NewReader(file), int64(len(file)))
		require.NoError(t, err)
		assert.Less(t, time.Since(began), time.Minute)
	}
}

// A number of an index that runs on is no number.
func TestXZIntegers(t *testing.T) {
	for text, want := range map[string]int64{"\x05": 5, "\x80\x01": 128, "\xff\xff\xff\xff\xff\xff\xff\xff\x7f": 1<<63 - 1} {
		got, err := newSummed(bytes.NewReader([]byte(text))).integer()
		require.NoError(t, err)
		assert.Equal(t, want, got)
		assert.Equal(t, []byte(text), binary.AppendUvarint(nil, uint64(want)))
	}
	for _, text := range []string{"\x80\x00", "\x80\x80\x80\x80\x80\x80\x80\x80\x80\x01", "\x80"} {
		_, err := newSummed(bytes.NewReader([]byte(text))).integer()
		assert.Error(t, err)
	}
}

// Blocks with filters, made by the library that the format comes from: the checks of the
// blocks tell that what is taken back is right. What is no filter is none.
func TestXZFilters(t *testing.T) {
	files, err := filepath.Glob("testdata/filters/*.xz")
	require.NoError(t, err)
	require.Len(t, files, 9)
	for _, file := range files {
		packed, err := os.ReadFile(file)
		require.NoError(t, err)
		got, err := unpacked(xzMethod, packed, Options{})
		require.NoError(t, err, file)
		assert.Len(t, got, 9001)
		d, err := xzMethod.Decode(bufio.NewReader(bytes.NewReader(packed)), Options{})
		require.NoError(t, err)
		again, err := io.ReadAll(iotest.OneByteReader(d))
		require.NoError(t, err, file)
		assert.True(t, bytes.Equal(got, again), file)
	}
	for _, f := range []xzFilter{{id: 0x0c}, {id: filterDelta}, {id: filterX86, props: []byte{1}}, {id: filterLZMA2, props: []byte{0}}} {
		assert.Nil(t, f.undo(bytes.NewReader(nil)))
	}
}

// What comes before damage is read, and nothing that is not there, however blocks are decoded.
func TestXZDamage(t *testing.T) {
	data := sample(5 << 20)
	o := At(Fast) // blocks of 1 MiB
	var b bytes.Buffer
	w, err := xzMethod.Encode(&b, o)
	require.NoError(t, err)
	_, err = w.Write(data)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	for _, cut := range []bool{false, true} {
		packed := bytes.Clone(b.Bytes())
		if at := len(packed) / 2; cut {
			packed = packed[:at]
		} else {
			packed[at] ^= 1
		}
		got, err := unpacked(xzMethod, packed, Options{})
		require.Error(t, err)
		assert.True(t, bytes.HasPrefix(data, got))
		assert.Greater(t, len(got), 2<<20-1, "two blocks are whole")
		if d, err := xzMethod.DecodeFile(bytes.NewReader(packed), int64(len(packed)), Options{}); !cut {
			require.NoError(t, err)
			got, err = io.ReadAll(d)
			require.Error(t, err)
			assert.True(t, bytes.HasPrefix(data, got))
			assert.Greater(t, len(got), 2<<20-1)
			require.NoError(t, d.Close())
		}
	}
}
