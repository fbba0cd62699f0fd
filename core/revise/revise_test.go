package revise

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/choose"
	"widecrate/core/create"
	"widecrate/core/fault"
	"widecrate/core/format"
	"widecrate/core/place"
	"widecrate/core/report"
	"widecrate/core/source"
	"widecrate/core/walk"
)

// pack makes an archive of paths, of which each file holds its own path.
func pack(t *testing.T, path string, o archive.WriteOptions, entries ...archive.Entry) {
	t.Helper()
	f, ok := format.ByName(filepath.Base(path))
	require.True(t, ok)
	var b bytes.Buffer
	w, err := f.NewWriter(&b, o)
	require.NoError(t, err)
	for _, e := range entries {
		data := strings.Repeat(e.Path+"\n", 100)
		if e.Kind == archive.File {
			e.Size = int64(len(data))
		}
		e.Modified, e.Mode, e.HasMode = time.Unix(1_777_000_000, 0), 0o640, true
		_, err := w.Add(e, strings.NewReader(data))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	require.NoError(t, os.WriteFile(path, b.Bytes(), 0o640))
}

func file(path string) archive.Entry { return archive.Entry{Path: path} }

// contents reads an archive: the first line of each file, the target of each
// link, by path.
func contents(t *testing.T, path string, passwords ...string) map[string]string {
	t.Helper()
	found := map[string]string{}
	a, err := walk.Open(t.Context(), source.Source{Path: path}, walk.Opening{Options: archive.Options{Passwords: passwords}})
	require.NoError(t, err)
	defer a.Close()
	for e, err := range a.Walk(t.Context()) {
		require.NoError(t, err)
		text, err := e.Target()
		if e.Kind == archive.File {
			var all []byte
			all, err = io.ReadAll(e)
			text, _, _ = strings.Cut(string(all), "\n")
		}
		require.NoError(t, err)
		found[e.Path] = text
	}
	return found
}

// edit changes one archive.
func edit(t *testing.T, path string, e Edit) (r *report.Edited, err error) {
	e.Sources = []source.Source{{Path: path}}
	err = e.Run(t.Context(), func(event report.Event) {
		if edited, is := event.(*report.Edited); is {
			r = edited
		}
	})
	if err == nil {
		err = r.Err
	}
	return r, err
}

// Every kind of archive is edited to the same end, and stays as it was where
// that cannot be done.
func TestEdit(t *testing.T) {
	long := strings.Repeat("long ", 30) + "küste.csv"
	for _, name := range []string{"x.zip", "x.tar", "x.tar.gz", "x.tar.zst"} {
		for title, c := range map[string]struct {
			edit Edit
			want string // paths; '=' and the content where that is not the path
			kind fault.Kind
		}{
			"add":            {edit: Edit{Add: create.Options{Texts: []create.Text{{Path: "new/n", Text: "1"}}}}, want: "a.csv d d/b.csv d/c.csv link=a.csv new/n=1"},
			"replace":        {edit: Edit{Add: create.Options{Texts: []create.Text{{Path: "d/b.csv", Text: "2"}}}}, want: "a.csv d d/b.csv=2 d/c.csv link=a.csv"},
			"remove":         {edit: Edit{Remove: []string{"d/*.csv"}}, want: "a.csv d link=a.csv"},
			"remove folder":  {edit: Edit{Remove: []string{"d"}}, want: "a.csv link=a.csv"},
			"move":           {edit: Edit{Moves: []Move{{"a.csv", long}}}, want: "d d/b.csv d/c.csv link=" + long + " " + long + "=a.csv"},
			"move folder":    {edit: Edit{Moves: []Move{{"d/", "e/f"}}}, want: "a.csv e/f e/f/b.csv=d/b.csv e/f/c.csv=d/c.csv link=a.csv"},
			"move away, add": {edit: Edit{Moves: []Move{{"a.csv", "old.csv"}}, Add: create.Options{Texts: []create.Text{{Path: "a.csv", Text: "3"}}}}, want: "a.csv=3 d d/b.csv d/c.csv link=a.csv old.csv=a.csv"},
			"empty folder":   {edit: Edit{Remove: []string{"d/*"}, Moves: []Move{{"d", "e"}}}, want: "a.csv e link=a.csv"},
			"move onto":      {edit: Edit{Moves: []Move{{"a.csv", "d/b.csv"}}}, kind: fault.Refused},
			"file on folder": {edit: Edit{Add: create.Options{Texts: []create.Text{{Path: "d", Text: "1"}}}}, kind: fault.Refused},
			"nothing so":     {edit: Edit{Remove: []string{"*.txt"}}, want: "a.csv d d/b.csv d/c.csv link=a.csv"},
			"no such path":   {edit: Edit{Moves: []Move{{"a.cvs", "b"}}}, kind: fault.NoMatch},
			"out of it":      {edit: Edit{Moves: []Move{{"a.csv", "../b"}}}, kind: fault.Usage},
			"nothing to do":  {kind: fault.Usage},
			"missing source": {edit: Edit{Add: create.Options{Sources: []string{"missing"}}}, kind: fault.Unreadable},
		} {
			t.Run(name+" "+title, func(t *testing.T) {
				path := filepath.Join(t.TempDir(), name)
				pack(t, path, archive.WriteOptions{}, file("a.csv"), archive.Entry{Path: "d", Kind: archive.Folder}, file("d/b.csv"), file("d/c.csv"),
					archive.Entry{Path: "link", Kind: archive.Symlink, Link: "a.csv"})
				before, err := os.ReadFile(path)
				require.NoError(t, err)
				_, err = edit(t, path, c.edit)
				if c.kind != fault.Other {
					require.ErrorIs(t, err, c.kind)
					after, err := os.ReadFile(path)
					require.NoError(t, err)
					assert.Equal(t, before, after)
				} else {
					require.NoError(t, err)
					var got []string
					found := contents(t, path)
					for _, path := range slices.Sorted(maps.Keys(found)) {
						if text := found[path]; text != path && text != "" {
							path += "=" + text
						}
						got = append(got, path)
					}
					assert.Equal(t, c.want, strings.Join(got, " "))
					info, err := os.Stat(path)
					require.NoError(t, err)
					if runtime.GOOS != "windows" { // which has no such permissions
						assert.Equal(t, os.FileMode(0o640), info.Mode().Perm())
					}
				}
				left, err := os.ReadDir(filepath.Dir(path))
				require.NoError(t, err)
				assert.Len(t, left, 1)
			})
		}
	}
}

// What is edited keeps what its records say: locks, owners, comments.
func TestEditKeepsRecords(t *testing.T) {
	dir := t.TempDir()
	locked := filepath.Join(dir, "locked.zip")
	pack(t, locked, archive.WriteOptions{Password: "gezeiten"}, file("a.csv"), file("b.csv"))
	r, err := edit(t, locked, Edit{Moves: []Move{{"a.csv", "c.csv"}}, Add: create.Options{Texts: []create.Text{{Path: "n", Text: "1"}}}})
	require.NoError(t, err)
	assert.Equal(t, 2, r.Locked)
	assert.Equal(t, map[string]string{"b.csv": "b.csv", "c.csv": "a.csv", "n": "1"}, contents(t, locked, "gezeiten"))

	tarred := filepath.Join(dir, "x.tar")
	pack(t, tarred, archive.WriteOptions{}, file("a.csv"), archive.Entry{Path: "second", Kind: archive.Hardlink, Link: "a.csv"})
	data, err := os.ReadFile(tarred)
	require.NoError(t, err)
	copy(data[108:], "0001747\x00") // the owner, and the sum of the header with it
	sum := 0
	copy(data[148:], "        ")
	for _, b := range data[:512] {
		sum += int(b)
	}
	copy(data[148:], []byte{'0', byte('0' + sum>>12&7), byte('0' + sum>>9&7), byte('0' + sum>>6&7), byte('0' + sum>>3&7), byte('0' + sum&7), 0, ' '})
	require.NoError(t, os.WriteFile(tarred, data, 0o666))
	_, err = edit(t, tarred, Edit{Remove: []string{"a.csv"}})
	require.ErrorIs(t, err, fault.Refused, "a second name of it would lead nowhere")
	_, err = edit(t, tarred, Edit{Moves: []Move{{"a.csv", "b.csv"}}})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"b.csv": "a.csv", "second": "b.csv"}, contents(t, tarred))
	data, err = os.ReadFile(tarred)
	require.NoError(t, err)
	assert.Equal(t, "b.csv", strings.TrimRight(string(data[:100]), "\x00"))
	assert.Equal(t, "0001747\x00", string(data[108:116]))
}

