package core

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// ownWork are the functions that remove or replace what their own run made: drafts, and what
// lies in staging under names that only it knows.
var ownWork = []string{
	"claim.silent", "claim.Release", "claim.clearRun", "claim.Begin", "claim.Sample", "claim.WriteJournal", // a probe, a claim, drafts of the dead
	"newfile.Commit", "newfile.removeHidden", "newfile.Discard",
	"stage.checkSameFileSystem", "stage.masked", "stage.clearProbes", "stage.Close", // empty folders that it made
	"stage.Lose", "stage.Discard", "stage.discardFlat", "stage.close", "stage.clear", "stage.clearButOwner", "stage.clearUnowned", "stage.reclaimOne",
	"stage.commit", "stage.remove", "stage.write", "stage.open", "stage.undo", "stage.finish", // the journals, and moves taken back
	"stage.moveFolder", "stage.do", // disposal.Swapped and Replaced let go of what was moved aside
}

// Nothing in the core takes away what was there before the run, but core/disposal.
func TestOnlyDisposalTakesAway(t *testing.T) {
	used := map[string]bool{}
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		require.NoError(t, err)
		dir := filepath.ToSlash(filepath.Dir(path))
		if d.IsDir() || filepath.Ext(path) != ".go" || strings.HasSuffix(path, "_test.go") || slices.Contains([]string{"disposal", "folder"}, dir) || strings.HasPrefix(dir, "storage") || strings.HasPrefix(dir, "remote") { // all others are made of the last three
			return nil
		}
		files := token.NewFileSet()
		file, err := parser.ParseFile(files, path, nil, 0)
		require.NoError(t, err)
		for _, declared := range file.Decls {
			function, is := declared.(*ast.FuncDecl)
			if !is || function.Body == nil {
				continue
			}
			name := filepath.Base(dir) + "." + function.Name.Name
			ast.Inspect(function.Body, func(n ast.Node) bool {
				if call, is := n.(*ast.CallExpr); is && takesAway(call) {
					used[name] = true
					assert.True(t, slices.Contains(ownWork, name), "%s removes or replaces something: core/disposal does that", files.Position(call.Pos()))
				}
				return true
			})
		}
		return nil
	})
	require.NoError(t, err)
	for _, name := range ownWork {
		assert.True(t, used[name], "%s takes nothing away any more", name)
	}
}

// takesAway reports whether a call is of a kind that removes a file, or puts one in the place
// of another.
func takesAway(call *ast.CallExpr) bool {
	selector, is := call.Fun.(*ast.SelectorExpr)
	if !is {
		return false
	}
	name, last := selector.Sel.Name, ""
	if len(call.Args) > 0 {
		if value, is := call.Args[len(call.Args)-1].(*ast.Ident); is {
			last = value.Name
		}
	}
	if of, is := selector.X.(*ast.Ident); is && (of.Name == "slices" || of.Name == "tar") {
		return false
	}
	removes := []string{"Remove", "RemoveAll", "Clear", "Rename", "MoveOver", "Exchange", "Unlinkat", "Renameat", "WriteFile"}
	return slices.Contains(removes, name) && len(call.Args) > 0 || name == "MoveTo" && last != "false"
}
