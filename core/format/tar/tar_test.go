package tar

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/bent"
	"widecrate/core/fault"
)

// head makes a header block; change may spoil or complete it before the
// checksum is put in.
func head(kind byte, name string, size int64, change func(b *block)) []byte {
	var b block
	copy(b[:], ustar(kind, name, "", "", 0o640, size, 1_777_000_000))
	if change != nil {
		change(&b)
	}
	sum, _ := checksums(b[:])
	copy(b.bytes(fieldChecksum), fmt.Sprintf("%06o\x00 ", sum))
	return b[:]
}

// body is data filled up to whole blocks.
func body(data string) []byte { return append([]byte(data), zeroBlock[:padding(int64(len(data)))]...) }

func join(parts ...[]byte) []byte { return bytes.Join(parts, nil) }

func extendedHeader(kind byte, records ...string) []byte {
	var text strings.Builder
	for i := 0; i < len(records); i += 2 {
		text.WriteString(record(records[i], records[i+1]))
	}
	return join(head(kind, "extended", int64(text.Len()), nil), body(text.String()))
}

func set(f field, value string) func(*block) {
	return func(b *block) { copy(b.bytes(f), value+strings.Repeat("\x00", f.length-len(value))) }
}

// got is an entry with its data, in few words.
func got(e archive.Entry, data []byte) string {
	text := fmt.Sprintf("%s %s %d", e.Kind, e.Path, e.Size)
	if e.Link != "" {
		text += " → " + e.Link
	}
	if len(data) > 0 {
		text += " " + strings.ReplaceAll(string(data), "\x00", ".")
	}
	return text
}

// What the extensions say of an archive besides is said, in whatever way it is read.
func TestRemarks(t *testing.T) {
	file := join(head(typeFile, "a.csv", 3, nil), body("1,2"))
	for name, c := range map[string]struct {
		data []byte
		want []string
	}{
		"nothing":        {file, nil},
		"labels":         {join(head(typeLabel, "May", 0, nil), extendedHeader(typeGlobal, volumeLabel, "June"), file), []string{"label: May", "label: June"}},
		"lists":          {join(head(typeListing, "d", 9, nil), body("Ya\x00Nb\x00N"), file), []string{"an incremental backup", "of 3 names in its folders, 2 are only in earlier archives"}},
		"lists in POSIX": {join(extendedHeader(typePax, folderList, "Ya\x00Nb\x00"), head(typeFolder, "d", 0, nil)), []string{"an incremental backup", "of 2 names in its folders, 1 are only"}},
	} {
		data := join(c.data, make([]byte, 1024))
		r, err := Open(bytes.NewReader(data), int64(len(data)), archive.Options{})
		require.NoError(t, err, name)
		s := NewStream(bytes.NewReader(data), archive.Options{})
		for err == nil {
			_, err = s.Next()
		}
		require.Equal(t, io.EOF, err, name)
		require.Equal(t, r.Remarks(), s.Remarks(), name)
		require.Len(t, r.Remarks(), len(c.want), name)
		for i, want := range c.want {
			assert.Contains(t, r.Remarks()[i].Text, want, name)
		}
	}
}

