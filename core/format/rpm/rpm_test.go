package rpm

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"fmt"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/bent"
	"widecrate/core/blob"
	"widecrate/core/fault"
)

// value is that of a tag: text, texts, or numbers of 32 bits.
type value struct {
	tag   uint32
	texts []string
	ints  []uint32
}

func structure(values ...value) []byte {
	var index, store []byte
	for _, v := range values {
		kind, count := uint32(typeInt32), len(v.ints)
		if v.texts != nil {
			kind, count = typeTexts, len(v.texts)
		} else {
			store = append(store, make([]byte, (4-len(store)%4)%4)...)
		}
		for _, n := range []uint32{v.tag, kind, uint32(len(store)), uint32(count)} {
			index = be.AppendUint32(index, n)
		}
		for _, text := range v.texts {
			store = append(append(store, text...), 0)
		}
		for _, n := range v.ints {
			store = be.AppendUint32(store, n)
		}
	}
	out := append([]byte(headerMagic), 0, 0, 0, 0)
	out = be.AppendUint32(be.AppendUint32(out, uint32(len(values))), uint32(len(store)))
	return append(append(out, index...), store...)
}

func cpioOf(things ...string) (out []byte) {
	for i := 0; i < len(things); i += 2 {
		name, data := things[i], things[i+1]
		out = fmt.Appendf(out, "070701%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%s\x00", i, 0o100644, 0, 0, 1, 1777000000, len(data), 0, 0, 0, 0, len(name)+1, 0, name)
		out = append(out, make([]byte, (4-len(out)%4)%4)...)
		out = append(out, data...)
		out = append(out, make([]byte, (4-len(out)%4)%4)...)
	}
	return out
}

func build(t testing.TB, csv string) []byte {
	t.Helper()
	b := append([]byte(leadMagic), make([]byte, leadLength-len(leadMagic))...)
	b = append(b, structure(value{1000, nil, []uint32{5}})...)
	b = append(b, make([]byte, (8-len(b)%8)%8)...)
	b = append(b, structure(
		value{tagName, []string{"tides"}, nil}, value{tagVersion, []string{"1.2"}, nil}, value{tagAfterInstall, []string{"echo done"}, nil},
		value{tagDigests, []string{fmt.Sprintf("%x", sha256.Sum256([]byte("1,2\n"))), ""}, nil}, value{tagFolderOf, nil, []uint32{0, 1}},
		value{tagNames, []string{"levels.csv", "free.txt"}, nil}, value{tagFolders, []string{"/usr/share/", "/usr/"}, nil}, value{tagDigestAlgorithm, nil, []uint32{8}},
	)...)
	var payload bytes.Buffer
	w := gzip.NewWriter(&payload)
	_, err := w.Write(cpioOf("./usr/share/levels.csv", csv, "./usr/free.txt", "no sum", "TRAILER!!!", ""))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return append(b, payload.Bytes()...)
}

func read(data []byte) (found []string, err error) {
	return entries(bytes.NewReader(data), int64(len(data)))
}

func entries(r io.ReaderAt, size int64) (found []string, err error) {
	s, err := Open(r, size, archive.Options{})
	if err != nil {
		return nil, err
	}
	defer s.Close()
	for {
		e, err := s.Next()
		if err == io.EOF {
			return found, nil
		}
		if err != nil {
			return found, err
		}
		content, err := io.ReadAll(s)
		if err != nil {
			return found, err
		}
		found = append(found, fmt.Sprintf("%s %s %v", e.Path, content, e.Summed))
	}
}

