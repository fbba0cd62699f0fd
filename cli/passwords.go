package cli

import (
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"widecrate/core/fault"
	"widecrate/core/source"
)

// passwordOptions give the passwords of locked entries. None is ever printed.
type passwordOptions struct {
	env, file string
	ask       bool
}

func (o *passwordOptions) addTo(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&o.env, "password-env", "", "the environment variable `VAR` has the password of locked entries")
	f.StringVar(&o.file, "password-file", "", "this `FILE` has candidates, one a line, tried in order (-: standard input)")
	f.BoolVar(&o.ask, "ask-password", false, "ask for the password on the terminal, without showing it")
}

// passwords collects the candidates.
func (o *passwordOptions) passwords(cmd *cobra.Command, s *streams) (list []string, err error) {
	if o.env != "" {
		value, set := os.LookupEnv(o.env)
		if !set {
			return nil, usage(cmd, fmt.Errorf("the environment has no variable %s", o.env))
		}
		list = append(list, value)
	}
	if o.file != "" {
		err := readFile(cmd, o.file, func(r io.Reader) error {
			candidates, err := source.ReadList(r, false)
			list = append(list, candidates...)
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	if !o.ask {
		return list, nil
	}
	in := int(os.Stdin.Fd())
	if !term.IsTerminal(in) {
		return nil, usage(cmd, fmt.Errorf("--ask-password needs a terminal"))
	}
	s.err.Printf("Password: ")
	s.err.Flush()
	typed, err := term.ReadPassword(in)
	s.err.Printf("\n")
	s.err.Flush()
	if err != nil {
		return nil, fault.Reading("terminal", err)
	}
	return append(list, string(typed)), nil
}
