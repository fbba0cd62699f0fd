package e2e

import (
	"os"
	"testing"
)

func hold(t *testing.T, p *os.Process) {
	_ = p.Kill()
	t.Skip("no process can be stopped for a while here")
}

func interrupt(t *testing.T, p *os.Process) {
	_ = p.Kill()
	t.Skip("no process can be interrupted from another one here")
}
