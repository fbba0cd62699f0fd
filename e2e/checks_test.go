package e2e

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/demo"
	"widecrate/demo/standin"
)

func TestVerify(t *testing.T) {
	dir := tidewatch(t)
	stdout, stderr, code := run(t, dir, "verify", "readings")
	assert.Equal(t, 7, code)
	assert.Contains(t, stderr, filepath.FromSlash(demo.Damaged)+" › levels.csv: its data")
	assert.Contains(t, stderr, "its header is at offset 0")
	assert.Contains(t, stdout, "1 archive damaged: 1 damaged entry")
	stdout, _, code = run(t, dir, "verify", "survey", "locked")
	assert.Equal(t, 1, code)
	assert.Contains(t, stdout, "1 archive incomplete, reported above\n1 archive could not be checked, reported above\n")
	stdout, stderr, code = run(t, dir, "verify", "bundles", "--nested")
	assert.Equal(t, 0, code, stderr)
	assert.Contains(t, stdout, "65 archives verified: 288 files")
	bad, _, code := run(t, dir, "verify", "readings", "--as", "names")
	assert.Equal(t, 7, code)
	assert.Equal(t, filepath.FromSlash(demo.Damaged)+"\n", bad)
	for _, ext := range []string{"tar.gz", "tar.bz2", "tar.xz", "tar.zst", "tar.lz4"} {
		_, _, code := run(t, dir, "create", "x."+ext, "readings")
		require.Equal(t, 0, code)
		_, stderr, code := run(t, dir, "verify", "x."+ext)
		assert.Equal(t, 0, code, stderr)
		data, err := os.ReadFile(filepath.Join(dir, "x."+ext))
		require.NoError(t, err)
		data[len(data)/2] ^= 0x10
		put(t, filepath.Join(dir, "broken"), string(data))
		_, stderr, code = run(t, dir, "verify", "broken")
		assert.Equal(t, 7, code, "%s: %s", ext, stderr)
		_, _, code = run(t, dir, "extract", "broken", "--into", "never")
		assert.Equal(t, 7, code)
		assert.NoDirExists(t, filepath.Join(dir, "never"))
	}
}

func TestSalvage(t *testing.T) {
	dir := tidewatch(t)
	_, stderr, code := run(t, dir, "extract", demo.Damaged, "--into", "out", "--salvage", "--after", "remove")
	assert.Equal(t, 7, code)
	assert.Contains(t, stderr, "levels.csv: its data")
	out := tree(t, filepath.Join(dir, "out", "merrin-deep-2026-05-07"))
	assert.Contains(t, out, "calibration.json")
	assert.NotContains(t, out, "levels.csv")
	assert.FileExists(t, filepath.Join(dir, filepath.FromSlash(demo.Damaged)), "a source that was salvaged is kept")

	_, _, code = run(t, dir, "extract", demo.Damaged, "--into", "none", "--salvage", "--entry", "levels.csv")
	assert.Equal(t, 7, code)
	assert.NoDirExists(t, filepath.Join(dir, "none"), "no folder for nothing")

	before := tree(t, filepath.Join(dir, "readings"))
	for _, ext := range []string{"zip", "tar", "tar.gz", "tar.zst"} {
		_, _, code := run(t, dir, "create", "x."+ext, "readings", "--top", "drop")
		require.Equal(t, 0, code)
		data, err := os.ReadFile(filepath.Join(dir, "x."+ext))
		require.NoError(t, err)
		put(t, filepath.Join(dir, "cut."+ext), string(data[:len(data)*2/3]))
		_, _, code = run(t, dir, "extract", "cut."+ext, "--into", "no")
		assert.Equal(t, 7, code)
		lines, _, code := run(t, dir, "extract", "cut."+ext, "--into", "salvaged-"+ext, "--salvage", "--as", "json")
		assert.Equal(t, 7, code)
		found := tree(t, filepath.Join(dir, "salvaged-"+ext, "cut"))
		assert.Greater(t, len(found), 20, ext)
		for path, data := range found {
			require.True(t, data == before[path], "%s: %s is not what it was", ext, path)
		}
		assert.Equal(t, len(found), strings.Count(lines, `"kind":"written"`))
		assert.Contains(t, lines, `"kind":"lost"`)
		assert.Equal(t, ext == "zip", strings.Contains(lines, `"summed":true`), "only a ZIP has a checksum for each")
		lines, _, _ = run(t, dir, "verify", "x."+ext)
		assert.Equal(t, ext != "tar", strings.Contains(lines, "60 checked against a checksum"), "that of what is compressed counts: %s", lines)
	}
}

