package zip

import (
	"bytes"
	"hash/crc32"
	"io"
	"io/fs"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	japaneseEncoding "golang.org/x/text/encoding/japanese"

	"widecrate/core/archive"
	"widecrate/core/bent"
	"widecrate/core/fault"
)

// read opens an archive and reads all that is in it.
func read(data []byte) (entries []archive.Entry, content []string, err error) {
	r, err := Open(bytes.NewReader(data), int64(len(data)), archive.Options{})
	if err != nil {
		return nil, nil, err
	}
	for i := range r.Entries() {
		d, err := r.Open(i)
		if err != nil {
			return r.Entries(), content, err
		}
		b, err := io.ReadAll(d)
		d.Close()
		if err != nil {
			return r.Entries(), content, err
		}
		content = append(content, string(b))
	}
	return r.Entries(), content, nil
}

var levels = strings.Repeat("2026-05-01T00:00Z,2601\n", 500)

// Every shape that the specification allows must be read.
func TestReadShapes(t *testing.T) {
	plain := fake{name: "levels.csv", data: levels}
	packed := fake{name: "levels.csv", data: levels, method: 8}
	with := func(f fake, change func(*fake)) []fake {
		change(&f)
		return []fake{f}
	}
	wide := string(numbers(uint64(len(levels)), uint64(len(levels))))
	for name, b := range map[string]built{
		"stored":              {entries: []fake{plain}},
		"deflated":            {entries: []fake{packed}},
		"comment":             {entries: []fake{packed}, comment: "May"},
		"longest comment":     {entries: []fake{packed}, comment: strings.Repeat("x", max16)},
		"end in comment":      {entries: []fake{packed}, comment: string(numbers(uint32(endSignature))) + strings.Repeat("\x00", 30)},
		"trailing bytes":      {entries: []fake{packed}, trailing: strings.Repeat("x", 200_000)},
		"bytes in front":      {entries: []fake{packed}, front: "#!/bin/sh\nexit\n"},
		"front and ZIP64":     {entries: []fake{packed}, front: "MZ....", zip64: true},
		"ZIP64 and a sector":  {entries: []fake{packed}, front: "MZ....", zip64: true, sector: "more to come"},
		"no descriptor":       {entries: with(packed, func(f *fake) { f.descriptor = "none" })},
		"gap behind":          {entries: []fake{packed}, gap: "PK\x05\x05signed"},
		"ZIP64 records":       {entries: []fake{packed}, zip64: true},
		"signed descriptor":   {entries: with(packed, func(f *fake) { f.descriptor = "signed" })},
		"bare descriptor":     {entries: with(packed, func(f *fake) { f.descriptor = "unsigned" })},
		"8-byte descriptor":   {entries: with(packed, func(f *fake) { f.descriptor = "wide" })},
		"deflate64":           {entries: with(packed, func(f *fake) { f.method = 9 })},
		"bzip2":               {entries: with(packed, func(f *fake) { f.method = 12 })},
		"LZMA without an end": {entries: with(packed, func(f *fake) { f.method = 14 })},
		"LZMA":                {entries: with(packed, func(f *fake) { f.method, f.flags = 14, 2 })},
		"zstd":                {entries: with(packed, func(f *fake) { f.method = 93 })},
		"xz":                  {entries: with(packed, func(f *fake) { f.method = 95 })},
		"unknown extra field": {entries: with(packed, func(f *fake) { f.localExtra, f.centralExtra = field(0xcafe, nil), field(0xcafe, []byte("x")) })},
		"ZIP64 sizes": {entries: with(plain, func(f *fake) {
			f.localExtra, f.centralExtra = field(extraZIP64, []byte(wide)), field(extraZIP64, []byte(wide))
			f.local, f.central = set(18, bytes.Repeat([]byte{0xff}, 8)...), set(20, bytes.Repeat([]byte{0xff}, 8)...)
		})},
	} {
		t.Run(name, func(t *testing.T) {
			data := b.bytes()
			entries, content, err := read(data)
			require.NoError(t, err)
			require.Len(t, entries, 1)
			assert.Equal(t, "levels.csv", entries[0].Path)
			assert.EqualValues(t, len(levels), entries[0].Size)
			assert.Equal(t, crc32.ChecksumIEEE([]byte(levels)), entries[0].CRC32)
			assert.Equal(t, []string{levels}, content)
			in := bytes.NewReader(data)
			assert.True(t, identify(in, in.Size()) || identifyBehind(in, in.Size()))
		})
	}
}

