package codec

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/flate"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz/lzma"

	"widecrate/core/bent"
	"widecrate/core/codec/codectest"
	"widecrate/core/fault"
	"widecrate/core/systemtest"
)

func packed(t testing.TB, m Method, data []byte) []byte {
	t.Helper()
	var b bytes.Buffer
	encode := m.Encode
	switch m.Name { // those that are only read
	case Compress:
		return codectest.Compress(data, 16, true)
	case LZMAFile:
		encode = func(dst io.Writer, _ EncodeOptions) (io.WriteCloser, error) { return lzma.NewWriter(dst) }
	}
	enc, err := encode(&b, EncodeOptions{})
	require.NoError(t, err)
	_, err = enc.Write(data)
	require.NoError(t, err)
	require.NoError(t, enc.Close())
	return b.Bytes()
}

func unpacked(m Method, data []byte, o Options) ([]byte, error) {
	d, err := m.Decode(bufio.NewReader(bytes.NewReader(data)), o)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	defer d.Close() // which must not give anything back a second time
	return io.ReadAll(d)
}

// A decoder that goes round is never in two hands, even if one lets go twice.
func TestClosedTwice(t *testing.T) {
	data := sample(300_000)
	for _, m := range []Method{deflateMethod, gzipMethod, zlibMethod, zstdMethod} {
		b := packed(t, m, data)
		_, err := unpacked(m, b, Options{})
		require.NoError(t, err)
		var streams [3]io.ReadCloser
		for i := range streams {
			streams[i], err = m.Decode(bufio.NewReader(bytes.NewReader(b)), Options{})
			require.NoError(t, err)
		}
		got := make([][]byte, len(streams))
		for at := 0; at < len(data); at += 100_000 { // in turn
			for i, s := range streams {
				piece := make([]byte, 100_000)
				_, err := io.ReadFull(s, piece)
				require.NoError(t, err, m.Name)
				got[i] = append(got[i], piece...)
			}
		}
		for i, s := range streams {
			assert.True(t, bytes.Equal(data, got[i]), m.Name)
			require.NoError(t, s.Close())
		}
	}
}

func sample(n int) []byte {
	data := make([]byte, n)
	r := rand.New(rand.NewPCG(1, 1))
	for i := range data {
		data[i] = byte(r.Uint32() & r.Uint32() & 63)
	}
	return data
}

// Every stream is known by its first bytes and by no other's, comes back, is
// read on into a second one, and is never taken for whole when it is cut.
func TestStreams(t *testing.T) {
	data := sample(50_000)
	for _, m := range Streams() {
		t.Run(m.Name, func(t *testing.T) {
			b := packed(t, m, data)
			for _, other := range Streams() {
				assert.Equal(t, m.Name == other.Name, other.Magic(b[:64]), other.Name)
			}
			assert.False(t, m.Magic(data[:64]))
			assert.False(t, m.Magic(nil))
			got, err := unpacked(m, b, Options{})
			require.NoError(t, err)
			assert.True(t, bytes.Equal(data, got))
			if m.Name == Compress { // nothing says where it ends
				return
			}
			got, err = unpacked(m, append(bytes.Clone(b), b...), Options{})
			if m.Name == Zlib || m.Name == LZMAFile { // of which there is but one
				require.ErrorIs(t, err, errBehind)
			} else {
				require.NoError(t, err)
				assert.Len(t, got, 2*len(data))
			}
			got, err = unpacked(m, append(bytes.Clone(b), make([]byte, 1000)...), Options{})
			if m.Name == Gzip { // tapes fill up with zeros
				require.NoError(t, err)
				assert.Len(t, got, len(data))
				_, err = unpacked(m, append(append(bytes.Clone(b), make([]byte, 1000)...), 1), Options{})
				require.ErrorIs(t, err, errBehind)
			}
			for _, n := range []int{1, len(b) / 2, len(b) - 1} {
				_, err := unpacked(m, b[:n], Options{})
				assert.Error(t, err, "cut off after %d", n)
			}
		})
	}
}

