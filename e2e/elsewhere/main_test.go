// Package elsewhere tests the built program on servers.
package elsewhere

import (
	"os"
	"testing"

	"widecrate/e2e/programtest"
)

var (
	program string

	run, tidewatch, put, tree, noise, serve = programtest.Run, programtest.Tidewatch, programtest.Put, programtest.Tree, programtest.Noise, programtest.Serve
)

func TestMain(m *testing.M) {
	os.Exit(programtest.Main(m, &program))
}