func TestCompare(t *testing.T) {
	dir := tidewatch(t)
	for _, ext := range []string{"zip", "tar", "tar.xz"} {
		run(t, dir, "create", "x."+ext, "corrections")
	}
	put(t, filepath.Join(dir, "corrections/new.txt"), "1")
	for _, c := range []struct {
		code int
		says string
		args []string
	}{
		{0, "2 the same", []string{"x.zip", "x.tar"}},
		{0, "2 the same", []string{"x.tar.xz", "x.tar", "--times"}},
		{1, "2 the same, 1 only in B", []string{"x.tar.xz", "corrections", "--peel-a", "1"}},
		{0, "2 the same", []string{"corrections", "x.zip", "--peel-b", "1", "--ext", "zip"}},
		{1, "different  levels.csv  size, 40,", []string{"corrections/osk bay [v1].zip", "corrections/osk bay [v2].zip"}},
		{6, "", []string{"x.zip", "x.tar", "--drop", "*"}},
		{8, "", []string{"x.zip", "missing"}},
		{7, "", []string{"x.zip", "tidewatch.txt"}},
		{2, "", []string{"x.zip"}},
	} {
		stdout, stderr, code := run(t, dir, append([]string{"compare"}, c.args...)...)
		assert.Equal(t, c.code, code, "%v %s", c.args, stderr)
		assert.Contains(t, stdout, c.says)
	}
	lines, _, _ := run(t, dir, "compare", "x.zip", "corrections", "--peel-a", "1", "--as", "json")
	assert.Equal(t, `{"kind":"difference","path":"new.txt","status":"only in B","size_b":1}`+"\n"+
		`{"kind":"comparison","a":"x.zip","b":"corrections","same":2,"different":0,"unread":2,"only_a":0,"only_b":1}`+"\n", lines)
	pack(t, filepath.Join(dir, "a.zip"), "x", "1", "y", "2")
	pack(t, filepath.Join(dir, "b.zip"), "x", "1", "y", "3")
	names, _, code := run(t, dir, "compare", "a.zip", "b.zip", "--as", "names")
	assert.Equal(t, "y\n", names)
	assert.Equal(t, 1, code)
}

// lockedArchive is a ZIP of one stored entry, locked the traditional way, field
// by field (application note, 4.3 and 6.1).
func lockedArchive(password, name, data string) string {
	k0, k1, k2 := uint32(0x12345678), uint32(0x23456789), uint32(0x34567890)
	update := func(c byte) {
		k0 = crc32.IEEETable[byte(k0)^c] ^ k0>>8
		k1 = (k1+k0&0xff)*134775813 + 1
		k2 = crc32.IEEETable[byte(k2)^byte(k1>>24)] ^ k2>>8
	}
	for i := range len(password) {
		update(password[i])
	}
	sum := crc32.ChecksumIEEE([]byte(data))
	locked := append(append(make([]byte, 11), byte(sum>>24)), data...)
	for i, c := range locked {
		v := k2 | 2
		locked[i] = c ^ byte(v*(v^1)>>8)
		update(c)
	}
	le := binary.LittleEndian
	fields := func(values ...uint32) (b []byte) { // pairs of width and value
		for i := 0; i < len(values); i += 2 {
			if values[i] == 2 {
				b = le.AppendUint16(b, uint16(values[i+1]))
			} else {
				b = le.AppendUint32(b, values[i+1])
			}
		}
		return b
	}
	common := fields(2, 20, 2, 1, 2, 0, 2, 0, 2, 0, 4, sum, 4, uint32(len(locked)), 4, uint32(len(data)), 2, uint32(len(name)), 2, 0)
	out := append(append(append(fields(4, 0x04034b50), common...), name...), locked...)
	start := len(out)
	central := append(append(append(fields(4, 0x02014b50, 2, 20), common...), fields(2, 0, 2, 0, 2, 0, 4, 0, 4, 0)...), name...)
	end := fields(4, 0x06054b50, 2, 0, 2, 0, 2, 1, 2, 1, 4, uint32(len(central)), 4, uint32(start), 2, 0)
	return string(append(append(out, central...), end...))
}

