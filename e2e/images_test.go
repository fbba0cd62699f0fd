package e2e

import (
	"crypto/md5" //nolint:gosec // it is what packages have
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/systemtest"
	"widecrate/demo"
	"widecrate/demo/standin"
)

// An image of a disc does all that an archive does.
func TestImages(t *testing.T) {
	dir := t.TempDir()
	when := time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)
	files := map[string]string{"readme.txt": "tides", "charts/Osk Bay.dat": noise(300_000), "charts/grid.dat": noise(200_000), "etc/zone": "UTC"}
	list := []demo.ImageFile{{Path: "run/zone", Link: "/etc/zone", Modified: when}}
	for path, data := range files {
		list = append(list, demo.ImageFile{Path: path, Data: []byte(data), Modified: when})
	}
	put(t, filepath.Join(dir, "disc.iso"), string(demo.Image(list, demo.RockRidge)))
	_, stderr, code := run(t, dir, "extract", "disc.iso", "--into", "out")
	assert.Equal(t, 9, code)
	assert.Contains(t, stderr, "--links rebase")
	assert.NoDirExists(t, filepath.Join(dir, "out"))

	want := maps.Clone(files)
	maps.Copy(want, map[string]string{"charts/": "", "etc/": "", "run/": "", "run/zone": "UTC"})
	systemtest.NeedsLinks(t)
	server := &standin.Server{Folder: dir}
	address := serve(t, server)
	for _, line := range []string{
		"create outer.zip disc.iso --method store -q",
		"create cut.zip disc.iso --part-size 100k -q",
		"extract disc.iso --into plain --links rebase",
		"extract outer.zip --nested --into nested --links rebase",
		"extract cut.zip.001 --nested --into parts --links rebase --workers 1",
		"extract " + address + "disc.iso --into web --links rebase",
		"convert disc.iso --to tar.zst --into . -q",
		"extract disc.tar.zst --into converted --links rebase",
		"verify disc.iso --links rebase", "compare disc.iso disc.tar.zst",
	} {
		_, stderr, code := run(t, dir, strings.Fields(line)...)
		require.Zero(t, code, "%s: %s", line, stderr)
	}
	for _, below := range []string{"plain/disc", "nested/outer/disc", "parts/cut/disc", "web/disc", "converted/disc"} {
		assert.Equal(t, want, tree(t, filepath.Join(dir, below)), below)
	}
	before := server.Bytes.Load()
	_, stderr, code = run(t, dir, "extract", address+"disc.iso", "--into", "one", "--entry", "readme.txt")
	require.Zero(t, code, stderr)
	assert.LessOrEqual(t, server.Bytes.Load()-before, int64(200_000))
	_, stderr, code = run(t, dir, "verify", "disc.iso", "--max-total", "100k")
	assert.Equal(t, 9, code, stderr)
	_, stderr, code = run(t, dir, "create", "new.iso", "plain")
	assert.Equal(t, 2, code)
	assert.Contains(t, stderr, "read, and not written")
}

// What a package says of its files is checked by whatever reads them.
func TestPackagesAreChecked(t *testing.T) {
	dir := t.TempDir()
	put(t, filepath.Join(dir, "data", "levels.csv"), "1,2\n")
	member := func(name, data string) string {
		return fmt.Sprintf("%-16s%-12d%-6d%-6d%-8o%-10d`\n%s%s", name, 0, 0, 0, 0o100644, len(data), data, "\n"[:len(data)%2])
	}
	for name, c := range map[string]struct {
		sum  [md5.Size]byte
		code int
	}{"good.deb": {md5.Sum([]byte("1,2\n")), 0}, "bad.deb": {md5.Sum([]byte("1,3\n")), 7}} { //nolint:gosec // it is what packages have
		put(t, filepath.Join(dir, "control", "md5sums"), fmt.Sprintf("%x  levels.csv\n", c.sum))
		for _, line := range []string{"create control.tar.gz control --top drop -q --clash replace", "create data.tar.xz data --top drop -q --clash replace"} {
			_, stderr, code := run(t, dir, strings.Fields(line)...)
			require.Zero(t, code, stderr)
		}
		files := tree(t, dir)
		put(t, filepath.Join(dir, name), "!<arch>\n"+member("debian-binary", "2.0\n")+member("control.tar.gz", files["control.tar.gz"])+member("data.tar.xz", files["data.tar.xz"]))
		for _, line := range []string{"verify " + name, "extract " + name + " --into out --layout shared --clash replace", "convert " + name + " --to zip --into . --clash replace -q"} {
			out, stderr, code := run(t, dir, strings.Fields(line)...)
			assert.Equal(t, c.code, code, "%s: %s%s", line, out, stderr)
			if c.code != 0 {
				assert.Contains(t, stderr, "MD5", line)
			}
		}
	}
}

// Packages of Debian that nobody here made: their own sums hold, and what is installed
// of them is the same. WIDECRATE_PACKAGES is a folder with some.
func TestPackages(t *testing.T) {
	packages, err := filepath.Glob(filepath.Join(os.Getenv("WIDECRATE_PACKAGES"), "*.deb"))
	require.NoError(t, err)
	if os.Getenv("WIDECRATE_PACKAGES") == "" || len(packages) == 0 {
		t.Skip("there are no packages: WIDECRATE_PACKAGES names no folder with some")
	}
	dir := t.TempDir()
	trees := map[string]map[string]string{}
	for _, path := range packages {
		name, rest, _ := strings.Cut(filepath.Base(path), "_")
		version, _, _ := strings.Cut(rest, "_")
		out, stderr, code := run(t, dir, "extract", path, "--into", name, "--layout", "shared", "--links", "rebase")
		require.Zero(t, code, "%s%s", out, stderr)
		found := tree(t, filepath.Join(dir, name))
		trees[name] = found
		sums := strings.Fields(found["[control]/md5sums"])
		assert.NotEmpty(t, sums, name)
		verified, stderr, code := run(t, dir, "verify", path)
		require.Zero(t, code, "%s%s", verified, stderr)
		assert.Contains(t, verified, "checked against a checksum")
		installed, err := exec.Command("dpkg-query", "-W", "-f", "${Version}", name).Output()
		if err != nil || string(installed) != strings.ReplaceAll(version, "%3a", ":") {
			continue
		}
		same := 0
		for path, data := range found {
			if disk, err := os.ReadFile("/" + path); err == nil && !strings.HasSuffix(path, "/") && !strings.HasPrefix(path, "etc/") {
				assert.Equal(t, string(disk), data, path)
				same++
			}
		}
		t.Log(same, "files of", name, "are as installed")
	}
	image, modules := trees["grub-rescue-pc"]["usr/lib/grub-rescue/grub-rescue-cdrom.iso"], trees["grub-pc-bin"]
	if image == "" || modules == nil {
		t.Skip("the image of grub-rescue-pc is not among them")
	}
	put(t, filepath.Join(dir, "rescue.iso"), image)
	_, stderr, code := run(t, dir, "extract", "rescue.iso", "--into", "image", "--layout", "shared")
	require.Zero(t, code, stderr)
	same := 0
	for path, data := range tree(t, filepath.Join(dir, "image", "boot", "grub", "i386-pc")) {
		if module, known := modules["usr/lib/grub/i386-pc/"+path]; known {
			assert.Equal(t, module, data, path)
			same++
		}
	}
	assert.Greater(t, same, 200)
}
