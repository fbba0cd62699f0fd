package cli

import (
	"runtime"
	"runtime/debug"

	"github.com/spf13/cobra"
)

// Version is set when a release is built.
var Version = "development"

func newVersion(s *streams) *cobra.Command {
	return &cobra.Command{
		Use:     "version",
		Short:   "Say which version this is",
		Example: "  widecrate version",
		Args:    takes(0, 0, ""),
		RunE: func(*cobra.Command, []string) error {
			s.Out.Printf("widecrate %s (%s/%s", Version, runtime.GOOS, runtime.GOARCH)
			if info, ok := debug.ReadBuildInfo(); ok {
				s.Out.Printf(", %s", info.GoVersion)
			}
			s.Out.Printf(")\n")
			return nil
		},
	}
}
