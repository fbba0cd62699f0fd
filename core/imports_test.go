package core

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// layers are the packages of the core from the top down: each imports only what
// stands in a line below its own.
var layers = [][]string{
	{"revise"},
	{"extract", "create", "verify", "undo"},
	{"inspect"},
	{"receipt", "job", "parts/cut"},
	{"plan", "report"},
	{"walk"},
	{"source"},
	{"stage"},
	{"parts"},
	{"newfile"},
	{"disposal"},
	{"claim", "confine"},
	{"bound", "choose", "place"},
	{"storage/storagetest"},
	{"storage"},
	{"format"},
	{"format/deb", "format/rpm"},
	{"format/lone", "format/ar", "format/digest", "format/udf"},
	{"format/zip", "format/tar", "format/cpio", "format/iso"},
	{"archive"},
	{"blob", "codec"},
	{"remote"},
	{"remote/web", "remote/sftp"},
	{"remote/wire"},
	{"folder"},
	{"codec/deflate"},
	{"codec/inflate", "codec/bzip2", "codec/lzma", "codec/early", "codec/lzw", "crypt", "schedule"},
	{"codec/bits", "codec/codectest", "charset", "fault", "systemtest", "bent"},
}

// The core knows no interface, imports in one direction, and never a package
// that reads or writes archives in our place.
func TestImports(t *testing.T) {
	level := map[string]int{}
	for i, layer := range layers {
		for _, name := range layer {
			level[name] = i
		}
	}
	seen := 0
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		require.NoError(t, err)
		if d.IsDir() || filepath.Ext(path) != ".go" || filepath.Dir(path) == "." {
			return nil
		}
		seen++
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		require.NoError(t, err)
		own := filepath.ToSlash(filepath.Dir(path))
		require.Contains(t, level, own, "a new package needs a place in layers")
		for _, spec := range file.Imports {
			name, err := strconv.Unquote(spec.Path.Value)
			require.NoError(t, err)
			for _, banned := range []string{"widecrate/cli", "widecrate/cmd", "cobra", "pflag", "x/term", "fatih/color", "archive/zip", "archive/tar"} {
				assert.NotContains(t, name, banned, path)
			}
			if inner, ok := strings.CutPrefix(name, "widecrate/core/"); ok && !strings.HasSuffix(path, "_test.go") {
				assert.Less(t, level[own], level[inner], "%s imports %s", path, inner)
			}
		}
		return nil
	})
	require.NoError(t, err)
	assert.Greater(t, seen, 20)
}
