package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/core/web"
)

// webOptions say how addresses are read.
type webOptions struct {
	web      web.Options
	tokenEnv string
	fetched  string
}

// addFetched adds the option to keep what was fetched.
func (o *webOptions) addFetched(set *option.Set) { set.Text(&o.fetched, "keep-fetched") }

func (o *webOptions) addTo(set *option.Set) {
	o.web.Retries, o.web.Connections, o.web.Idle = web.DefaultRetries, web.DefaultConnections, web.DefaultIdle
	set.Text(&o.tokenEnv, "token-env")
	set.Text(&o.web.CAFile, "ca-file")
	set.Number(&o.web.Retries, "retries", 0)
	set.Number(&o.web.Connections, "connections", 1)
	set.Value(&option.Wait{To: &o.web.Idle}, "idle")
}

func (o *webOptions) check(cmd *cobra.Command) error {
	if o.web.Idle == 0 {
		return usage(cmd, fmt.Errorf("--idle must be longer than nothing"))
	}
	if o.tokenEnv != "" && os.Getenv(o.tokenEnv) == "" {
		return usage(cmd, fmt.Errorf("the environment has no token in %s", o.tokenEnv))
	}
	return nil
}

// client is what reads addresses; nil where none of the names is one.
func (o *webOptions) client(cmd *cobra.Command, s *streams, names ...string) (*web.Client, error) {
	if !slices.ContainsFunc(names, web.IsAddress) {
		return nil, nil
	}
	w := o.web
	if w.Retries == 0 {
		w.Retries = -1
	}
	if o.tokenEnv != "" {
		w.Token = os.Getenv(o.tokenEnv)
	}
	w.Netrc = netrc()
	if verbose := cmd.Flags().Lookup("verbose"); verbose != nil && verbose.Value.String() == "true" {
		w.Say = s.Err.Aside
	}
	return web.New(w)
}

// netrc is the file with users and passwords by host: that of the environment, or
// the one at the usual place, if it is there.
func netrc() string {
	if file := os.Getenv("NETRC"); file != "" {
		return file
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return ""
	}
	name := ".netrc"
	if runtime.GOOS == "windows" {
		name = "_netrc"
	}
	file := filepath.Join(home, name)
	if _, err := os.Stat(file); err != nil {
		return ""
	}
	return file
}

// onceInput makes sure that standard input is read for one thing only.
func onceInput(cmd *cobra.Command, args []string) error {
	uses := 0
	for _, arg := range args {
		if arg == "-" {
			uses++
		}
	}
	for _, name := range []string{"source-list", "entry-list", "pick-list", "pairs", "password-file"} {
		if f := cmd.Flags().Lookup(name); f != nil && f.Value.String() == "-" {
			uses++
		}
	}
	if f := cmd.Flags().Lookup("stdin-as"); f != nil && f.Changed {
		uses++
	}
	if uses > 1 {
		return usage(cmd, fmt.Errorf("standard input (-) is named for more than one thing"))
	}
	return nil
}