// Where a volume goes on with what the one before began, its own headers are known, and it is no
// archive of its own.
func TestVolumes(t *testing.T) {
	long := int64(len(extendedHeader(typeGlobal, volumeFile, "a.csv", volumeLabel, "May Volume 2")))
	for name, c := range map[string]struct {
		start   []byte
		headers int64
		first   bool // it can be read alone
	}{
		"the rest of a file":     {head(typeRest, "a.csv", 3, nil), 512, false},
		"a label and the rest":   {join(head(typeLabel, "May Volume 2", 0, nil), head(typeRest, "a.csv", 3, nil)), 1024, false},
		"a label between":        {join(head(typeLabel, "May Volume 12", 0, nil), head(typeFile, "b.csv", 3, nil)), 512, true},
		"a first label":          {join(head(typeLabel, "May Volume 1", 0, nil), head(typeFile, "b.csv", 3, nil)), 0, true},
		"a file":                 {head(typeFile, "b.csv", 3, nil), 0, true},
		"the rest in POSIX":      {join(extendedHeader(typeGlobal, volumeFile, "a.csv", volumeLabel, "May Volume 2"), head(typeFile, "GNUFileParts/a.csv.1", 3, nil)), long + 512, false},
		"a long name in POSIX":   {join(extendedHeader(typeGlobal, volumeFile, "a.csv"), extendedHeader(typePax, "path", "y"), head(typeFile, "x", 3, nil)), 2048 + 512, false},
		"a label between, POSIX": {join(extendedHeader(typeGlobal, volumeLabel, "May Volume 2"), head(typeFile, "b.csv", 3, nil)), 1024, true},
		"no header":              {make([]byte, 512), 0, true},
	} {
		data := join(c.start, body("1,2"), make([]byte, 1024))
		assert.Equal(t, c.headers, continues(bytes.NewReader(data)), name)
		_, err := readBoth(t, data)
		if c.first {
			assert.NotErrorIs(t, err, fault.Incomplete, name)
		} else {
			assert.ErrorIs(t, err, fault.Incomplete, name)
		}
	}
}

// readBoth reads an archive at any entry and in order, and both must agree.
func readBoth(t *testing.T, data []byte) ([]string, error) {
	var inOrder []string
	s := NewStream(iotestOne{bytes.NewReader(data)}, archive.Options{})
	var streamErr error
	for streamErr == nil {
		var e archive.Entry
		if e, streamErr = s.Next(); streamErr == nil {
			var content []byte
			content, streamErr = io.ReadAll(s)
			inOrder = append(inOrder, got(e, content))
		}
	}
	var random []string
	r, err := Open(bytes.NewReader(data), int64(len(data)), archive.Options{})
	if err != nil {
		require.NotEqual(t, io.EOF, streamErr, "only one of the two failed: %v", err)
		return inOrder, err
	}
	for i, e := range r.Entries() {
		d, err := r.Open(i)
		require.NoError(t, err)
		content, err := io.ReadAll(d)
		require.NoError(t, err)
		random = append(random, got(e, content))
	}
	require.Equal(t, io.EOF, streamErr)
	require.Equal(t, inOrder, random)
	return random, nil
}

// iotestOne hides all but Read.
type iotestOne struct{ io.Reader }

