package cli

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The licences that the program prints are those of all modules in it, on every system.
func TestLicences(t *testing.T) {
	goTool, err := exec.LookPath("go")
	if err != nil {
		t.Skip("there is no Go here to ask for the modules")
	}
	modules := map[string]bool{}
	for _, system := range []string{"linux", "windows", "darwin"} {
		list := exec.Command(goTool, "list", "-deps", "-f", "{{with .Module}}{{if not .Main}}{{.Path}} {{.Version}}\t{{.Dir}}{{end}}{{end}}", "widecrate/cmd/widecrate")
		list.Env = append(os.Environ(), "GOOS="+system, "CGO_ENABLED=0")
		out, err := list.Output()
		require.NoError(t, err)
		for line := range strings.Lines(string(out)) {
			if line = strings.TrimSpace(line); line != "" {
				modules[line] = true
			}
		}
	}
	root, err := exec.Command(goTool, "env", "GOROOT").Output()
	require.NoError(t, err)
	of := map[string][]string{"The Go standard library": texts(t, strings.TrimSpace(string(root)))}
	for module := range modules {
		name, dir, _ := strings.Cut(module, "\t")
		of[name] = texts(t, dir)
	}
	sharing := map[string][]string{} // which have the same text
	for name, all := range of {
		require.NotEmpty(t, all, "%s has no licence", name)
		text := strings.Join(all, "\n")
		sharing[text] = append(sharing[text], name)
	}
	var sections []string
	for text, names := range sharing {
		slices.Sort(names)
		sections = append(sections, fmt.Sprintf("%s\n%s\n\n%s\n", strings.Join(names, "\n"), strings.Repeat("=", 78), text))
	}
	slices.Sort(sections)
	made := strings.Join(sections, "\n")
	if *update {
		require.NoError(t, os.WriteFile("licences.txt", []byte(made), 0o666))
		licences = made
	}
	assert.True(t, made == licences, "cli/licences.txt is old: go test ./cli -run TestLicences -update")
	var stdout, stderr bytes.Buffer
	require.Equal(t, 0, Main([]string{"version", "--licences"}, &stdout, &stderr))
	assert.Contains(t, stdout.String(), "github.com/spf13/cobra ")
}

// texts are those of the licences in a folder.
func texts(t *testing.T, dir string) (all []string) {
	called := regexp.MustCompile(`(?i)^(licen[cs]es?|copying|notice)(\.(txt|md))?$`)
	children, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, child := range children {
		path := filepath.Join(dir, child.Name())
		switch {
		case !called.MatchString(child.Name()):
		case child.IsDir():
			inside, err := filepath.Glob(filepath.Join(path, "*.txt"))
			require.NoError(t, err)
			for _, file := range inside {
				text, err := os.ReadFile(file)
				require.NoError(t, err)
				all = append(all, string(text))
			}
		default:
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			all = append(all, strings.ReplaceAll(string(text), "\r\n", "\n"))
		}
	}
	return all
}
