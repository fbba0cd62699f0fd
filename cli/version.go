package cli

import (
	_ "embed"
	"runtime"
	"runtime/debug"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
)

// Version is set when a release is built.
var Version = "development"

// licences are those of the modules that the program is made of.
//
//go:embed licences.txt
var licences string

func newVersion(s *streams) *cobra.Command {
	all := false
	cmd := &cobra.Command{
		Use:     "version [OPTION…]",
		Short:   "Say which version this is",
		Example: "  widecrate version\n  widecrate version --licences",
		Args:    takes(0, 0, ""),
		RunE: func(*cobra.Command, []string) error {
			if all {
				s.Out.WriteString(licences)
				return nil
			}
			s.version()
			return nil
		},
	}
	option.Of(cmd).Switch(&all, "licences")
	return cmd
}

// version says which version this is.
func (s *streams) version() {
	s.Out.Printf("widecrate %s (%s/%s", Version, runtime.GOOS, runtime.GOARCH)
	if info, ok := debug.ReadBuildInfo(); ok {
		s.Out.Printf(", %s", info.GoVersion)
	}
	s.Out.Printf(")\n")
}