func TestReadDialects(t *testing.T) {
	long := strings.Repeat("long/", 40) + "name.csv"
	file := join(head(typeFile, "a.csv", 3, nil), body("1,2"))
	sparse := "3\n0\n2\n1000\n1\n2000\n0\n"
	for name, c := range map[string]struct {
		data []byte
		want []string
	}{
		"plain":            {file, []string{"file a.csv 3 1,2"}},
		"empty":            {nil, nil},
		"concatenated":     {join(file, end, file), []string{"file a.csv 3 1,2", "file a.csv 3 1,2"}},
		"text behind":      {join(file, end, end, body("not ours")), []string{"file a.csv 3 1,2"}},
		"no magic":         {join(head(typeOldFile, "a", 1, set(fieldMagic, "")), body("1"), head(typeOldFile, "d/", 0, set(fieldMagic, ""))), []string{"file a 1 1", "folder d 0"}},
		"prefix":           {head(typeFile, "name", 0, set(fieldPrefix, "some/where")), []string{"file some/where/name 0"}},
		"another version":  {head(typeFile, "name", 0, func(b *block) { set(fieldPrefix, "some/where")(b); set(fieldMagic, "ustar\x0001")(b) }), []string{"file some/where/name 0"}},
		"older pax":        {join(extendedHeader(typePaxOld, "path", "new"), head(typeFile, "x", 0, nil)), []string{"file new 0"}},
		"a list of names":  {join(head(typeListing, "d", 6, nil), body("Ya\x00Nb\x00"), file), []string{"folder d 0", "file a.csv 3 1,2"}},
		"a label":          {join(head(typeLabel, "May", 0, nil), file, head(typeLabel, "May", 0, nil)), []string{"file a.csv 3 1,2"}},
		"taken back":       {join(extendedHeader(typeGlobal, "mtime", "5", "path", "all"), extendedHeader(typePax, "path", ""), head(typeFile, "x", 0, nil)), []string{"file x 0"}},
		"NULs behind":      {join(head(typePax, "x", 512, nil), body("10 path=y\n"), head(typeFile, "x", 0, nil)), []string{"file y 0"}},
		"a small time":     {join(extendedHeader(typePax, "mtime", "1e-05"), head(typeFile, "x", 0, nil)), []string{"file x 0"}},
		"named elsewhere":  {join(extendedHeader(typePax, "path", "y"), head(typeFile, "", 0, nil)), []string{"file y 0"}},
		"large attributes": {join(extendedHeader(typePax, "SCHILY.xattr.user.x", strings.Repeat("v", 2<<20)), head(typeFile, "x", 0, nil)), []string{"file x 0"}},
		"other magic":      {head(typeFile, "name", 0, func(b *block) { set(fieldPrefix, "no prefix")(b); set(fieldMagic, magicOld)(b) }), []string{"file name 0"}},
		"kinds":            {join(head(typeFolder, "d/", 0, nil), head(typeSymlink, "l", 0, set(fieldLink, "a")), head(typeHardlink, "h", 7, set(fieldLink, "a")), head(typePipe, "p", 0, nil), head(typeCharacter, "c", 0, nil), head(typeBlock, "b", 0, nil), head(typeLabel, "v", 0, nil), head('?', "o", 0, nil), head(typeReserved, "r", 1, nil), body("1")), []string{"folder d 0", "link l 0 → a", "hard link h 0 → a", "pipe p 0", "device c 0", "device b 0", "other o 0", "file r 1 1"}},
		"long names":       {join(head(typeLongName, "x", int64(len(long)+1), nil), body(long+"\x00"), head(typeLongLink, "x", 3, nil), body("t/u"), head(typeSymlink, "short", 0, nil)), []string{"link " + long + " 0 → t/u"}},
		"pax":              {join(extendedHeader(typePax, "path", "küste/"+long, "size", "2", "mtime", "1.5"), head(typeFile, "x", 0, nil), body("12"), file), []string{"file küste/" + long + " 2 12", "file a.csv 3 1,2"}},
		"global pax":       {join(extendedHeader(typeGlobal, "linkpath", "everywhere"), head(typeSymlink, "l", 0, nil), extendedHeader(typePax, "linkpath", "here"), head(typeSymlink, "m", 0, nil)), []string{"link l 0 → everywhere", "link m 0 → here"}},
		"base 256":         {join(head(typeFile, "a", 0, func(b *block) { copy(b.bytes(fieldSize), "\x80\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x02") }), body("ab")), []string{"file a 2 ab"}},
		"signed checksum":  {signed(head(typeFile, "k\xfcste", 0, nil)), []string{"file küste 0"}},
		"oldest sparse":    {join(head(typeSparse, "s", 3, oldSparse), body("abc")), []string{"file s 12 .ab......c.."}},
		"sparse 0.0":       {join(extendedHeader(typePax, sparseSize, "6", sparseOffset, "1", sparseLength, "2", sparseOffset, "5", sparseLength, "1"), head(typeFile, "s", 3, nil), body("abc")), []string{"file s 6 .ab..c"}},
		"sparse 0.1":       {join(extendedHeader(typePax, sparseSize, "6", sparseMap, "1,2,5,1", sparseName, "real"), head(typeFile, "s", 3, nil), body("abc")), []string{"file real 6 .ab..c"}},
		"sparse 1.0":       {join(extendedHeader(typePax, sparseMajor, "1", sparseReal, "1003", sparseName, "real"), head(typeFile, "s", 515, nil), body(strings.Replace(sparse, "2000\n0", "1003\n0", 1)), body("abc")), []string{"file real 1003 ab" + strings.Repeat(".", 998) + "c.."}},
		"nothing but hole": {join(extendedHeader(typePax, sparseSize, "4", sparseMap, "4,0"), head(typeFile, "s", 0, nil)), []string{"file s 4 ...."}},
	} {
		t.Run(name, func(t *testing.T) {
			for _, ended := range [][]byte{end, end[:blockSize]} { // one block of zeros will do
				list, err := readBoth(t, join(c.data, ended))
				require.NoError(t, err)
				assert.Equal(t, c.want, list)
			}
		})
	}
}