// What stands in front of an archive and behind it is said, and where that is another archive,
// that not all is read.
func TestAround(t *testing.T) {
	one, two := built{entries: []fake{{name: "a", data: "1"}}, comment: "May"}.bytes(), built{entries: []fake{{name: "b", data: levels, method: 8}}, zip64: true}.bytes()
	program := "MZ" + strings.Repeat("\x00", 300_000)
	adjusted := built{entries: []fake{{name: "b", data: "1", central: func(h []byte) { le.PutUint32(h[42:], uint32(len(program))) }}}, front: program,
		end: func(r []byte) { le.PutUint32(r[16:], le.Uint32(r[16:])+uint32(len(program))) }}.bytes()
	join := func(parts ...[]byte) []byte { return bytes.Join(parts, nil) }
	for name, c := range map[string]struct {
		data    []byte
		want    string
		partial bool
	}{
		"nothing":                {two, "", false},
		"a program":              {join([]byte(program), two), "self-extracting", false},
		"a program, adjusted":    {adjusted, "self-extracting", false},
		"a script":               {join([]byte("#!/bin/sh\nexit\n"), two), "a program", false},
		"something":              {join([]byte("1234"), two), "4 bytes stand in front", false},
		"another archive":        {join(one, two), "several ZIP archives", true},
		"two others":             {join(two, one, two), "several ZIP archives", true},
		"the start of another":   {join(two, one[:35]), "another one starts", true},
		"something behind":       {join(two, []byte("1234")), "4 bytes stand behind", true},
		"zeros behind":           {join(two, make([]byte, 512)), "", false},
		"the signature of parts": {join(numbers(uint32(unsplitSignature)), built{entries: []fake{{name: "b", data: "1", central: func(h []byte) { h[42] = 4 }}}, end: func(r []byte) { r[16] += 4 }}.bytes()), "", false},
	} {
		z, err := Open(bytes.NewReader(c.data), int64(len(c.data)), archive.Options{})
		require.NoError(t, err, name)
		assert.Equal(t, "b", z.Entries()[len(z.Entries())-1].Path, name)
		remarks := z.Remarks()
		if c.want == "" {
			assert.Empty(t, remarks, name)
			continue
		}
		require.NotEmpty(t, remarks, name)
		assert.Contains(t, remarks[0].Text, c.want, name)
		assert.Equal(t, c.partial, remarks[0].Partial, name)
		d, err := z.Open(len(z.Entries()) - 1)
		require.NoError(t, err, name)
		_, err = io.Copy(io.Discard, d)
		require.NoError(t, err, name)
	}
}

// The directory of an archive with 65,536 entries and no ZIP64 record counts 0.
func TestReadCountThatOverflowed(t *testing.T) {
	b := built{entries: make([]fake, max16+1)}
	for i := range b.entries {
		b.entries[i].name = "x"
	}
	entries, _, err := read(b.bytes())
	require.NoError(t, err)
	assert.Len(t, entries, max16+1)
}

