// Package engines tests the program where others start it: a batch engine, containers.
package engines

import (
	"os"
	"testing"

	"widecrate/e2e/programtest"
)

var tidewatch, put = programtest.Tidewatch, programtest.Put

func TestMain(m *testing.M) { os.Exit(programtest.Main(m, new(string))) }