// end is the end mark.
var end = make([]byte, 2*blockSize)

// oldSparse is the map of a file of 12 bytes: 1 to 3 and 9.
func oldSparse(b *block) {
	copy(b.bytes(fieldMagic), magicOld)
	copy(b.bytes(fieldSparse), "00000000001\x0000000000002\x0000000000011\x0000000000001\x00")
	copy(b.bytes(fieldRealSize), "00000000014\x00")
}

// signed puts in the checksum that some old writers made.
func signed(b []byte) []byte {
	_, sum := checksums(b)
	copy(b[fieldChecksum.at:], fmt.Sprintf("%06o\x00 ", sum))
	return b
}

func TestReadDamaged(t *testing.T) {
	file := join(head(typeFile, "a.csv", 3, nil), body("1,2"))
	bad := bytes.Clone(file)
	bad[3] ^= 1
	for name, c := range map[string]struct {
		data []byte
		kind fault.Kind
		says string
	}{
		"checksum":              {join(file, bad), fault.Damaged, "header at offset 1024: its checksum is wrong"},
		"cut in a header":       {join(file, file[:100]), fault.Damaged, "header at offset 1024: it is cut off"},
		"no end":                {file, fault.Damaged, "header at offset 1024: it is missing, and so is the end mark"},
		"no padding":            {file[:blockSize+3], fault.Damaged, "cut off"},
		"a header of zeros":     {join(file, end[:blockSize], body("1,2"), file, end), fault.Damaged, "header at offset 1024: it is all zeros, and more follows"},
		"cut in data":           {head(typeFile, "a", 5000, nil), fault.Damaged, "cut off"},
		"only an extended one":  {extendedHeader(typePax, "path", "x"), fault.Damaged, "missing after an extended one"},
		"size of letters":       {head(typeFile, "a", 0, set(fieldSize, "many")), fault.Damaged, "its size is no number"},
		"negative size":         {head(typeFile, "a", 0, set(fieldSize, "-1")), fault.Damaged, "its size is no number"},
		"record too long":       {join(head(typePax, "x", 9, nil), body("99 a=bcd\n"), file), fault.Damaged, "wrong length"},
		"record without end":    {join(head(typePax, "x", 8, nil), body("8 a=bcde"), file), fault.Damaged, "wrong length"},
		"size record":           {join(extendedHeader(typePax, "size", "-3"), file), fault.Damaged, "its size record"},
		"huge extended header":  {head(typePax, "x", 1<<30, nil), fault.Unsafe, "has 1073741824 bytes"},
		"map beyond the size":   {join(extendedHeader(typePax, sparseSize, "6", sparseMap, "5,3"), head(typeFile, "s", 3, nil), body("abc")), fault.Damaged, "map of holes"},
		"map that goes back":    {join(extendedHeader(typePax, sparseSize, "6", sparseMap, "3,2,1,1"), head(typeFile, "s", 3, nil), body("abc")), fault.Damaged, "map of holes"},
		"map for other data":    {join(extendedHeader(typePax, sparseSize, "6", sparseMap, "1,2"), head(typeFile, "s", 3, nil), body("abc")), fault.Damaged, "map of holes"},
		"map that never begins": {join(extendedHeader(typePax, sparseMajor, "1", sparseReal, "3"), head(typeFile, "s", 3, nil), body("abc")), fault.Damaged, "map of holes"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := readBoth(t, c.data)
			require.ErrorIs(t, err, c.kind)
			assert.Contains(t, err.Error(), c.says)
		})
	}
}