// What stands around deflate is read as the standard library reads it, and as the
// RFCs say where that is more lenient.
func TestWrappers(t *testing.T) {
	text := []byte(strings.Repeat("2026-05-01T00:00Z,2600,good\n", 40))
	header := []byte{0x1f, 0x8b, 8, 2 | 4 | 8 | 16, 0x40, 0xe1, 0xf3, 0x69, 0, 3, 3, 0, 'x', 0, 7}
	header = append(append(header, "p\xe9gel.csv\x00"...), "levels\x00"...)
	header = binary.LittleEndian.AppendUint16(header, uint16(crc32.ChecksumIEEE(header)))
	member := packed(t, gzipMethod, text)
	full := append(header, member[10:]...) // after the plain header
	readers := map[string]func(io.Reader) (io.Reader, error){
		Gzip: func(r io.Reader) (io.Reader, error) { return gzip.NewReader(r) },
		Zlib: func(r io.Reader) (io.Reader, error) { return zlib.NewReader(r) },
	}
	for name, stream := range map[string][]byte{
		Gzip:                              append(bytes.Clone(full), member...),
		Gzip + " and what is not one":     append(bytes.Clone(full), "behind"...),
		Zlib:                              packed(t, zlibMethod, text),
		Zlib + " that needs a dictionary": {0x78, 0xbb, 0, 1, 0, 2, 3, 0, 0, 0, 0, 1},
	} {
		method, _ := ByName(name[:4])
		compare := func(stream []byte) {
			var want []byte
			theirs, wantErr := readers[name[:4]](bytes.NewReader(stream))
			if wantErr == nil {
				want, wantErr = io.ReadAll(theirs)
			}
			got, err := unpacked(method, stream, Options{})
			if assert.Equal(t, wantErr == nil, err == nil, "%s: %v, %v", name, wantErr, err); err == nil {
				assert.Equal(t, want, got, name)
			}
		}
		compare(stream)
		for at := range stream {
			compare(stream[:at])
			for bit := range 8 {
				if method.Name == Gzip && (at == 3 || at == len(full)+3) && bit >= 5 {
					continue // reserved flags
				}
				changed := bytes.Clone(stream)
				changed[at] ^= 1 << bit
				compare(changed)
			}
		}
	}
	described, err := ReadGzipHeader(bufio.NewReader(bytes.NewReader(full)))
	require.NoError(t, err)
	assert.Equal(t, GzipHeader{Name: "pégel.csv", Modified: time.Unix(0x69f3e140, 0)}, described)
	for what, b := range map[string][]byte{"reserved flags": {0x1f, 0x8b, 8, 0x20, 0, 0, 0, 0, 0, 0}, "text": append([]byte{0x1f, 0x8b, 8, 8, 0, 0, 0, 0, 0, 0}, bytes.Repeat([]byte{'x'}, 2*longestText)...)} {
		_, err := ReadGzipHeader(bufio.NewReader(bytes.NewReader(b)))
		require.Error(t, err, what)
		assert.NotErrorIs(t, err, io.ErrUnexpectedEOF, what)
	}
}

// What a header asks for is bounded before it is given.
func TestMemory(t *testing.T) {
	for name, size := range map[string]int{XZ: 5 << 18, Zstd: 3 << 20} {
		m, _ := ByName(name)
		_, err := unpacked(m, packed(t, m, sample(size)), Options{MaxMemory: 1 << 20})
		assert.ErrorIs(t, err, fault.Unsafe, name)
	}
	wide := []byte{0x28, 0xb5, 0x2f, 0xfd, 0, 0xa1, 1, 0, 0} // a window of 1.125 GiB, and nothing in it
	z, _ := ByName(Zstd)
	_, err := unpacked(z, wide, Options{})
	assert.ErrorIs(t, err, fault.Unsafe)
	_, err = unpacked(z, wide, Options{MaxMemory: 2 << 30})
	assert.NoError(t, err)
	_, err = unpacked(z, []byte{0x28, 0xb5, 0x2f, 0xfd, 1, 0x50, 7, 1, 0, 0}, Options{})
	assert.ErrorContains(t, err, "a dictionary of its own")
	lzma, _ := ByName(LZMA)
	_, err = unpacked(lzma, []byte{9, 9, 5, 0, 0x5d, 0, 0, 0, 0x7f, 0}, Options{})
	assert.ErrorIs(t, err, fault.Unsafe)
}

// Several xz streams decode in parallel to the same as one after the other; what
// is damaged is damaged either way.
func TestParallelXZ(t *testing.T) {
	m, _ := ByName(XZ)
	data := sample(1 << 17)
	var file []byte
	for i := range 9 {
		file = append(file, packed(t, m, data[i<<13:(i+2)<<13])...)
		file = append(file, make([]byte, i%3*4)...) // padding
	}
	want, err := unpacked(m, file, Options{})
	require.NoError(t, err)
	decode := func(file []byte) ([]byte, error) {
		d, err := m.DecodeFile(bytes.NewReader(file), int64(len(file)), Options{})
		if err != nil {
			return nil, err
		}
		defer d.Close()
		return io.ReadAll(d)
	}
	got, err := decode(file)
	require.NoError(t, err)
	require.True(t, bytes.Equal(want, got))
	_, err = decode(packed(t, m, data))
	assert.ErrorIs(t, err, errNotParallel, "a single stream gains nothing")
	for _, at := range []int{len(file) / 3, len(file) / 2, len(file) - 30} {
		broken := bytes.Clone(file)
		broken[at] ^= 1
		_, err := decode(broken)
		assert.Error(t, err)
	}
	_, err = decode(file[:len(file)-50])
	assert.Error(t, err)
}

