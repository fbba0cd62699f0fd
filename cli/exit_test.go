package cli

import (
	"context"
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"widecrate/core/fault"
)

func TestExitCode(t *testing.T) {
	for code, err := range map[int]error{0: nil, 1: errors.New("x"), 2: fault.New(fault.Usage, "x"), 7: fmt.Errorf("a: %w", fault.At("b", fault.New(fault.Damaged, "x"))),
		10: fault.Writing("a", errors.New("x")), 130: fault.At("a", fmt.Errorf("b: %w", context.Canceled))} {
		assert.Equal(t, code, exitCode(err))
	}
}
