//go:build linux

package engines

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/archive"
	"widecrate/core/format/zip"
	"widecrate/e2e/programtest"
)

// archives are how many are unpacked, and tasks how many share them.
const (
	archives = 300
	tasks    = 6
)

// TestArrayJob does a batch as an array job, once in peace, once while a node is killed, and
// once while one is taken for dead, whose tasks stop and then go on beside those that have
// their shares now. Each time what is there is what one run makes.
func TestArrayJob(t *testing.T) {
	c := start(t)
	program := c.path("widecrate")
	programtest.Install(t, program)
	require.NoError(t, os.Mkdir(c.path("inbox"), 0o777))
	for i := range archives {
		pack(t, filepath.Join(c.dir, "inbox", fmt.Sprintf("gauge-%03d.zip", i)), i)
	}
	one := exec.Command(program, "extract", "inbox", "--into", "one", "--ext", "csv", "-q")
	one.Dir = c.dir
	out, err := one.CombinedOutput()
	require.NoError(t, err, string(out))
	require.Equal(t, archives, delivered(t, c.path("one")))

	for _, tt := range []struct {
		name string
		hurt func(id string)
	}{
		{"in peace", func(string) {}},
		{"a node is killed", func(string) {
			c.until("a share of the node is under way", func() bool { return len(below(c.nodes[2].Process.Pid)) > 3 && delivered(t, c.path("landing")) > 20 })
			c.killNode(2)
		}},
		{"a node is taken for dead", func(id string) {
			c.until("a share of the node is under way", func() bool {
				if c.signal(3, "widecrate", syscall.SIGSTOP) > 0 && delivered(t, c.path("landing")) > 20 {
					return true
				}
				c.signal(3, "widecrate", syscall.SIGCONT)
				return false
			})
			require.Positive(t, c.signal(3, "slurmd", syscall.SIGSTOP))
			c.until("its shares are being done elsewhere", func() bool { return strings.Contains(restarts(t, c.dir, id), "starts again") })
			c.signal(3, "widecrate", syscall.SIGCONT)
		}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			c.t = t
			for _, dir := range []string{"landing", "receipts"} {
				require.NoError(t, os.RemoveAll(c.path(dir)))
			}
			require.NoError(t, os.Mkdir(c.path("receipts"), 0o777))
			require.NoError(t, os.WriteFile(c.path("array.sh"), []byte(script(t)+"echo ends ${SLURM_RESTART_COUNT:+again} $?\n"), 0o755))
			id := strings.TrimSpace(c.do("env", "PATH="+c.dir+":"+os.Getenv("PATH"), "sbatch", "--parsable", "--export=ALL", "--chdir="+c.dir, "--output="+c.path("log/%A-%a.out"), c.path("array.sh")))
			tt.hurt(id)
			c.until("all shares are done", func() bool { return strings.TrimSpace(c.do("squeue", "-h", "-j", id)) == "" })
			c.until("nothing is left over from before", func() bool { return !running(program) })

			said := restarts(t, c.dir, id)
			assert.Equal(t, tt.name != "in peace", strings.Contains(said, "ends again 0"), said)
			c.same(t, "landing", "-x", ".widecrate-*")
			args := []string{"verify"}
			for i := range tasks {
				args = append(args, "--against", fmt.Sprintf("receipts/%d.jsonl", i))
			}
			verify := exec.Command(program, args...)
			verify.Dir = c.dir
			out, err := verify.CombinedOutput()
			require.NoError(t, err, string(out))
			assert.Contains(t, string(out), fmt.Sprintf("%d files as delivered", archives))
		})
	}
	// What the killed ones left hidden is cleared away by a later run, once they have been
	// silent for long.
	left, err := filepath.Glob(c.path("landing/.widecrate-*/owner"))
	require.NoError(t, err)
	for _, owner := range left {
		then := time.Now().Add(-time.Hour)
		require.NoError(t, os.Chtimes(owner, then, then))
	}
	again := exec.Command(program, "extract", "inbox", "--into", "landing", "--ext", "csv", "-q")
	again.Dir = c.dir
	out, err = again.CombinedOutput()
	require.NoError(t, err, string(out))
	c.same(t, "landing")
}

// script is the one of the documentation, which says when it starts.
func script(t *testing.T) string {
	text, err := os.ReadFile("../../../docs/scale.md")
	require.NoError(t, err)
	found := regexp.MustCompile("(?s)```sh\n(#!/bin/sh\n#SBATCH.*?)```").FindSubmatch(text)
	require.NotNil(t, found)
	return strings.Replace(string(found[1]), "\nwidecrate", "\necho starts ${SLURM_RESTART_COUNT:+again}\nwidecrate", 1)
}

// pack makes an archive of a size that takes a while, with a file that is wanted and one that
// is not.
func pack(t *testing.T, path string, i int) {
	var b bytes.Buffer
	w := zip.NewWriter(&b, archive.WriteOptions{})
	for _, name := range []string{"day/levels.csv", "day/gauge.log"} {
		line := fmt.Sprintf("2026-05-01 00:%02d:00,gauge %d,%s\n", i%60, i, name)
		_, err := w.Add(archive.Entry{Path: name, Size: archive.Unknown}, strings.NewReader(strings.Repeat(line, 50_000)))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	require.NoError(t, os.WriteFile(path, b.Bytes(), 0o666))
}

// delivered is how many archives are there.
func delivered(t *testing.T, dir string) int {
	children, err := os.ReadDir(dir)
	if err != nil {
		return 0
	}
	n := 0
	for _, child := range children {
		if !strings.HasPrefix(child.Name(), ".") {
			n++
		}
	}
	return n
}

// restarts is what the tasks of a job have said.
func restarts(t *testing.T, dir, id string) string {
	logs, err := filepath.Glob(filepath.Join(dir, "log", id+"-*.out"))
	require.NoError(t, err)
	var all strings.Builder
	for _, log := range logs {
		text, err := os.ReadFile(log)
		require.NoError(t, err)
		all.Write(text)
	}
	return all.String()
}

// running reports whether a program runs anywhere on this host.
func running(program string) bool {
	all, _ := filepath.Glob("/proc/[0-9]*/exe")
	for _, exe := range all {
		if at, err := os.Readlink(exe); err == nil && at == program {
			return true
		}
	}
	return false
}

// same makes sure that a folder is what one run makes, but for what lies hidden where any is
// left out.
func (c *cluster) same(t *testing.T, folder string, leaveOut ...string) {
	out, err := exec.Command("diff", append([]string{"-r", c.path("one"), c.path(folder)}, leaveOut...)...).CombinedOutput()
	assert.NoError(t, err, string(out))
}