// What an encoder makes of data of many blocks depends on the level alone, is
// little larger than in one piece, and comes back.
func TestBlocks(t *testing.T) {
	data := bytes.Repeat([]byte("2026-05-01T00:00Z,2600,good\n"), 100)
	for r := rand.New(rand.NewPCG(2, 2)); len(data) < 5<<18; {
		data = fmt.Appendf(data, "2026-05-01T00:%02dZ,%d,good\n", len(data)%60, 2000+r.IntN(900))
	}
	for _, m := range methods {
		if m.Encode == nil || m.Name == store.Name {
			continue
		}
		t.Run(m.Name, func(t *testing.T) {
			sizes := map[Level]int{}
			for _, level := range []Level{Fast, Normal, Best} {
				if level == Best && (!systemtest.LongWanted() || m.Name == XZ) {
					continue
				}
				var first []byte
				for _, workers := range []int{1, 3} {
					var b bytes.Buffer
					o := At(level)
					o.Workers = workers
					enc, err := m.Encode(&b, o)
					require.NoError(t, err)
					for rest := data; len(rest) > 0; { // in pieces of all sizes
						n := min(len(rest), 1+len(rest)%300_000)
						_, err := enc.Write(rest[:n])
						require.NoError(t, err)
						rest = rest[n:]
					}
					require.NoError(t, enc.Close())
					if first == nil {
						first = b.Bytes()
						got, err := unpacked(m, first, Options{})
						require.NoError(t, err)
						require.True(t, bytes.Equal(data, got))
					}
					require.True(t, bytes.Equal(first, b.Bytes()), "level %d with %d workers", level, workers)
				}
				sizes[level] = len(first)
			}
			if m.Name != Zstd { // whose library does no better on such data
				assert.LessOrEqual(t, sizes[Normal], sizes[Fast])
			}
			if m.Name == Deflate {
				var whole bytes.Buffer
				w, err := flate.NewWriter(&whole, int(Normal))
				require.NoError(t, err)
				_, err = w.Write(data)
				require.NoError(t, err)
				require.NoError(t, w.Close())
				assert.Less(t, float64(sizes[Normal]), 1.005*float64(whole.Len()))
			}
		})
	}
}

// An encoder whose output fails says so, and does not hang.
func TestEncodeToFullDisk(t *testing.T) {
	full := errors.New("no space")
	for _, m := range Streams() {
		if m.Encode == nil {
			continue
		}
		for _, room := range []int{0, 100_000} {
			o := At(Fast) // whose blocks are the smallest
			o.Workers = 2
			enc, err := m.Encode(&limited{room, full}, o)
			if err == nil {
				noise := make([]byte, 3<<19)
				rand.NewChaCha8([32]byte{}).Read(noise)
				_, err = enc.Write(noise)
				if closed := enc.Close(); err == nil {
					err = closed
				}
			}
			assert.ErrorIs(t, err, full, m.Name)
		}
	}
}

// limited takes so many bytes and then fails.
type limited struct {
	room int
	err  error
}

func (l *limited) Write(p []byte) (int, error) {
	n := min(len(p), l.room)
	l.room -= n
	if n < len(p) {
		return n, l.err
	}
	return n, nil
}

// FuzzDecode holds that every method of streams ends at any bytes, within the bounds.
func FuzzDecode(f *testing.F) {
	var seeds [][]byte
	for _, m := range Streams() {
		seeds = append(seeds, packed(f, m, sample(2000)))
	}
	bent.Fuzz(f, seeds, 64<<20, nil, func(t *testing.T, data []byte) {
		for _, m := range Streams() {
			if !m.Magic(data) {
				continue
			}
			d, err := m.Decode(bufio.NewReader(bytes.NewReader(data)), Options{MaxMemory: 64 << 20})
			if err != nil {
				continue
			}
			_, _ = io.Copy(bent.Decoded, io.LimitReader(d, 1<<20)) // it may be damaged
			require.NoError(t, d.Close())
		}
	})
}