func TestPasswords(t *testing.T) {
	dir := t.TempDir()
	put(t, filepath.Join(dir, "locked.zip"), lockedArchive("gezeiten", "levels.csv", "1,2,3"))
	put(t, filepath.Join(dir, "candidates.txt"), "ebbe\r\nflut\r\ngezeiten\r\n")
	put(t, filepath.Join(dir, "wrong.txt"), "ebbe\nflut\n")
	t.Setenv("GAUGE_PASSWORD", "gezeiten")
	for _, c := range []struct {
		code int
		says string
		args []string
	}{
		{5, "there is no password", nil},
		{5, "none of the 2 passwords", []string{"--password-file", "wrong.txt"}},
		{0, "", []string{"--password-file", "candidates.txt"}},
		{0, "", []string{"--password-env", "GAUGE_PASSWORD"}},
		{2, "no variable NOWHERE", []string{"--password-env", "NOWHERE"}},
		{8, "nowhere.txt", []string{"--password-file", "nowhere.txt"}},
		{2, "needs a terminal", []string{"--ask-password"}},
	} {
		for _, command := range [][]string{{"extract", "locked.zip", "--into", "out", "--as", "json"}, {"verify", "locked.zip", "--as", "json"}} {
			stdout, stderr, code := run(t, dir, append(command, c.args...)...)
			assert.Equal(t, c.code, code, "%v: %s", c.args, stderr)
			assert.Contains(t, stderr, c.says)
			assert.NotContains(t, stdout+stderr, "gezeiten")
			assert.NotContains(t, stdout+stderr, "flut")
			assert.Equal(t, code == 0 && command[0] == "extract", tree(t, filepath.Join(dir, "out"))["locked/levels.csv"] == "1,2,3")
			for line := range strings.Lines(stdout) {
				assert.True(t, json.Valid([]byte(line)))
			}
			if command[0] == "extract" {
				require.NoError(t, os.RemoveAll(filepath.Join(dir, "out")))
			}
		}
	}
}

// An entry of a method that is not read is named by its number, and the others
// go on; a name that says another format is mentioned.
func TestUnknownMethodAndWrongName(t *testing.T) {
	dir := t.TempDir()
	pack(t, filepath.Join(dir, "x.zip"), "a", "1", "b", "2")
	data, err := os.ReadFile(filepath.Join(dir, "x.zip"))
	require.NoError(t, err)
	for at, signature := range map[int]string{8: "PK\x03\x04", 10: "PK\x01\x02"} { // the method of the first entry
		data[strings.Index(string(data), signature)+at] = 98
	}
	put(t, filepath.Join(dir, "x.tar"), string(data))
	stdout, stderr, code := run(t, dir, "extract", "x.tar", "-v")
	assert.Equal(t, 7, code)
	assert.Contains(t, stderr, "a: its compression method 98 (PPMd) is not a method that widecrate reads")
	assert.Contains(t, stdout, "(zip, whatever its name says)")
	assert.Equal(t, map[string]string{"b": "2"}, tree(t, filepath.Join(dir, "x")))
	listing, _, code := run(t, dir, "inspect", "x.tar", "-v")
	assert.Equal(t, 0, code)
	assert.Contains(t, listing, "PPMd")
}

// A list that is named checks archives of every kind before anything comes of them.
func TestCheckSums(t *testing.T) {
	dir := t.TempDir()
	packEntries(t, filepath.Join(dir, "in/a.zip"), "x=1")
	packEntries(t, filepath.Join(dir, "in/b.tar.gz"), "y=2")
	data, err := os.ReadFile(filepath.Join(dir, "in/a.zip"))
	require.NoError(t, err)
	put(t, filepath.Join(dir, "set/c.zip.001"), string(data[:70]))
	put(t, filepath.Join(dir, "set/c.zip.002"), string(data[70:]))
	sum := fmt.Sprintf("%x", sha256.Sum256(data))
	wrong := strings.Repeat("0", 64)
	put(t, filepath.Join(dir, "good"), sum+"  in/a.zip\n")
	put(t, filepath.Join(dir, "named"), sum+" *a.zip\n"+sum+"  c.zip\n")
	put(t, filepath.Join(dir, "bad"), wrong+"  a.zip\n"+wrong+"  c.zip\n")
	put(t, filepath.Join(dir, "others"), sum+"  z.zip\n")
	put(t, filepath.Join(dir, "twice"), wrong+"  a.zip\n"+sum+"  a.zip\n"+sum+"  a.zip\n")
	address := serve(t, &standin.Server{Folder: dir})
	for _, args := range []string{"extract in --into o%d", "extract " + address + "in/a.zip --into o%d", "extract set --into o%d", "verify in", "convert in --to tar --into o%d", "compare in/a.zip set/c.zip.001", "parts scan set", "parts join set/c.zip.001 --into o%d",
		"parts join " + address + "set/c.zip.001 --into o%d"} {
		for i, c := range []struct {
			list string
			code int
		}{{"named", 0}, {"bad", 7}, {"others", 6}, {"in/a.zip", 2}, {"none", 8}, {"beside", 0}, {"twice", 7}, {"good", 0}} {
			if i > 5 && (strings.Contains(args, "set") || strings.Contains(args, address)) {
				continue
			}
			line := args
			if strings.Contains(args, "%d") {
				line = fmt.Sprintf(args, i)
			}
			_, errs, code := run(t, dir, append(strings.Fields(line), "--check-sums", c.list)...)
			assert.Equal(t, c.code, code, "%s --check-sums %s: %s", line, c.list, errs)
			require.NoError(t, os.RemoveAll(filepath.Join(dir, fmt.Sprintf("o%d", i))))
		}
	}
}
