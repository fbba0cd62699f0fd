// Package e2e tests the built program, on files in temporary folders.
package e2e

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
