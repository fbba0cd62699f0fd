package e2e

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/format/zip"
	"widecrate/core/systemtest"
)

// needsGo skips a test where the Go toolchain is not: under another system's emulation.
func needsGo(t *testing.T) {
	t.Helper()
	if _, err := exec.LookPath("go"); err != nil {
		t.Skip("the Go toolchain is not there")
	}
}

// The Go toolchain unpacked the ZIPs of the module cache: we must come to the
// same files.
func TestModuleCache(t *testing.T) {
	needsGo(t)
	t.Parallel()
	out, err := exec.Command("go", "env", "GOMODCACHE").Output()
	require.NoError(t, err)
	cache := strings.TrimSpace(string(out))
	download := filepath.Join(cache, "cache", "download")
	var archives []string
	require.NoError(t, filepath.Walk(download, func(path string, info os.FileInfo, err error) error {
		if err == nil && filepath.Ext(path) == ".zip" && info.Size() < 8<<20 {
			archives = append(archives, path)
		}
		return nil
	}))
	compared := 0
	for i, path := range archives {
		if i%8 != 0 && !systemtest.LongWanted() {
			continue
		}
		rel, err := filepath.Rel(download, path)
		require.NoError(t, err)
		module, version, _ := strings.Cut(strings.TrimSuffix(filepath.ToSlash(rel), ".zip"), "/@v/")
		unpacked := filepath.Join(cache, filepath.FromSlash(module+"@"+version))
		if _, err := os.Stat(unpacked); err != nil {
			continue // downloaded, and never unpacked
		}
		into := t.TempDir()
		_, stderr, code := run(t, into, "extract", path, "--into", into, "--layout", "shared")
		require.Equal(t, 0, code, stderr)
		// A capital letter is written as '!' and the small one in the cache.
		plain := regexp.MustCompile(`![a-z]`).ReplaceAllStringFunc(module, func(s string) string { return strings.ToUpper(s[1:]) })
		require.Equal(t, tree(t, unpacked), tree(t, filepath.Join(into, filepath.FromSlash(plain+"@"+version))), path)
		compared++
	}
	if compared == 0 {
		t.Skip("the module cache holds no ZIP with its unpacked folder")
	}
	t.Logf("%d modules compared", compared)
}

// The Go toolchain builds with a module from a ZIP of ours.
func TestGoModuleFromOurZIP(t *testing.T) {
	systemtest.Long(t, "the Go toolchain that it starts")
	needsGo(t)
	dir := t.TempDir()
	module := filepath.Join(dir, "tidewatch.example", "gauge@v1.0.0")
	put(t, filepath.Join(module, "go.mod"), "module tidewatch.example/gauge\n")
	put(t, filepath.Join(module, "gauge.go"), "package gauge\n\nconst Name = \"Harrow Sound\"\n")
	versions := filepath.Join(dir, "proxy", "tidewatch.example", "gauge", "@v")
	put(t, filepath.Join(versions, "v1.0.0.info"), `{"Version":"v1.0.0"}`)
	put(t, filepath.Join(versions, "v1.0.0.mod"), "module tidewatch.example/gauge\n")
	_, stderr, code := run(t, dir, "create", filepath.Join(versions, "v1.0.0.zip"), "tidewatch.example", "--pick", "gauge@v1.0.0")
	require.Equal(t, 0, code, stderr)
	put(t, filepath.Join(dir, "app", "go.mod"), "module app\n\nrequire tidewatch.example/gauge v1.0.0\n")
	put(t, filepath.Join(dir, "app", "main.go"), "package main\n\nimport \"tidewatch.example/gauge\"\n\nfunc main() { print(gauge.Name) }\n")
	cmd := exec.Command("go", "run", "-mod=mod", "-modcacherw", ".")
	cmd.Dir = filepath.Join(dir, "app")
	cmd.Env = append(os.Environ(), "GOPROXY=file://"+filepath.ToSlash(filepath.Join(dir, "proxy")), "GONOSUMDB=*", "GONOSUMCHECK=1", "GOFLAGS=", "GOSUMDB=off",
		"GOMODCACHE="+filepath.Join(dir, "cache"))
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "Harrow Sound")
}

// Python imports from a ZIP of ours.
func TestPythonImportsFromOurZIP(t *testing.T) {
	python, err := exec.LookPath("python3")
	if err != nil {
		t.Skip("there is no Python here")
	}
	dir := t.TempDir()
	put(t, filepath.Join(dir, "src", "gauge", "__init__.py"), "from .names import NAME\n")
	put(t, filepath.Join(dir, "src", "gauge", "names.py"), "NAME = 'Pell Point'\n"+strings.Repeat("# padding that deflates\n", 100))
	_, stderr, code := run(t, dir, "create", "gauge.zip", "src", "--top", "drop")
	require.Equal(t, 0, code, stderr)
	cmd := exec.Command(python, "-c", "import gauge; print(gauge.NAME, gauge.__file__)")
	cmd.Dir, cmd.Env = dir, append(os.Environ(), "PYTHONPATH=gauge.zip")
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	require.NoError(t, cmd.Run(), out.String())
	assert.Contains(t, out.String(), "Pell Point")
	assert.Contains(t, out.String(), filepath.Join("gauge.zip", "gauge"))
}