func TestReadMetadata(t *testing.T) {
	when := time.Date(2026, 5, 1, 12, 30, 15, 0, time.UTC)
	unicodePath := append(append([]byte{1}, numbers(crc32.ChecksumIEEE([]byte("k\x81ste.csv")))...), "küste.csv"...)
	marked := append(append([]byte{1}, numbers(crc32.ChecksumIEEE([]byte("???.csv")))...), "潮汐表.csv"...)
	unix := func(mode uint32) uint32 { return mode << 16 }
	ntfs := append(numbers(uint32(0), uint16(1), uint16(24)), numbers(uint64(when.Unix()+11644473600)*1e7+1234567, uint64(0), uint64(0))...)
	for name, c := range map[string]struct {
		f    fake
		want archive.Entry // path, kind, mode, HasMode and time
	}{
		"UTF-8 flag":        {fake{name: "küste.csv", flags: flagUTF8}, archive.Entry{Path: "küste.csv"}},
		"old code page":     {fake{name: "k\x81ste.csv"}, archive.Entry{Path: "küste.csv"}},
		"Unicode path":      {fake{name: "k\x81ste.csv", centralExtra: field(extraUnicodePath, unicodePath)}, archive.Entry{Path: "küste.csv"}},
		"path of marks":     {fake{name: "???.csv", centralExtra: field(extraUnicodePath, marked)}, archive.Entry{Path: "潮汐表.csv"}},
		"stale path field":  {fake{name: "k\x82ste.csv", centralExtra: field(extraUnicodePath, unicodePath)}, archive.Entry{Path: "késte.csv"}},
		"flag without it":   {fake{name: "k\x81ste", flags: flagUTF8}, archive.Entry{Path: "küste"}},
		"folder":            {fake{name: "charts/"}, archive.Entry{Path: "charts", Kind: archive.Folder}},
		"folder from DOS":   {fake{name: "charts", attributes: dosFolder}, archive.Entry{Path: "charts", Kind: archive.Folder}},
		"read-only":         {fake{name: "a", attributes: dosReadOnly}, archive.Entry{Path: "a", Mode: 0o444, HasMode: true}},
		"mode":              {fake{name: "a", madeBy: 3 << 8, attributes: unix(0o104755)}, archive.Entry{Path: "a", Mode: 0o755, HasMode: true}},
		"symbolic link":     {fake{name: "a", madeBy: 3 << 8, attributes: unix(0o120777), data: "b"}, archive.Entry{Path: "a", Kind: archive.Symlink, Mode: 0o777, HasMode: true}},
		"device":            {fake{name: "a", madeBy: 3 << 8, attributes: unix(0o020666)}, archive.Entry{Path: "a", Kind: archive.Device, Mode: 0o666, HasMode: true}},
		"pipe":              {fake{name: "a", madeBy: 3 << 8, attributes: unix(0o010666)}, archive.Entry{Path: "a", Kind: archive.Pipe, Mode: 0o666, HasMode: true}},
		"socket":            {fake{name: "a", madeBy: 3 << 8, attributes: unix(0o140666)}, archive.Entry{Path: "a", Mode: 0o666, HasMode: true}},
		"no mode from Unix": {fake{name: "a", madeBy: 3 << 8}, archive.Entry{Path: "a"}},
		"date and time": {fake{name: "a", date: 46<<9 | 5<<5 | 1, clock: 12<<11 | 30<<5 | 7},
			archive.Entry{Path: "a", Modified: time.Date(2026, 5, 1, 12, 30, 14, 0, time.Local)}},
		"extended time": {fake{name: "a", date: 1<<5 | 1, centralExtra: field(extraTimestamp, append([]byte{1}, numbers(uint32(when.Unix()))...))},
			archive.Entry{Path: "a", Modified: when}},
		"NTFS time": {fake{name: "a", date: 1<<5 | 1, centralExtra: field(extraNTFS, ntfs)},
			archive.Entry{Path: "a", Modified: when.Add(123456700)}},
	} {
		t.Run(name, func(t *testing.T) {
			entries, _, err := read(built{entries: []fake{c.f}}.bytes())
			require.NoError(t, err)
			got := entries[0]
			assert.Equal(t, c.want.Path, got.Path)
			assert.Equal(t, c.want.Kind, got.Kind)
			assert.Equal(t, c.want.Mode, got.Mode)
			assert.Equal(t, c.want.HasMode, got.HasMode)
			assert.True(t, c.want.Modified.Equal(got.Modified), "%s", got.Modified)
		})
	}
}

