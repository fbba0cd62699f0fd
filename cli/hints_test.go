package cli

import (
	"regexp"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"

	"widecrate/core/fault"
)

// Every hint of the core has words of ours, and the options in them exist.
func TestHints(t *testing.T) {
	known := map[string]bool{}
	var look func(cmd *cobra.Command)
	look = func(cmd *cobra.Command) {
		cmd.Flags().VisitAll(func(f *pflag.Flag) { known["--"+f.Name] = true })
		for _, below := range cmd.Commands() {
			look(below)
		}
	}
	look(wholeRoot())
	option := regexp.MustCompile(`--[a-z-]+`)
	for _, h := range fault.Hints() {
		assert.NotEmpty(t, say.Hint(h), "%s", h)
		assert.NotContains(t, h.String(), "--")
		for _, name := range option.FindAllString(say.Hint(h), -1) {
			assert.Contains(t, known, name)
		}
	}
}