func TestRead(t *testing.T) {
	data := build(t, "1,2\n")
	assert.True(t, Format.Identify(bytes.NewReader(data), int64(len(data))))
	found, err := read(data)
	require.NoError(t, err)
	flow := blob.NewFlow(io.NopCloser(bytes.NewReader(data)))
	flow.Settle()
	again, err := entries(flow, blob.Endless)
	require.NoError(t, err)
	assert.Equal(t, found, again, "as it comes")
	assert.Equal(t, []string{"[control]/package.txt Name: tides\nVersion: 1.2\n false", "[control]/after-install echo done false",
		"usr/share/levels.csv 1,2\n true", "usr/free.txt no sum false"}, found)
	_, err = read(build(t, "1,3\n"))
	assert.Equal(t, fault.Damaged, fault.Of(err))
	assert.ErrorContains(t, err, "SHA-256")
	for cut := range len(data) - 1 {
		_, err := read(data[:cut])
		require.Error(t, err, "cut at %d", cut)
		assert.Equal(t, fault.Damaged, fault.Of(err), "cut at %d: %v", cut, err)
	}
	enormous := bytes.Clone(data)
	be.PutUint32(enormous[leadLength+8:], 1<<31)
	_, err = read(enormous)
	assert.Equal(t, fault.Unsafe, fault.Of(err))
	counted := bytes.Clone(data) // more digests than there are bytes
	be.PutUint32(counted[bytes.Index(counted, be.AppendUint32(nil, tagDigests))+12:], 1<<32-1)
	found, err = read(counted)
	assert.NoError(t, err)
	assert.Len(t, found, 4)
}

// numbered are the headers of the files of a package with large ones, with their data.
func numbered(things ...string) (out []byte) {
	for i, data := range things {
		if data != "ghost" {
			out = fmt.Appendf(out, "07070X%08x\x00\x00%s", i, data)
			out = append(out, make([]byte, (4-len(out)%4)%4)...)
		}
	}
	return append(out, cpioOf("TRAILER!!!", "")...)
}

// Where a file has 4 GiB or more, the headers in the cpio only number what the package
// lists.
func TestNumbered(t *testing.T) {
	build := func(count int, sizes []uint32, cpio []byte) []byte {
		b := append([]byte(leadMagic), make([]byte, leadLength-len(leadMagic))...)
		b = append(append(b, structure(value{1000, nil, []uint32{5}})...), 0, 0, 0, 0)
		return append(append(b, structure(
			value{tagFolderOf, nil, make([]uint32, count)}, value{tagNames, []string{"data", "data/a.csv", "data/gone", "data/b.csv", "data/l"}[:count], nil}, value{tagFolders, []string{"/srv/"}, nil},
			value{tagLargeSizes, nil, sizes}, value{tagModes, nil, []uint32{0o40755, 0o100644, 0o100644, 0o100644, 0o120777}}, value{tagTimes, nil, make([]uint32, 5)},
			value{tagFlags, nil, []uint32{0, 0, isGhost, 0, 0}}, value{tagDevices, nil, []uint32{1, 1, 1, 1, 1}}, value{tagInodes, nil, []uint32{1, 2, 2, 2, 3}})...), cpio...)
	}
	sizes, cpio := []uint32{4096, 4, 4, 4, 5}, numbered("", "", "ghost", "1,2\n", "b.csv")
	found, err := read(build(5, sizes, cpio))
	require.NoError(t, err)
	assert.Equal(t, []string{"[control]/package.txt  false", "srv/data  false", "srv/data/b.csv 1,2\n false", "srv/data/a.csv  false", "srv/data/l  false"}, found, "a.csv is a second name")
	for name, data := range map[string][]byte{"more than are listed": build(3, sizes, cpio), "fewer sizes": build(5, sizes[:4], cpio), "cut off": build(5, sizes, cpio[:60])} {
		_, err := read(data)
		assert.Equal(t, fault.Damaged, fault.Of(err), "%s: %v", name, err)
	}
}

func FuzzOpen(f *testing.F) {
	bent.Fuzz(f, [][]byte{build(f, "1,2\n")}, 1<<30, nil, func(t *testing.T, data []byte) {
		if _, err := read(data); err != nil {
			assert.NotEqual(t, fault.Other, fault.Of(err), err)
		}
	})
}