func TestWriteAndReadBack(t *testing.T) {
	when := time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)
	long := strings.Repeat("folder/", 30) + strings.Repeat("n", 120)
	var b bytes.Buffer
	w := NewWriter(&b)
	entries := []archive.Entry{
		{Path: "d", Kind: archive.Folder, Mode: 0o750}, {Path: "d/empty"}, {Path: "d/one", Size: 1}, {Path: "d/block", Size: blockSize}, {Path: "küste 潮.csv", Size: 700},
		{Path: strings.Repeat("p", 150) + "/" + strings.Repeat("n", 90), Size: 3}, {Path: long, Size: 5}, {Path: "l", Kind: archive.Symlink, Link: "../" + long}, {Path: "h", Kind: archive.Hardlink, Link: "d/one"},
		{Path: "early", Modified: time.Unix(-2, 250_000_000)}, {Path: "fine", Modified: when.Add(123_456_789)},
	}
	for i := range entries {
		e := &entries[i]
		if e.Modified.IsZero() {
			e.Modified = when
		}
		e.HasMode = true
		_, err := w.Add(*e, strings.NewReader(strings.Repeat("x", int(e.Size))))
		require.NoError(t, err, e.Path)
	}
	require.NoError(t, w.Close())
	assert.Zero(t, b.Len()%blockSize)
	_, err := readBoth(t, b.Bytes())
	require.NoError(t, err)
	r, err := Open(bytes.NewReader(b.Bytes()), int64(b.Len()), archive.Options{})
	require.NoError(t, err)
	require.Len(t, r.Entries(), len(entries))
	for i, e := range r.Entries() {
		want := entries[i]
		assert.Equal(t, []any{want.Path, want.Kind, want.Size, want.Link, want.Mode}, []any{e.Path, e.Kind, e.Size, e.Link, e.Mode})
		assert.True(t, want.Modified.Equal(e.Modified), "%s: %s", e.Path, e.Modified)
	}
	for _, bad := range []archive.Entry{{Path: ""}, {Path: "a\x00b"}, {Path: "a", Size: archive.Unknown}, {Path: "a", Kind: archive.Device}} {
		_, err := NewWriter(io.Discard).Add(bad, strings.NewReader(""))
		assert.ErrorIs(t, err, fault.Usage)
	}
	for _, data := range []string{"12", "1234"} {
		_, err := NewWriter(io.Discard).Add(archive.Entry{Path: "a", Size: 3}, strings.NewReader(data))
		assert.ErrorIs(t, err, fault.Unreadable)
	}
}

// mend puts the checksums of headers right.
func mend(data []byte) {
	for ; len(data) >= blockSize; data = data[blockSize:] {
		if string(data[257:262]) == "ustar" {
			sum, _ := checksums(data[:blockSize])
			copy(data[fieldChecksum.at:], fmt.Sprintf("%06o\x00 ", sum))
		}
	}
}

// FuzzRead holds that reading any bytes ends, at any entry as in order.
func FuzzRead(f *testing.F) {
	bent.Fuzz(f, [][]byte{
		join(extendedHeader(typePax, "path", "x", "mtime", "1.5"), head(typeFile, "a", 3, nil), body("123"), make([]byte, 2*blockSize)),
		join(extendedHeader(typePax, sparseMajor, "1", sparseReal, "1003"), head(typeFile, "s", 515, nil), body("1\n0\n3\n"), body("abc")),
		join(head(typeSparse, "s", 3, oldSparse), body("abc")),
	}, 0, mend, func(t *testing.T, data []byte) {
		r, err := Open(bytes.NewReader(data), int64(len(data)), archive.Options{})
		if err == nil {
			for i, e := range r.Entries() {
				d, err := r.Open(i)
				require.NoError(t, err)
				n, err := io.Copy(bent.Decoded, io.LimitReader(d, 1<<20))
				if err == nil && e.Size < 1<<20 {
					require.Equal(t, e.Size, n)
				}
			}
		}
		s := NewStream(bytes.NewReader(data), archive.Options{})
		for err = nil; err == nil; {
			if _, err = s.Next(); err == nil {
				_, err = io.Copy(bent.Decoded, io.LimitReader(s, 1<<20))
			}
		}
	})
}