// The files of a wheel are those that its own list of sums says; where
// there are any on this machine.
func TestWheelsCarryTheirSums(t *testing.T) {
	out, err := exec.Command("python3", "-c", "import ensurepip, os; print(os.path.dirname(ensurepip.__file__))").Output()
	if err != nil {
		t.Skip("there is no Python here")
	}
	wheels, err := filepath.Glob(filepath.Join(strings.TrimSpace(string(out)), "_bundled", "*.whl"))
	require.NoError(t, err)
	debian, err := filepath.Glob("/usr/share/python-wheels/*.whl")
	require.NoError(t, err)
	wheels = append(wheels, debian...)
	if len(wheels) == 0 {
		t.Skip("there is no wheel here")
	}
	for _, wheel := range wheels[:min(len(wheels), 10)] {
		into := t.TempDir()
		_, stderr, code := run(t, into, "extract", wheel, "--into", into, "--layout", "shared")
		require.Equal(t, 0, code, stderr)
		lists, err := filepath.Glob(filepath.Join(into, "*.dist-info", "RECORD"))
		require.NoError(t, err)
		require.Len(t, lists, 1)
		text, err := os.ReadFile(lists[0])
		require.NoError(t, err)
		checked := 0
		for line := range strings.Lines(string(text)) {
			parts := strings.Split(strings.TrimSpace(line), ",")
			want, is := strings.CutPrefix(parts[max(len(parts)-2, 0)], "sha256=")
			if !is {
				continue
			}
			data, err := os.ReadFile(filepath.Join(into, strings.Trim(strings.Join(parts[:len(parts)-2], ","), `"`)))
			require.NoError(t, err)
			sum := sha256.Sum256(data)
			require.Equal(t, want, base64.RawURLEncoding.EncodeToString(sum[:]), parts[0])
			checked++
		}
		assert.NotZero(t, checked)
		t.Logf("%s: %d sums", filepath.Base(wheel), checked)
	}
}

// The package client installs a .tgz of ours as it installs any other, and we
// unpack it to the same files.
func TestPackageFromOurTar(t *testing.T) {
	systemtest.Long(t, "the package manager that it starts")
	npm, err := exec.LookPath("npm")
	if err != nil {
		t.Skip("there is no package client here")
	}
	dir := t.TempDir()
	put(t, filepath.Join(dir, "package", "package.json"), `{"name": "tidewatch-gauge", "version": "1.0.0"}`)
	put(t, filepath.Join(dir, "package", "index.js"), "module.exports = 'Merrin Deep'\n")
	_, stderr, code := run(t, dir, "create", "gauge.tgz", "package")
	require.Equal(t, 0, code, stderr)
	put(t, filepath.Join(dir, "app", "package.json"), `{"name": "app", "version": "1.0.0"}`)
	cmd := exec.Command(npm, "install", "--offline", "--no-audit", "--no-fund", filepath.Join(dir, "gauge.tgz"))
	cmd.Dir = filepath.Join(dir, "app")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	_, stderr, code = run(t, dir, "extract", "gauge.tgz", "--into", "ours", "--peel", "1", "--layout", "shared")
	require.Equal(t, 0, code, stderr)
	assert.Equal(t, tree(t, filepath.Join(dir, "app/node_modules/tidewatch-gauge")), tree(t, filepath.Join(dir, "ours")))
}

// manifest reads the sums of a .jar by path: lines of 72 bytes, continued by a
// space.
func manifest(path string) map[string]string {
	f, err := os.Open(path)
	if err != nil {
		return nil
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil
	}
	z, err := zip.Open(f, info.Size(), archive.Options{})
	if err != nil {
		return nil
	}
	sums := map[string]string{}
	for i, e := range z.Entries() {
		if e.Path != "META-INF/MANIFEST.MF" {
			continue
		}
		d, err := z.Open(i)
		if err != nil {
			return nil
		}
		text, err := io.ReadAll(d)
		d.Close()
		if err != nil {
			return nil
		}
		name := ""
		for line := range strings.Lines(strings.ReplaceAll(strings.ReplaceAll(string(text), "\r", ""), "\n ", "")) {
			if key, value, _ := strings.Cut(strings.TrimSpace(line), ": "); key == "Name" {
				name = value
			} else if key == "SHA-256-Digest" {
				sums[name] = value
			}
		}
	}
	return sums
}