// What a global header says counts for all entries after it, also when the first of them
// goes.
func TestGlobalHeadersStay(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "x.tar")
	pack(t, path, archive.WriteOptions{}, file("a"), file("b"))
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	header, record := make([]byte, 512), make([]byte, 512)
	copy(record, "20 mtime=1000000000\n")
	for at, text := range map[int]string{0: "global", 100: "0000644\x00", 124: "00000000024\x00", 136: "00000000000\x00", 148: "        ", 156: "g", 257: "ustar\x0000"} {
		copy(header[at:], text)
	}
	sum := 0
	for _, b := range header {
		sum += int(b)
	}
	copy(header[148:], fmt.Sprintf("%06o\x00 ", sum))
	require.NoError(t, os.WriteFile(path, slices.Concat(header, record, data), 0o666))
	_, err = edit(t, path, Edit{Remove: []string{"a"}})
	require.NoError(t, err)
	drop, _ := choose.New(choose.Rules{Drop: []string{"c"}})
	f, err := create.FormatOf("", "tar.gz")
	require.NoError(t, err)
	c := Conversion{Request: walk.Request{Sources: []source.Source{{Path: path}}, Selection: drop}, Output: create.Options{Format: f}}
	require.NoError(t, c.Run(t.Context(), func(e report.Event) { require.NoError(t, e.(*report.Converted).Err) }))
	for _, made := range []string{path, path + ".gz"} {
		a, err := walk.Open(t.Context(), source.Source{Path: made}, walk.Opening{})
		require.NoError(t, err)
		defer a.Close()
		for e, err := range a.Walk(t.Context()) {
			require.NoError(t, err)
			assert.Equal(t, "b", e.Path)
			assert.Equal(t, int64(1_000_000_000), e.Modified.Unix(), made)
			break
		}
	}
}

