package zip

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/codec"
	"widecrate/core/fault"
	"widecrate/core/systemtest"
)

// Every method, locked and not, prepared beforehand and in one pass, comes back,
// and the headers ask for the version that it needs.
func TestWriteMethods(t *testing.T) {
	short, long := levels, strings.Repeat(levels, 60)
	for _, method := range writable {
		for _, password := range []string{"", "gezeiten"} {
			for _, level := range []codec.Level{codec.Fast, codec.Best} {
				if level == codec.Best && (method == codec.XZ || method == codec.Bzip2) {
					continue // slow
				}
				t.Run(method+password, func(t *testing.T) {
					var b bytes.Buffer
					w := NewWriter(&b, archive.WriteOptions{Method: method, Password: password, Encode: codec.At(level)})
					_, err := w.Add(archive.Entry{Path: "folder", Kind: archive.Folder}, nil)
					require.NoError(t, err)
					e, packed, err := w.Prepare(archive.Entry{Path: "short", Size: int64(len(short)), Modified: time.Unix(1_777_000_000, 0)}, []byte(short))
					require.NoError(t, err)
					require.NoError(t, w.AddPrepared(e, packed))
					for path, content := range map[string]string{"long": long, "noise": noise(archive.PrepareLimit + 5)} {
						_, err = w.Add(archive.Entry{Path: path, Size: int64(len(content))}, strings.NewReader(content))
						require.NoError(t, err)
					}
					_, err = w.Add(archive.Entry{Path: "link", Kind: archive.Symlink, Link: "short"}, nil)
					require.NoError(t, err)
					require.NoError(t, w.Close())

					z, err := Open(bytes.NewReader(b.Bytes()), int64(b.Len()), archive.Options{Passwords: []string{"falsch", password}})
					require.NoError(t, err)
					for i, e := range z.Entries() {
						d, err := z.Open(i)
						require.NoError(t, err)
						got, err := io.ReadAll(d)
						require.NoError(t, err, e.Path)
						want := map[string]string{"short": short, "long": long, "noise": noise(archive.PrepareLimit + 5), "link": "short", "folder": ""}[e.Path]
						assert.True(t, want == string(got), e.Path)
						assert.Equal(t, password != "" && e.Kind != archive.Folder, e.Encrypted, e.Path)
						if e.Path == "long" {
							assert.Equal(t, method, e.Method)
						}
						if e.Path == "noise" {
							most := 1.001
							if method == codec.Bzip2 { // which has no way to keep a block as it is
								most = 1.02
							}
							assert.LessOrEqual(t, float64(e.Packed), most*float64(e.Size), "what does not get smaller hardly grows")
						}
					}
					needed := le.Uint16(b.Bytes()[bytes.Index(b.Bytes(), []byte("short"))-localLength+4:])
					want := map[string]uint16{codec.Store: 10, codec.Deflate: 20, codec.Bzip2: 46, codec.Zstd: 63, codec.XZ: 63}[method] // 4.4.3.2
					if password != "" {
						want = max(want, 51)
						assert.NotContains(t, b.String(), levels[:60])
					}
					assert.Equal(t, want, needed)
				})
			}
		}
	}
}

// What is copied packed may get other names, in UTF-8 where they need it, and
// keeps its locks, descriptors and other fields.
func TestCopyRenamed(t *testing.T) {
	source := built{comment: "from the station", entries: []fake{
		{name: "a.csv", data: levels, method: 8, descriptor: "signed"},
		{name: "k\x81ste.csv", data: "2", localExtra: "\x75\x70\x09\x00\x01\x00\x00\x00\x00k.cs", centralExtra: "\x75\x70\x09\x00\x01\x00\x00\x00\x00k.cs"},
		{name: "folder/"}, {name: "gone", data: "3"}, {name: "wide", data: levels, method: 8, descriptor: "wide"}}}.bytes()
	z, err := Open(bytes.NewReader(source), int64(len(source)), archive.Options{})
	require.NoError(t, err)
	names := map[int]string{0: "deep/küste.csv", 1: "plain.csv", 2: "other", 4: ""}
	var b bytes.Buffer
	w := NewWriter(&b, archive.WriteOptions{})
	w.CopyComment(z)
	require.NoError(t, z.EachPacked(func(p Packed) error {
		name, kept := names[p.Index()]
		if !kept {
			return nil
		}
		return w.AddPacked(t.Context(), p, name)
	}))
	require.NoError(t, w.Close())
	entries, contents, err := read(b.Bytes())
	require.NoError(t, err)
	var paths []string
	for _, e := range entries {
		paths = append(paths, e.Path)
	}
	assert.Equal(t, []string{"deep/küste.csv", "plain.csv", "other", "wide"}, paths)
	assert.Equal(t, []string{levels, "2", "", levels}, contents)
	assert.Equal(t, archive.Folder, entries[2].Kind)
	assert.True(t, bytes.HasSuffix(b.Bytes(), []byte("from the station")))
	assert.NotZero(t, le.Uint16(b.Bytes()[6:])&flagUTF8)
	assert.NotContains(t, b.String(), "k.cs", "the field with the old name would contradict the new one")

	broken := bytes.Clone(source)
	broken[bytes.Index(broken, []byte("a.csv"))] = 'X'
	z, err = Open(bytes.NewReader(broken), int64(len(broken)), archive.Options{})
	require.NoError(t, err)
	require.ErrorIs(t, NewWriter(io.Discard, archive.WriteOptions{}).Copy(t.Context(), z), fault.Damaged)
}

// What any packer ever wrote comes back; cut off or with a bit changed, it is the same or an error.
func TestReadMethods(t *testing.T) {
	content := levels[:200] + noise(300) + levels
	flips := systemtest.Rounds(400, 400, 8000) // of each
	random := rand.New(rand.NewPCG(3, 7))
	for _, f := range []fake{{method: 1}, {method: 2}, {method: 3}, {method: 4}, {method: 5}, {method: 6}, {method: 6, flags: flagLarge},
		{method: 6, flags: flagLiterals}, {method: 6, flags: flagLarge | flagLiterals}, {method: 9}, {method: 12}, {method: 14}, {method: 93}, {method: 95}} {
		name := fmt.Sprintf("%s, flags %d", methodName(f.method), f.flags)
		f.name, f.data = "levels.csv", content
		data := built{entries: []fake{f}}.bytes()
		entries, got, err := read(data)
		require.NoError(t, err, name)
		require.Equal(t, content, got[0], name)
		assert.Equal(t, methodName(f.method), entries[0].Method)
		assert.Less(t, entries[0].Packed, entries[0].Size, name)

		short, whole := f, f.pack()
		for cut := range whole {
			short.raw = whole[:cut]
			_, _, err := read(built{entries: []fake{short}}.bytes())
			require.ErrorIs(t, err, fault.Damaged, "%s cut to %d", name, cut)
		}
		for range flips {
			changed := bytes.Clone(data)
			at := random.IntN(8 * len(data))
			changed[at/8] ^= 1 << (at % 8)
			if _, got, err := read(changed); err == nil && len(got) > 0 {
				require.Equal(t, content, got[0], "%s, bit %d", name, at)
			}
		}
	}
}
