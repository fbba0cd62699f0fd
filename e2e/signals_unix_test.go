//go:build unix

package e2e

import (
	"os"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// hold stops a process until it is continued or killed.
func hold(t *testing.T, p *os.Process) { require.NoError(t, p.Signal(syscall.SIGSTOP)) }

func interrupt(t *testing.T, p *os.Process) { require.NoError(t, p.Signal(syscall.SIGINT)) }
