// Package page tests pages about runs in a browser.
package page

import (
	"os"
	"testing"

	"widecrate/e2e/programtest"
)

var (
	program string

	run, tidewatch, pack = programtest.Run, programtest.Tidewatch, programtest.Pack
)

func TestMain(m *testing.M) { os.Exit(programtest.Main(m, &program)) }
