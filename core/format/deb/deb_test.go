package deb_test

import (
	"bytes"
	"crypto/md5" //nolint:gosec // it is what packages have
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/bent"
	"widecrate/core/blob"
	"widecrate/core/fault"
	"widecrate/core/format"
	"widecrate/core/format/deb"
)

// pack makes an archive of files, given as path and content in turn.
func pack(t testing.TB, name string, things ...string) string {
	t.Helper()
	f, known := format.ByName(name)
	require.True(t, known)
	var b bytes.Buffer
	w, err := f.NewWriter(&b, archive.WriteOptions{})
	require.NoError(t, err)
	for i := 0; i < len(things); i += 2 {
		_, err := w.Add(archive.Entry{Path: things[i], Size: int64(len(things[i+1]))}, strings.NewReader(things[i+1]))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.String()
}

func member(name, data string) string {
	return fmt.Sprintf("%-16s%-12d%-6d%-6d%-8o%-10d`\n%s%s", name, 0, 0, 0, 0o100644, len(data), data, "\n"[:len(data)%2])
}

// read reads a package at any place, and again as it comes: both must agree.
func read(t testing.TB, data string) (found []string, err error) {
	t.Helper()
	found, err = entries(strings.NewReader(data), int64(len(data)))
	flow := blob.NewFlow(io.NopCloser(strings.NewReader(data)))
	flow.Settle()
	again, failed := entries(flow, blob.Endless)
	assert.Equal(t, fault.Of(err), fault.Of(failed), "%v, and %v", err, failed)
	if err == nil {
		assert.Equal(t, found, again)
	}
	return found, err
}

func entries(r io.ReaderAt, size int64) (found []string, err error) {
	s, err := deb.Open(r, size, archive.Options{})
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
	sums := fmt.Sprintf("%x  usr/share/levels.csv\n%x  usr/share/other.csv\n", md5.Sum([]byte("1,2\n")), md5.Sum([]byte("3,4\n"))) //nolint:gosec // as above
	build := func(csv, method string) string {
		return "!<arch>\n" + member("debian-binary", "2.0\n") + member("control.tar.gz", pack(t, "c.tar.gz", "./control", "Package: tides\n", "./md5sums", sums)) +
			member("data.tar"+method, pack(t, "d.tar"+method, "./usr/share/levels.csv", csv, "./usr/share/free.txt", "no sum"))
	}
	for _, method := range []string{"", ".gz", ".xz", ".zst", ".bz2"} {
		data := build("1,2\n", method)
		f, known := format.Start(strings.NewReader(data), int64(len(data)))
		require.True(t, known)
		assert.Equal(t, "deb", f.Name)
		found, err := read(t, data)
		require.NoError(t, err, method)
		assert.Equal(t, []string{"[control]/control Package: tides\n false", "[control]/md5sums " + sums + " false",
			"usr/share/levels.csv 1,2\n true", "usr/share/free.txt no sum false"}, found, method)
	}
	_, err := read(t, build("1,3\n", ".gz"))
	assert.Equal(t, fault.Damaged, fault.Of(err))
	assert.ErrorContains(t, err, "MD5")
	_, err = read(t, "!<arch>\n"+member("debian-binary", "2.0\n"))
	assert.Equal(t, fault.Damaged, fault.Of(err))
	for _, method := range []string{".xz", ""} { // a plain tar ends before its member does
		whole := build("1,2\n", method)
		for cut := 100; cut < len(whole)-1; cut += 7 {
			_, err := read(t, whole[:cut])
			require.Error(t, err, "cut at %d", cut)
			assert.Equal(t, fault.Damaged, fault.Of(err), "cut at %d: %v", cut, err)
		}
	}
}

func FuzzOpen(f *testing.F) {
	seed := "!<arch>\n" + member("debian-binary", "2.0\n") + member("control.tar", pack(f, "c.tar", "./control", "Package: tides\n")) +
		member("data.tar", pack(f, "d.tar", "./usr/share/levels.csv", "1,2\n"))
	bent.Fuzz(f, [][]byte{[]byte(seed)}, 1<<30, nil, func(t *testing.T, data []byte) {
		if _, err := read(t, string(data)); err != nil {
			assert.NotEqual(t, fault.Other, fault.Of(err), err)
		}
	})
}
