package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"github.com/spf13/cobra"

	"widecrate/cli/option"
	"widecrate/core/newfile"
	"widecrate/core/remote"
	"widecrate/core/storage"
)

// remoteOptions say how addresses are reached.
type remoteOptions struct {
	remote   remote.Options
	tokenEnv string
	loginEnv string
	fetched  string
	made     *remote.Client // for all that a command reads and writes
}

// addFetched adds the option to keep what was fetched.
func (o *remoteOptions) addFetched(set *option.Set) { set.Text(&o.fetched, "keep-fetched") }

func (o *remoteOptions) addTo(set *option.Set) {
	o.remote.Retries, o.remote.Connections, o.remote.Idle = remote.DefaultRetries, remote.DefaultConnections, remote.DefaultIdle
	set.Text(&o.tokenEnv, "token-env")
	set.Text(&o.loginEnv, "login-env")
	set.Text(&o.remote.Identity, "identity")
	set.Text(&o.remote.KnownHosts, "known-hosts")
	set.Text(&o.remote.CAFile, "ca-file")
	set.Number(&o.remote.Retries, "retries", 0)
	set.Number(&o.remote.Connections, "connections", 1)
	set.Value(&option.Wait{To: &o.remote.Idle}, "idle")
}

func (o *remoteOptions) check(cmd *cobra.Command) error {
	if o.remote.Idle == 0 {
		return usage(cmd, fmt.Errorf("--idle must be longer than nothing"))
	}
	if o.tokenEnv != "" && os.Getenv(o.tokenEnv) == "" {
		return usage(cmd, fmt.Errorf("the environment has no token in %s", o.tokenEnv))
	}
	if user, _, both := strings.Cut(os.Getenv(o.loginEnv), ":"); o.loginEnv != "" && (!both || user == "") {
		return usage(cmd, fmt.Errorf("the environment has no user:password in %s", o.loginEnv))
	}
	return nil
}

// connect gives the client for addresses: what is read from there, and what is written there.
func (o *remoteOptions) connect(cmd *cobra.Command, s *streams) *remote.Client {
	w := o.remote
	if w.Retries == 0 {
		w.Retries = -1
	}
	if o.tokenEnv != "" {
		w.Token = os.Getenv(o.tokenEnv)
	}
	if o.loginEnv != "" {
		w.Login = os.Getenv(o.loginEnv)
	}
	w.Netrc = netrc()
	if verbose := cmd.Flags().Lookup("verbose"); verbose != nil && verbose.Value.String() == "true" {
		w.Say = s.Err.Aside
	}
	if o.made == nil {
		o.made = remote.New(w)
	}
	s.sites = newfile.Sites{Sites: storage.Sites{Context: cmd.Context(), Client: o.made}}
	return o.made
}

// adviceOn is what to do about an address where only a path on disk makes sense.
func adviceOn(cmd *cobra.Command, l *option.Local) string {
	if cmd.Name() == "extract" && l.Name == "into" {
		return "unpack to a folder on disk; widecrate convert --into makes an archive of the selection at an address"
	}
	return "name a path on disk"
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