// Holes reach a writer that can have them as holes, by both ways of reading, and
// all others as zeros.
func TestHoles(t *testing.T) {
	const size = 1 << 40
	data := join(extendedHeader(typePax, sparseMajor, "1", sparseReal, fmt.Sprint(int64(size))),
		head(typeFile, "a", blockSize+3, nil), body("2\n1000\n3\n1099511627776\n0\n"), body("abc"), make([]byte, 2*blockSize))
	want := []string{"hole 1000", "abc", fmt.Sprintf("hole %d", int64(size-1003))}
	r, err := Open(bytes.NewReader(data), int64(len(data)), archive.Options{})
	require.NoError(t, err)
	assert.Equal(t, int64(size-3), r.Entries()[0].Holes)
	d, err := r.Open(0)
	require.NoError(t, err)
	s := NewStream(bytes.NewReader(data), archive.Options{})
	_, err = s.Next()
	require.NoError(t, err)
	for _, from := range []io.Reader{d, s} {
		var log holeLog
		n, err := from.(io.WriterTo).WriteTo(&log)
		require.NoError(t, err)
		assert.Equal(t, int64(size), n)
		assert.Equal(t, want, log.got)
	}
	_, err = s.Next()
	assert.Equal(t, io.EOF, err)
}

type holeLog struct{ got []string }

func (l *holeLog) Write(p []byte) (int, error) { l.got = append(l.got, string(p)); return len(p), nil }
func (l *holeLog) WriteHole(n int64) error {
	l.got = append(l.got, fmt.Sprintf("hole %d", n))
	return nil
}

// What would take time that grows with the square takes a moment, or is refused.
func TestLinear(t *testing.T) {
	var records []string
	for i := range 30_000 {
		records = append(records, fmt.Sprintf("note.%d", i), "x")
	}
	for name, c := range map[string]struct {
		data []byte
		bad  bool
	}{
		"large global header": {join(extendedHeader(typeGlobal, records...), bytes.Repeat(head(typeFile, "a", 0, nil), 100_000), end), false},
		"map without lines": {join(extendedHeader(typePax, sparseMajor, "1", sparseReal, "9"), head(typeFile, "a", 64<<20, nil),
			bytes.Repeat([]byte{'1'}, 64<<20)), true},
	} {
		began := time.Now()
		r, err := Open(bytes.NewReader(c.data), int64(len(c.data)), archive.Options{})
		if c.bad {
			assert.ErrorIs(t, err, fault.Damaged, name)
		} else {
			require.NoError(t, err, name)
			assert.Len(t, r.Entries(), 100_000)
		}
		assert.Less(t, time.Since(began), time.Minute, name)
	}
}

// Data that has more bytes than was said is damage, where its reader knows that.
func TestAddKnowsDamage(t *testing.T) {
	w := NewWriter(io.Discard)
	_, err := w.Add(archive.Entry{Path: "a", Size: 2}, iotestErr{"12", fault.New(fault.Damaged, "too long")})
	assert.ErrorIs(t, err, fault.Damaged)
	_, err = w.Add(archive.Entry{Path: "a", Size: 2}, strings.NewReader("123"))
	assert.ErrorIs(t, err, fault.Unreadable)
}

// iotestErr gives one byte at a time, and with one more an error.
type iotestErr struct {
	data string
	err  error
}

func (r iotestErr) Read(p []byte) (int, error) {
	if len(p) == 1 {
		return 1, r.err
	}
	return copy(p, r.data), nil
}
