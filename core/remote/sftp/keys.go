package sftp

import (
	"errors"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
	"golang.org/x/crypto/ssh/knownhosts"

	"widecrate/core/fault"
	"widecrate/core/remote/wire"
)

// keys are those by which a user is known, and by which hosts are.
type keys struct {
	own      []ssh.Signer
	named    bool // the only one to be used was named
	known    ssh.HostKeyCallback
	hostFile string // to which a key would be added
}

// read reads the files of keys.
func (k *keys) read(o *wire.Hosts) error {
	home, _ := os.UserHomeDir()
	in := func(name string) string { return filepath.Join(home, ".ssh", name) }
	files := []string{in("id_ed25519"), in("id_ecdsa"), in("id_rsa")}
	if o.Identity != "" {
		files, k.named = []string{o.Identity}, true
	}
	for _, file := range files {
		text, err := os.ReadFile(file)
		var signer ssh.Signer
		if err == nil {
			signer, err = ssh.ParsePrivateKey(text)
		}
		switch _, locked := errors.AsType[*ssh.PassphraseMissingError](err); {
		case err == nil:
			k.own = append(k.own, signer)
		case o.Identity == "": // what is at the usual places may be something else, or for the agent
		case locked:
			return fault.At(file, fault.New(fault.Unreadable, "the key is locked with a passphrase").Suggest(fault.UseAgent))
		case os.IsNotExist(err) || os.IsPermission(err):
			return fault.Reading(file, err)
		default:
			return fault.At(file, fault.New(fault.Unreadable, "it is no private key").Advise("name the file that has the private key, not the one that ends in .pub"))
		}
	}
	hosts := []string{in("known_hosts")}
	if runtime.GOOS != "windows" {
		hosts = append(hosts, "/etc/ssh/ssh_known_hosts")
	}
	if o.KnownHosts != "" {
		hosts = []string{o.KnownHosts}
		if _, err := os.Stat(o.KnownHosts); err != nil {
			return fault.Reading(o.KnownHosts, err)
		}
	}
	k.hostFile = hosts[0]
	there := slices.DeleteFunc(hosts, func(file string) bool {
		_, err := os.Stat(file)
		return err != nil
	})
	var err error
	if k.known, err = knownhosts.New(there...); err != nil {
		return fault.At(strings.Join(there, ", "), fault.New(fault.Unreadable, "it is no list of the keys of hosts: %w", err))
	}
	return nil
}

// errAsked is why a password is not said again.
var errAsked = errors.New("the password was said already")

// methods are the ways to be let in: keys from files, those of an agent that runs, and a password, which is said once;
// asked is set then.
func (k *keys) methods(login string, asked *atomic.Bool) (all []ssh.AuthMethod, done func()) {
	done = func() {}
	signers := slices.Clone(k.own)
	if at := os.Getenv("SSH_AUTH_SOCK"); at != "" && !k.named {
		if conn, err := net.Dial("unix", at); err == nil { // an agent that is gone has no keys
			done = func() { conn.Close() }
			if more, err := agent.NewClient(conn).Signers(); err == nil {
				signers = append(signers, more...)
			}
		}
	}
	if len(signers) > 0 {
		all = append(all, ssh.PublicKeys(signers...))
	}
	if _, password, is := strings.Cut(login, ":"); is {
		say := func() (string, error) {
			if asked.Swap(true) {
				return "", errAsked
			}
			return password, nil
		}
		all = append(all, ssh.PasswordCallback(say), ssh.KeyboardInteractive(func(_, _ string, questions []string, echos []bool) (answers []string, err error) {
			answers = make([]string, len(questions))
			for i := range answers {
				if !echos[i] && err == nil {
					answers[i], err = say()
				}
			}
			return answers, err
		}))
	}
	return all, done
}

// A hostCheck makes sure that a host is who it should be.
type hostCheck struct {
	callback   ssh.HostKeyCallback
	algorithms []string // of the keys that are known of the host; nil: none is
	wrong      error
}

// check is one for a host.
func (k *keys) check(address string) *hostCheck {
	c := &hostCheck{}
	for _, known := range k.of(address) {
		c.algorithms = append(c.algorithms, algorithmsOf(known.Key)...)
	}
	c.callback = func(address string, at net.Addr, key ssh.PublicKey) error {
		err := k.known(address, at, key)
		if err == nil {
			return nil
		}
		fingerprint := key.Type() + " " + ssh.FingerprintSHA256(key)
		wrong, is := errors.AsType[*knownhosts.KeyError](err)
		switch {
		case !is:
			c.wrong = fault.New(fault.Unreadable, "the key of the host, %s, is refused: %w", fingerprint, err)
		case len(wrong.Want) == 0:
			c.wrong = fault.New(fault.Unreadable, "the host is not known; its key is %s", fingerprint).
				Advise("if who runs it says the same, add this line to " + k.hostFile + ": " + knownhosts.Line([]string{knownhosts.Normalize(address)}, key))
		default:
			c.wrong = fault.New(fault.Unreadable, "the host has another key, %s, than %s says in line %d: somebody may be in between", fingerprint, wrong.Want[0].Filename, wrong.Want[0].Line).
				Advise("ask who runs the host; only if the key was changed, replace that line")
		}
		return c.wrong
	}
	return c
}

// of are the keys that are known of a host.
func (k *keys) of(address string) []knownhosts.KnownKey {
	err := k.known(address, &net.TCPAddr{}, noKey{})
	wrong, _ := errors.AsType[*knownhosts.KeyError](err)
	if wrong == nil {
		return nil
	}
	return wrong.Want
}

// noKey is that of no host.
type noKey struct{}

func (noKey) Type() string                        { return "none" }
func (noKey) Marshal() []byte                     { return []byte("none") }
func (noKey) Verify([]byte, *ssh.Signature) error { return errors.New("it is no key") }

// algorithmsOf are the ways in which a host may sign with a key.
func algorithmsOf(key ssh.PublicKey) []string {
	if key.Type() == ssh.KeyAlgoRSA {
		return []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
	}
	return []string{key.Type()}
}
