package engines

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/e2e/programtest"
)

// The image that Containerfile makes runs the first example of the README, as a user without rights.
func TestImage(t *testing.T) {
	buildah, err := exec.LookPath("buildah")
	if err != nil || os.Getuid() != 0 {
		t.Skip("there is no buildah, or not the right to use it here")
	}
	dir, data := t.TempDir(), tidewatch(t)
	recipe, err := os.ReadFile("../../../Containerfile")
	require.NoError(t, err)
	put(t, filepath.Join(dir, "Containerfile"), string(recipe))
	programtest.Install(t, filepath.Join(dir, "widecrate"))
	build := func(args ...string) string {
		cmd := exec.Command(buildah, append([]string{"--root", filepath.Join(dir, "root"), "--runroot", filepath.Join(dir, "run"), "--storage-driver", "vfs"}, args...)...)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	build("build", "--isolation", "chroot", "-t", "widecrate", ".")
	container := strings.TrimSpace(build("from", "widecrate"))
	out := build("run", "--isolation", "chroot", "-v", data+":/data", container, "--", "widecrate", "inspect", "readings/gull-ness-2026-05-01.zip")
	assert.Contains(t, out, "levels.csv")
	assert.Equal(t, "65534:65534", strings.TrimSpace(build("inspect", "--format", "{{.OCIv1.Config.User}}", container)))
}
