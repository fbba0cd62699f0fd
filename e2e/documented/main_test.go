// Package documented holds the documentation against the built program: every example runs, and prints what is said.
package documented

import (
	"os"
	"testing"

	"widecrate/e2e/programtest"
)

var (
	program string

	run, lay, tidewatch, pack, put, tree, noise, serve, overSSH = programtest.Run, programtest.Lay, programtest.Tidewatch, programtest.Pack, programtest.Put, programtest.Tree, programtest.Noise, programtest.Serve, programtest.OverSSH
)

func TestMain(m *testing.M) {
	os.Exit(programtest.Main(m, &program))
}