// Archives of all kinds become those of all others.
func TestConvert(t *testing.T) {
	selection, _ := choose.New(choose.Rules{Drop: []string{"gone"}})
	entries := []archive.Entry{file("t/a.csv"), {Path: "t/d", Kind: archive.Folder}, file("t/d/küste.csv"), file("gone"), {Path: "t/link", Kind: archive.Symlink, Link: "a.csv"}}
	for _, from := range []string{"x.zip", "x.tar", "x.tar.gz", "x.tar.xz"} {
		for _, to := range []string{"zip", "tar", "tar.gz", "tar.zst", "zip:zstd", "zip locked"} {
			t.Run(from+" to "+to, func(t *testing.T) {
				dir := t.TempDir()
				all := entries
				if strings.HasPrefix(from, "x.tar") {
					all = append(slices.Clone(entries), archive.Entry{Path: "t/second", Kind: archive.Hardlink, Link: "t/a.csv"})
				}
				pack(t, filepath.Join(dir, from), archive.WriteOptions{}, all...)
				name, method, _ := strings.Cut(strings.TrimSuffix(to, " locked"), ":")
				f, err := create.FormatOf("", name)
				require.NoError(t, err)
				o := create.Options{Format: f, Writing: archive.WriteOptions{Method: method}}
				if strings.HasSuffix(to, "locked") {
					o.Writing.Password = "gezeiten"
				}
				sources, err := source.Find(t.Context(), source.Request{Names: []string{dir}})
				require.NoError(t, err)
				c := Conversion{Request: walk.Request{Sources: sources, Selection: selection}, Placement: &place.Placement{Into: filepath.Join(dir, "new"), Peel: 1}, Under: "u/v", Output: o, Read: new(atomic.Int64)}
				var r *report.Converted
				require.NoError(t, c.Run(t.Context(), func(e report.Event) { r = e.(*report.Converted) }))
				require.NoError(t, r.Err)
				want := map[string]string{"u/v/a.csv": "t/a.csv", "u/v/d": "", "u/v/d/küste.csv": "t/d/küste.csv", "u/v/link": "a.csv"}
				if len(all) > len(entries) {
					want["u/v/second"] = "t/a.csv"
				}
				if name != "zip" && len(all) > len(entries) {
					want["u/v/second"] = "u/v/a.csv" // still a hard link
				}
				got := contents(t, r.Path, "gezeiten")
				assert.Equal(t, want, got)
				assert.Equal(t, 1, r.LeftOut[choose.Dropped])
				if from == "x.zip" && to == "zip" {
					assert.Equal(t, 4, r.Copied)
					assert.Zero(t, r.Repacked)
				}
				require.NoError(t, c.Run(t.Context(), func(e report.Event) { r = e.(*report.Converted) }))
				require.ErrorIs(t, r.Err, fault.Refused)
			})
		}
	}
}

