package core

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whether a path leads to a server is asked where sources are parsed, and in core/storage: whoever writes goes by what a
// place can do.
func TestOnePlace(t *testing.T) {
	seen := 0
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		require.NoError(t, err)
		if d.IsDir() || filepath.Ext(path) != ".go" || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		files := token.NewFileSet()
		file, err := parser.ParseFile(files, path, nil, 0)
		require.NoError(t, err)
		dir := filepath.ToSlash(filepath.Dir(path))
		ast.Inspect(file, func(n ast.Node) bool {
			selector, is := n.(*ast.SelectorExpr)
			if !is || selector.Sel.Name != "IsAddress" {
				return true
			}
			seen++
			assert.Contains(t, []string{"storage", "source"}, dir, "%s asks whether a path is an address", files.Position(n.Pos()))
			return true
		})
		return nil
	})
	require.NoError(t, err)
	assert.Positive(t, seen)
}
