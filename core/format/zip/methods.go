package zip

import (
	"fmt"
	"slices"

	"widecrate/core/codec"
)

// method is a compression method (4.4.5). Its name is that of codec, if that knows
// it; others are named all the same, for those who read of them.
type method struct {
	number  uint16
	name    string
	version uint16 // needed to extract (4.4.3.2); 0: it is not writable
}

// methods are all of them, those that are writable first, and of these the usual
// one.
var methods = []method{
	{8, codec.Deflate, versionDeflate},
	{0, codec.Store, versionStore},
	{12, codec.Bzip2, versionBzip2},
	{93, codec.Zstd, versionLatest},
	{95, codec.XZ, versionLatest},
	{9, codec.Deflate64, 0},
	{14, codec.LZMA, 0},
	{20, codec.Zstd, 0}, // its number for a while
	{1, codec.Shrink, 0}, {2, codec.Reduce(1), 0}, {3, codec.Reduce(2), 0}, {4, codec.Reduce(3), 0}, {5, codec.Reduce(4), 0}, {6, codec.Implode, 0},
	{10, "old TERSE", 0},
	{16, "CMPSC", 0}, {18, "TERSE", 0}, {19, "LZ77", 0}, {94, "MP3", 0}, {96, "JPEG", 0}, {97, "WavPack", 0}, {98, "PPMd", 0},
}

// writable are the names of those that are written.
var writable = func() (names []string) {
	for _, m := range methods {
		if m.version > 0 {
			names = append(names, m.name)
		}
	}
	return names
}()

// toWrite finds one of those by its name.
var toWrite = func() map[string]method {
	found := map[string]method{}
	for _, m := range methods {
		if m.version > 0 {
			found[m.name] = m
		}
	}
	return found
}()

// methodName is what a method is called.
func methodName(number uint16) string {
	if i := slices.IndexFunc(methods, func(m method) bool { return m.number == number }); i >= 0 {
		return methods[i].name
	}
	return fmt.Sprintf("method %d", number)
}