// What an archive records and the new one cannot hold is said; between two of a kind it stays.
func TestLosses(t *testing.T) {
	tarHeader := func(kind byte, name, link string, size int, mode string) string {
		b := make([]byte, 512)
		copy(b, name)
		copy(b[100:], mode+"\x000001750\x000000144\x00"+fmt.Sprintf("%011o", size)+"\x0015147053300\x00        "+string(kind)+link)
		copy(b[257:], "ustar\x0000")
		sum := 0
		for _, c := range b {
			sum += int(c)
		}
		copy(b[148:], fmt.Sprintf("%06o\x00 ", sum))
		return string(b)
	}
	padded := func(s string) string { return s + strings.Repeat("\x00", (512-len(s)%512)%512) }
	records := "30 atime=1777000000.500000000\n25 SCHILY.xattr.user.a=b\n" + "20 comment=a remark\n" + "20 mtime=9999999999\n"
	fromTar := tarHeader('x', "pax", "", len(records), "0000644") + padded(records) + tarHeader('0', "a", "", 1, "0004755") + padded("1") +
		tarHeader('1', "b", "a", 0, "0000644") + tarHeader('6', "pipe", "", 0, "0000644") + strings.Repeat("\x00", 1024)
	fromCPIO := func() string {
		entry := func(name, data string, mode int) string {
			head := fmt.Sprintf("070701%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x", 1, mode, 1000, 100, 1, 1_777_000_000, len(data), 0, 0, 0, 0, len(name)+1, 0)
			s := head + name + "\x00"
			s += strings.Repeat("\x00", -len(s)&3) + data
			return s + strings.Repeat("\x00", -len(s)&3)
		}
		return entry("a", "1", 0o100644) + entry("TRAILER!!!", "", 0)
	}()
	extra := "\x55\x54\x0d\x00\x07" + strings.Repeat("\x00\x00\x00\x60", 3) + "\x75\x78\x0b\x00\x01\x04\xe8\x03\x00\x00\x04\x64\x00\x00\x00"
	le := binary.LittleEndian
	zipHeader := func(signature string, central bool) string {
		b := []byte(signature)
		if central {
			b = append(b, 20, 3)
		}
		b = append(b, 20, 0, 0, 0, 0, 0, 0, 0, 0x21, 0x5a)
		b = le.AppendUint32(b, crc32.ChecksumIEEE([]byte("1")))
		b = le.AppendUint32(le.AppendUint32(b, 1), 1)
		b = append(b, 1, 0, byte(len(extra)), 0)
		if central {
			b = append(b, 2, 0, 0, 0, 0, 0, 0, 0, 0o644>>16, 0, 0, 0, 0, 0)
			b = append(b, 0, 0, 0, 0)[:46]
		}
		return string(b) + "a" + extra
	}
	local := zipHeader("PK\x03\x04", false) + "1"
	central := zipHeader("PK\x01\x02", true) + "ho"
	end := []byte("PK\x05\x06\x00\x00\x00\x00\x01\x00\x01\x00")
	end = le.AppendUint32(le.AppendUint32(end, uint32(len(central))), uint32(len(local)))
	fromZIP := local + central + string(end) + "\x02\x00ho"

	for name, c := range map[string]struct {
		data string
		lost map[string]string // by the new format
	}{
		"x.tar": {fromTar, map[string]string{"tar.gz": "", "tar": "",
			"zip": "1 device or pipe is left out; 1 time lies beyond what it can hold, and became the nearest; 1 file lost the rights of its owner or group; " +
				"1 entry lost its user and group; 1 entry lost its comment; 1 entry lost its extended attributes; 1 entry lost its times of access or creation; 1 hard link became a file of its own"}},
		"x.cpio": {fromCPIO, map[string]string{"tar": "1 entry lost its user and group", "zip": "1 entry lost its user and group"}},
		"x.zip": {fromZIP, map[string]string{"zip": "", "tar.zst": "1 entry lost its user and group; the comment of the archive is lost; 1 entry lost its comment; 1 entry lost its times of access or creation",
			"zip:store@": "1 entry lost its user and group; 1 entry lost its comment; 1 entry lost its times of access or creation"}},
	} {
		for to, lost := range c.lost {
			t.Run(name+" to "+to, func(t *testing.T) {
				dir := t.TempDir()
				require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(c.data), 0o666))
				format, again := strings.CutSuffix(to, ":store@")
				f, err := create.FormatOf("", format)
				require.NoError(t, err)
				o := create.Options{Format: f}
				o.Writing.Encode.Set = again
				var r *report.Converted
				conversion := Conversion{Request: walk.Request{Sources: []source.Source{{Path: filepath.Join(dir, name)}}}, Placement: &place.Placement{Into: filepath.Join(dir, "new")}, Output: o}
				require.NoError(t, conversion.Run(t.Context(), func(e report.Event) { r = e.(*report.Converted) }))
				require.NoError(t, r.Err)
				assert.Equal(t, lost, strings.Join(r.Notes, "; "))
				if strings.Contains(lost, "pipe") {
					assert.Equal(t, 2, r.Files)
					assert.Equal(t, 1, r.LeftOut[choose.Special])
				}
			})
		}
	}
}
