package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"widecrate/cli/option"
	"widecrate/core/fault"
	"widecrate/core/source"
)

// passwordOptions give the passwords of locked entries. None is ever printed.
type passwordOptions struct {
	env, file string
	ask       bool
}

func (o *passwordOptions) addTo(set *option.Set) {
	set.Text(&o.env, "password-env")
	set.Text(&o.file, "password-file")
	set.Switch(&o.ask, "ask-password")
}

// given reports whether there is one.
func (o *passwordOptions) given() bool { return o.env != "" || o.file != "" || o.ask }

func (o *passwordOptions) check(cmd *cobra.Command) error {
	if _, set := os.LookupEnv(o.env); o.env != "" && !set {
		return usage(cmd, fmt.Errorf("the environment has no variable %s", o.env))
	}
	if o.ask && !term.IsTerminal(int(os.Stdin.Fd())) {
		return usage(cmd, fmt.Errorf("--ask-password needs a terminal"))
	}
	return nil
}

// passwords collects the candidates.
func (o *passwordOptions) passwords(cmd *cobra.Command, s *streams) (list []string, err error) {
	if o.env != "" {
		value := os.Getenv(o.env)
		if strings.ContainsAny(value, "\r\n") {
			s.Warn("the password in " + o.env + " has a line end in it, which counts")
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
	password, err := typed(cmd.Context(), s, "Password: ")
	return append(list, password), err
}

// checkNew is check where they are for new entries.
func (o *passwordOptions) checkNew(cmd *cobra.Command, encrypt bool) error {
	if given := o.given(); given != encrypt {
		if given {
			return usage(cmd, errors.New("a password is for --encrypt"))
		}
		return usage(cmd, errNoPassword)
	}
	return o.check(cmd)
}

var errNoPassword = errors.New("--encrypt needs exactly one password, from --password-env, --password-file or --ask-password")

// newPassword is the one that new entries are locked with; one that is typed is
// asked for twice. Without encrypt there is none.
func (o *passwordOptions) newPassword(cmd *cobra.Command, s *streams, encrypt bool) (string, error) {
	if !encrypt {
		return "", nil
	}
	given, err := o.passwords(cmd, s)
	if err != nil {
		return "", err
	}
	if len(given) != 1 || given[0] == "" {
		return "", usage(cmd, errNoPassword)
	}
	if !o.ask {
		return given[0], nil
	}
	again, err := typed(cmd.Context(), s, "The same again: ")
	if err == nil && again != given[0] {
		err = fault.New(fault.Password, "the two passwords differ; nothing was written")
	}
	return given[0], err
}

// typed asks for a password on the terminal, without showing it. Once ctx is cancelled the
// terminal shows again what is typed.
func typed(ctx context.Context, s *streams, question string) (string, error) {
	terminal := int(os.Stdin.Fd())
	before, err := term.GetState(terminal)
	if err != nil {
		return "", fault.Reading("terminal", err)
	}
	s.Err.Printf("%s", question)
	s.Err.Flush()
	var password []byte
	done := make(chan struct{})
	go func() {
		defer close(done)
		password, err = term.ReadPassword(terminal)
	}()
	select {
	case <-done:
	case <-ctx.Done():
		_ = term.Restore(terminal, before) // as well as can be
	}
	s.Err.Printf("\n")
	s.Err.Flush()
	if ctx.Err() != nil {
		return "", ctx.Err()
	}
	return string(password), fault.Reading("terminal", err)
}
