package tar

import (
	"bytes"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
)

// Entries are copied with the headers that they have, under their own paths or
// others; what the headers say besides stays.
func TestRename(t *testing.T) {
	long := strings.Repeat("long ", 40) + "küste.csv"
	when := time.Unix(1_777_000_000, 250_000_000) // takes an extended header
	var b bytes.Buffer
	w := NewWriter(&b)
	for _, e := range []archive.Entry{{Path: "a.csv", Size: 3, Modified: when}, {Path: long, Size: 3, Modified: time.Unix(1_777_000_000, 0)}, {Path: "d", Kind: archive.Folder},
		{Path: "second", Kind: archive.Hardlink, Link: long}, {Path: "l", Kind: archive.Symlink, Link: long}} {
		_, err := w.Add(e, strings.NewReader("abc"))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	source := b.Bytes()
	copy(source[2*blockSize+fieldUID.at:], "0001747\x00") // the owner of the first, behind its extended header
	old := bytes.NewBuffer(oldLongName(t, long))
	old.Write(source)

	for name, to := range map[string]func(path string) string{
		"as it was": func(path string) string { return path },
		"longer":    func(path string) string { return long + "/" + path },
		"shorter":   func(path string) string { return "x/" + path[:1] + path[len(path)-1:] },
		"umlaut":    func(path string) string { return "ä/" + path },
		"prefix":    func(path string) string { return strings.Repeat("p", 90) + "/" + path },
	} {
		t.Run(name, func(t *testing.T) {
			var out bytes.Buffer
			s, w := NewStream(bytes.NewReader(fixSums(old.Bytes())), archive.Options{}), NewWriter(&out)
			var want []archive.Entry
			for {
				e, err := s.Next()
				if err == io.EOF {
					break
				}
				require.NoError(t, err)
				raw := bytes.Clone(s.Raw())
				require.NotNil(t, raw)
				path, link := to(e.Path), e.Link
				if e.Kind == archive.Hardlink {
					link = to(e.Link)
				}
				if path != e.Path {
					raw, err = Rename(raw, e, path, link)
					require.NoError(t, err)
				}
				require.NoError(t, w.AddRaw(raw, e.Size, s))
				e.Path, e.Link = path, link
				want = append(want, e)
			}
			require.NoError(t, w.Close())
			got := NewStream(bytes.NewReader(out.Bytes()), archive.Options{})
			for _, w := range want {
				e, err := got.Next()
				require.NoError(t, err)
				data, err := io.ReadAll(got)
				require.NoError(t, err)
				assert.Equal(t, e.Size, int64(len(data)))
				assert.True(t, w.Modified.Equal(e.Modified), w.Path)
				e.Offset, e.Modified, w.Offset, w.Modified = 0, time.Time{}, 0, time.Time{}
				assert.Equal(t, w, e)
				if strings.HasSuffix(w.Path, "a.csv") && name == "umlaut" {
					assert.Contains(t, string(got.Raw()), "0001747\x00")
				}
			}
			_, err := got.Next()
			assert.Equal(t, io.EOF, err)
		})
	}
}

// oldLongName is an entry whose path stands in a header of the old kind.
func oldLongName(t *testing.T, path string) []byte {
	t.Helper()
	var b bytes.Buffer
	header := block(ustar(typeLongName, "longlink", "", "", 0o644, int64(len(path))+1, 0))
	copy(header.bytes(fieldMagic), magicOld)
	b.Write(header[:])
	b.WriteString(path + "\x00")
	b.Write(zeroBlock[:padding(int64(len(path))+1)])
	header = block(ustar(typeFile, path[:90], "", "", 0o644, 3, 1_777_000_000))
	copy(header.bytes(fieldMagic), magicOld)
	b.Write(header[:])
	b.WriteString("old")
	b.Write(zeroBlock[:padding(3)])
	return b.Bytes()
}

// fixSums makes the sums of all blocks that have a magic right.
func fixSums(archive []byte) []byte {
	for at := 0; at+blockSize <= len(archive); at += blockSize {
		b := block(archive[at : at+blockSize])
		if magic := string(b.bytes(fieldMagic)); magic == magicOld || magic == magicPOSIX {
			sum, _ := checksums(b[:])
			copy(archive[at+fieldChecksum.at:], []byte{'0', byte('0' + sum>>12&7), byte('0' + sum>>9&7), byte('0' + sum>>6&7), byte('0' + sum>>3&7), byte('0' + sum&7), 0, ' '})
		}
	}
	return archive
}
