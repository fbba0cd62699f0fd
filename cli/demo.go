package cli

import "github.com/spf13/cobra"

func newDemo(s *streams) *cobra.Command { return &cobra.Command{Use: "demo"} }