// Whatever contradicts itself must be refused, and say where.
func TestReadContradictions(t *testing.T) {
	f := fake{name: "levels.csv", data: levels, method: 8}
	one := func(change func(*fake)) built {
		changed := f
		change(&changed)
		return built{entries: []fake{changed}}
	}
	local := func(at int, v ...byte) built { return one(func(f *fake) { f.local = set(at, v...) }) }
	central := func(at int, v ...byte) built { return one(func(f *fake) { f.central = set(at, v...) }) }
	two := []fake{{name: "a", data: "one"}, {name: "b", data: "two"}}
	again := fake{name: "a", data: "one", central: set(42, 0, 0, 0, 0)} // offset of the first
	for name, c := range map[string]struct {
		b    built
		kind fault.Kind
		says string
	}{
		"no local header":            {local(0, 'X'), fault.Damaged, "local header at offset 0: there is none"},
		"other name":                 {local(30, 'X'), fault.Damaged, `its name "Xevels.csv" is not that of the directory`},
		"other method":               {local(8, 0), fault.Damaged, "its method is not that of the directory"},
		"other checksum":             {local(14, 0, 0), fault.Damaged, "its sizes or checksum are not those of the directory"},
		"long local name":            {local(26, 0xff, 0xff), fault.Damaged, "it reaches into what follows"},
		"unknown method":             {one(func(f *fake) { f.method = 77 }), fault.Damaged, "its compression method 77 (method 77) is not a method"},
		"pipe with data":             {one(func(f *fake) { f.madeBy, f.attributes = 3<<8, 0o010666<<16 }), fault.Damaged, "its kind is pipe, and it has data"},
		"folder with data":           {one(func(f *fake) { f.madeBy, f.attributes = 3<<8, 0o040755<<16 }), fault.Damaged, "its kind is folder, and it has data"},
		"folder's name with data":    {one(func(f *fake) { f.name += "/" }), fault.Damaged, "its kind is folder, and it has data"},
		"encrypted":                  {one(func(f *fake) { f.flags = flagEncrypted }), fault.Password, "locked"},
		"checksum of the data":       {one(func(f *fake) { f.local = set(14, 1, 2, 3, 4); f.central = set(16, 1, 2, 3, 4) }), fault.Damaged, "where the directory says 04030201"},
		"data too long":              {one(func(f *fake) { f.local = set(22, 9, 0); f.central = set(24, 9, 0) }), fault.Damaged, "longer than the 9 bytes"},
		"data too short":             {one(func(f *fake) { f.local = set(22, 0, 0xff); f.central = set(24, 0, 0xff) }), fault.Damaged, "its data ends after 11500 bytes where the directory says 65280"},
		"broken data":                {one(func(f *fake) { f.packed = func(b []byte) []byte { b[0] = 7; return b } }), fault.Damaged, "its data breaks after 0 bytes"},
		"bytes behind the data":      {one(func(f *fake) { f.packed = func(b []byte) []byte { return append(b, "more"...) } }), fault.Damaged, "its data ends before the"},
		"descriptor":                 {one(func(f *fake) { f.descriptor = "signed"; f.central = set(16, 1) }), fault.Damaged, "CRC-32"},
		"sizes in the descriptor":    {one(func(f *fake) { f.flags = flagDescriptor; f.local = set(14, 0) }), fault.Damaged, "contradicts the directory"},
		"stored with another size":   {built{entries: []fake{{name: "a", data: "abc", central: set(24, 9)}}}, fault.Damaged, "packed size 3 differs from its size 9"},
		"two entries, one place":     {built{entries: []fake{two[0], again}}, fault.Unsafe, "overlaps"},
		"packed size into the next":  {built{entries: []fake{{name: "a", data: "one", central: set(20, 40, 0, 0, 0, 40)}, two[1]}}, fault.Unsafe, `entry "a" at offset 0 overlaps entry "b"`},
		"offset behind the file":     {central(42, 0xff, 0xff, 0xff), fault.Damaged, "reaches into the directory"},
		"ZIP64 field missing":        {central(42, 0xff, 0xff, 0xff, 0xff), fault.Damaged, "its ZIP64 field is missing or too short"},
		"entry on another disk":      {central(34, 2), fault.Damaged, "another part of a split archive"},
		"directory on another disk":  {built{entries: two, end: set(4, 1, 0, 1)}, fault.Incomplete, "it is the last of 2 parts"},
		"too few entries":            {built{entries: two, end: set(8, 1, 0, 1)}, fault.Damaged, "promises 1 entries, its directory holds 2"},
		"more entries than room":     {built{entries: two, end: set(8, 9, 9, 9, 9)}, fault.Damaged, "larger directory than there is room for"},
		"directory elsewhere":        {built{entries: two, end: set(16, 7)}, fault.Damaged, "belongs to an archive inside it"},
		"comment longer than it is":  {built{entries: two, end: set(20, 9)}, fault.Damaged, "its comment reaches past the end"},
		"end of an archive inside":   {built{entries: []fake{{name: "inner.zip", data: string(built{entries: two}.bytes())}}, end: set(0, 'X')}, fault.Damaged, "belongs to an archive inside it"},
		"nothing but a local header": {built{entries: two, end: set(0, 'X')}, fault.Damaged, "it has no end record"},
	} {
		t.Run(name, func(t *testing.T) {
			_, _, err := read(c.b.bytes())
			require.Error(t, err)
			assert.ErrorIs(t, err, c.kind, err.Error())
			assert.Contains(t, err.Error(), c.says)
		})
	}
}