// The files of a signed .jar are those that its manifest says.
func TestJarsCarryTheirSums(t *testing.T) {
	var jar string
	var sums map[string]string
	for _, dir := range []string{"/usr/share", "/usr/lib"} {
		_ = filepath.WalkDir(dir, func(path string, _ fs.DirEntry, err error) error {
			if err == nil && filepath.Ext(path) == ".jar" {
				if sums = manifest(path); len(sums) > 0 {
					jar = path
					return fs.SkipAll
				}
			}
			return nil
		})
		if jar != "" {
			break
		}
	}
	if jar == "" {
		t.Skip("there is no signed .jar here")
	}
	into := t.TempDir()
	_, stderr, code := run(t, into, "extract", jar, "--into", into, "--layout", "shared")
	require.Equal(t, 0, code, stderr)
	for name, want := range sums {
		data, err := os.ReadFile(filepath.Join(into, filepath.FromSlash(name)))
		require.NoError(t, err)
		sum := sha256.Sum256(data)
		require.Equal(t, want, base64.StdEncoding.EncodeToString(sum[:]), name)
	}
	t.Logf("%s: %d sums", filepath.Base(jar), len(sums))
}

// consume runs a command that uses what we packed.
func consume(t *testing.T, dir, name string, args ...string) string {
	t.Helper()
	path, err := exec.LookPath(name)
	if err != nil {
		t.Skipf("there is no %s here", name)
	}
	cmd := exec.Command(path, args...)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	return string(out)
}

// A virtual machine runs a program from a .jar of ours.
func TestJarOfOursRuns(t *testing.T) {
	systemtest.Long(t, "the virtual machine that it starts")
	dir := t.TempDir()
	put(t, filepath.Join(dir, "Gauge.java"), `public class Gauge { public static void main(String[] a) { System.out.println("Gull Ness"); } }`)
	put(t, filepath.Join(dir, "in/META-INF/MANIFEST.MF"), "Manifest-Version: 1.0\nMain-Class: Gauge\n")
	consume(t, dir, "javac", "-d", "in", "Gauge.java")
	for _, method := range []string{"deflate", "store"} {
		_, stderr, code := run(t, dir, "create", method+".jar", "in", "--format", "zip", "--top", "drop", "--method", method)
		require.Equal(t, 0, code, stderr)
		assert.Equal(t, "Gull Ness", strings.TrimSpace(consume(t, dir, "java", "-jar", method+".jar")))
	}
}

// An interpreter runs an application from an archive of ours, and installs a
// wheel of ours, which has a list of sums.
func TestPythonRunsOurs(t *testing.T) {
	systemtest.Long(t, "the interpreters that it starts")
	dir := t.TempDir()
	put(t, filepath.Join(dir, "app/__main__.py"), "import gauge\nprint(gauge.NAME)\n")
	put(t, filepath.Join(dir, "app/gauge/__init__.py"), "NAME = 'Pell Point'\n")
	_, stderr, code := run(t, dir, "create", "app.pyz", "app", "--format", "zip", "--top", "drop")
	require.Equal(t, 0, code, stderr)
	assert.Equal(t, "Pell Point", strings.TrimSpace(consume(t, dir, "python3", "app.pyz")))

	const info = "tidewatch_gauge-1.0.dist-info/"
	files := map[string]string{"gauge_of_tidewatch/__init__.py": "NAME = 'Osk Bay'\n",
		info + "METADATA": "Metadata-Version: 2.1\nName: tidewatch-gauge\nVersion: 1.0\n",
		info + "WHEEL":    "Wheel-Version: 1.0\nGenerator: widecrate\nRoot-Is-Purelib: true\nTag: py3-none-any\n"}
	record := info + "RECORD,,\n"
	for path, data := range files {
		put(t, filepath.Join(dir, "wheel", path), data)
		sum := sha256.Sum256([]byte(data))
		record += fmt.Sprintf("%s,sha256=%s,%d\n", path, base64.RawURLEncoding.EncodeToString(sum[:]), len(data))
	}
	put(t, filepath.Join(dir, "wheel", info+"RECORD"), record)
	const wheel = "tidewatch_gauge-1.0-py3-none-any.whl"
	_, stderr, code = run(t, dir, "create", wheel, "wheel", "--format", "zip", "--top", "drop")
	require.Equal(t, 0, code, stderr)
	// Itself, and not what may stand before it and keeps notes of what is installed.
	interpreter := strings.TrimSpace(consume(t, dir, "python3", "-c", "import sys; print(sys.executable)"))
	consume(t, dir, interpreter, "-m", "pip", "install", "--no-index", "--no-deps", "--target", "site", wheel)
	assert.FileExists(t, filepath.Join(dir, "site/gauge_of_tidewatch/__init__.py"))
}