// An archive cut off anywhere is never taken for a whole one.
func TestReadTruncated(t *testing.T) {
	data := built{entries: []fake{{name: "a.csv", data: levels, method: 8}, {name: "b.csv", data: "2", descriptor: "signed"}}, zip64: true}.bytes()
	for n := range data {
		_, _, err := read(data[:n])
		require.ErrorIs(t, err, fault.Damaged, "cut off after %d of %d bytes", n, len(data))
	}
}

// failing is a file that cannot be read beyond some offset.
type failing struct {
	*bytes.Reader
	from int64
}

func (f failing) ReadAt(p []byte, at int64) (int, error) {
	if at < f.from && at+int64(len(p)) > f.from {
		return 0, fs.ErrPermission
	}
	return f.Reader.ReadAt(p, at)
}

// A disk that fails is not taken for a damaged archive.
func TestReadFailingDisk(t *testing.T) {
	data := built{entries: []fake{{name: "a", data: strings.Repeat("0123456789", 50_000)}}}.bytes()
	_, _, err := read(data)
	require.NoError(t, err)
	r, err := Open(failing{bytes.NewReader(data), 300_000}, int64(len(data)), archive.Options{})
	require.NoError(t, err)
	d, err := r.Open(0)
	require.NoError(t, err)
	defer d.Close()
	_, err = io.ReadAll(d)
	assert.ErrorIs(t, err, fault.Unreadable)
	assert.ErrorIs(t, err, fs.ErrPermission)
}

// FuzzRead checks that with any bytes reading ends, without a panic, and that
// what is accepted is as large as was said.
func FuzzRead(f *testing.F) {
	bent.Fuzz(f, [][]byte{
		built{entries: []fake{{name: "a", data: levels, method: 8}, {name: "b/", descriptor: "wide"}}, zip64: true}.bytes(),
		built{entries: []fake{{name: "a", data: "1", flags: flagUTF8}}, front: "x", comment: "y"}.bytes(),
		built{entries: []fake{{name: "a", data: levels, method: 8, descriptor: "signed"}, {name: "b", data: "1"}}}.bytes()[:300],
	}, 1<<30, nil, func(t *testing.T, data []byte) {
		if r, err := Open(bytes.NewReader(data), int64(len(data)), archive.Options{Salvage: true}); err == nil {
			for i := range r.Entries() {
				if d, err := r.Open(i); err == nil {
					_, _ = io.Copy(bent.Decoded, io.LimitReader(d, 1<<20))
					d.Close()
				}
			}
		}
		entries, content, err := read(data)
		if err != nil {
			require.NotEqual(t, fault.Other, fault.Of(err), err)
			return
		}
		for i, c := range content {
			require.EqualValues(t, entries[i].Size, len(c))
			require.Equal(t, entries[i].CRC32, crc32.ChecksumIEEE([]byte(c)))
		}
	})
}

// Without its directory, an archive gives what its local headers describe.
func TestSalvage(t *testing.T) {
	f := fake{name: "levels.csv", data: levels, method: 8}
	with := func(change func(*fake)) fake {
		changed := f
		change(&changed)
		return changed
	}
	entries := []fake{f, {name: "charts/"}, with(func(f *fake) { f.name, f.descriptor = "signed.csv", "signed" }), with(func(f *fake) { f.name, f.descriptor = "bare.csv", "unsigned" }),
		with(func(f *fake) { f.name, f.descriptor = "wide.csv", "wide" }), {name: "stored.csv", data: levels}, with(func(f *fake) { f.name = "last.csv" })}
	whole := built{entries: entries}
	data := whole.bytes()
	directory := bytes.Index(data, numbers(uint32(centralSignature)))
	for name, c := range map[string]struct {
		data []byte
		want []string // "!" in front of one whose data is broken
	}{
		"nothing wrong":        {data, []string{"levels.csv", "charts", "signed.csv", "bare.csv", "wide.csv", "stored.csv", "last.csv"}},
		"no directory":         {data[:directory], []string{"levels.csv", "charts", "signed.csv", "bare.csv", "wide.csv", "stored.csv", "last.csv"}},
		"no end":               {data[:len(data)-10], []string{"levels.csv", "charts", "signed.csv", "bare.csv", "wide.csv", "stored.csv", "last.csv"}},
		"cut in the last data": {data[:directory-5], []string{"levels.csv", "charts", "signed.csv", "bare.csv", "wide.csv", "stored.csv"}},
		"cut in a header":      {data[:directory-len(entries[6].localPart())+20], []string{"levels.csv", "charts", "signed.csv", "bare.csv", "wide.csv", "stored.csv"}},
		"broken in the middle": {append(append(bytes.Clone(data[:40]), 0xff, 0xff, 0xff, 0xff), data[44:directory]...), []string{"!levels.csv", "charts", "signed.csv", "bare.csv", "wide.csv", "stored.csv", "last.csv"}},
		"bytes between":        {append(append(bytes.Clone(entries[0].localPart()), "PK\x03\x04 is no header"...), entries[5].localPart()...), []string{"levels.csv", "stored.csv"}},
	} {
		t.Run(name, func(t *testing.T) {
			r, err := Open(bytes.NewReader(c.data), int64(len(c.data)), archive.Options{Salvage: true})
			require.NoError(t, err)
			assert.Equal(t, name != "nothing wrong", r.Broken() != nil)
			var got []string
			for i, e := range r.Entries() {
				d, err := r.Open(i)
				require.NoError(t, err)
				content, err := io.ReadAll(d)
				d.Close()
				if err != nil {
					e.Path = "!" + e.Path
				} else if e.Kind == archive.File {
					assert.Equal(t, levels, string(content))
				}
				got = append(got, e.Path)
			}
			assert.Equal(t, c.want, got)
		})
	}
	_, err := Open(bytes.NewReader([]byte("PK\x03\x04")), 4, archive.Options{Salvage: true})
	assert.ErrorIs(t, err, fault.Damaged)
}

// Names that do not say their encoding: what is detected, what is given, and what
// is said about it.
func TestNames(t *testing.T) {
	cyrillic, japanese := "\xf3\xf0\xee\xe2\xed\xe8.csv", "\x92\xaa\x88\xca.csv" // windows-1251, Shift JIS
	for name, c := range map[string]struct {
		f       fake
		given   encoding.Encoding
		want    string
		remarks []string
	}{
		"UTF-8 without a flag": {fake{name: "küste.csv"}, nil, "küste.csv", []string{"were taken for UTF-8"}},
		"code page":            {fake{name: "k\x81ste.csv"}, nil, "küste.csv", []string{"code page 437"}},
		"windows-1251":         {fake{name: cyrillic}, charmap.Windows1251, "уровни.csv", nil},
		"Shift JIS":            {fake{name: japanese}, japaneseEncoding.ShiftJIS, "潮位.csv", nil},
		"the flag is stronger": {fake{name: "küste.csv", flags: flagUTF8}, charmap.Windows1251, "küste.csv", nil},
		"backslashes":          {fake{name: `charts\may\a.png`}, nil, "charts/may/a.png", []string{"backslashes"}},
		"a folder of them":     {fake{name: `charts\`}, nil, "charts", []string{"backslashes"}},
		"part of a Unix name":  {fake{name: `a\b`, madeBy: 3 << 8, attributes: 0o100644 << 16}, nil, `a\b`, nil},
	} {
		t.Run(name, func(t *testing.T) {
			data := built{entries: []fake{c.f}, comment: "from the gauge"}.bytes()
			r, err := Open(bytes.NewReader(data), int64(len(data)), archive.Options{Encoding: c.given})
			require.NoError(t, err)
			assert.Equal(t, c.want, r.Entries()[0].Path)
			d, err := r.Open(0)
			require.NoError(t, err)
			d.Close()
			remarks := r.Remarks()
			require.Len(t, remarks, len(c.remarks)+1)
			for i, part := range c.remarks {
				assert.Contains(t, remarks[i].Text, part)
			}
			assert.Equal(t, "comment: from the gauge", remarks[len(remarks)-1].Text)
		})
	}
}

// An end record that has the size of the directory wrong is no harm where its
// offset leads to records that reach it.
func TestWrongDirectorySize(t *testing.T) {
	for _, off := range []int{-47, -3, 5, 1000} {
		data := built{entries: []fake{{name: "a.csv", data: "1,2"}, {name: "b.csv", data: "3,4"}}, comment: "c", end: func(record []byte) {
			le.PutUint32(record[12:], uint32(int(le.Uint32(record[12:]))+off))
		}}.bytes()
		entries, content, err := read(data)
		require.NoError(t, err, "%d", off)
		assert.Equal(t, []string{"1,2", "3,4"}, content)
		assert.Len(t, entries, 2)
	}
}
