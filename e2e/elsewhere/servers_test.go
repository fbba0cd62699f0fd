package elsewhere

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"widecrate/core/systemtest"
)

// sshServer is a real one, for a user with a key of its own.
type sshServer struct {
	address string   // of the root folder, without a slash at its end
	options []string // that let the program in
	port    string
	key     string // file of the host's public key
}

const sshConf = `
Port %[2]s
ListenAddress 127.0.0.1
HostKey %[1]s/host
PidFile %[1]s/pid
AuthorizedKeysFile %[1]s/own.pub
StrictModes no
UsePAM no
PasswordAuthentication no
MaxStartups 100
Subsystem sftp internal-sftp
%[3]s
`

// startSSH runs a server with more lines of configuration.
func startSSH(t *testing.T, more string) *sshServer {
	t.Helper()
	systemtest.Long(t, "a server that it starts")
	program := "/usr/sbin/sshd"
	if _, err := os.Stat(program); err != nil || runtime.GOOS == "windows" {
		t.Skip("sshd is not there")
	}
	work := t.TempDir()
	for _, name := range []string{"host", "own"} {
		newKey(t, filepath.Join(work, name))
	}
	if os.Getuid() == 0 {
		require.NoError(t, os.MkdirAll("/run/sshd", 0o755))
	}
	at := free(t)
	_, port, err := net.SplitHostPort(at)
	require.NoError(t, err)
	conf := filepath.Join(work, "conf")
	put(t, conf, fmt.Sprintf(sshConf, work, port, more))
	server := exec.Command(program, "-D", "-f", conf, "-E", filepath.Join(work, "log"))
	server.Stderr = os.Stderr
	require.NoError(t, server.Start())
	t.Cleanup(func() {
		_ = server.Process.Kill()
		_ = server.Wait()
	})
	answers(t, at)
	self, err := user.Current()
	require.NoError(t, err)
	s := &sshServer{address: "sftp://" + self.Username + "@" + at, port: port, key: filepath.Join(work, "host.pub")}
	s.options = []string{"--identity", filepath.Join(work, "own"), "--known-hosts", s.knows(t, at, s.key)}
	return s
}

// knows makes a file that says which key a host has.
func (s *sshServer) knows(t *testing.T, at, key string) (file string) {
	t.Helper()
	text, err := os.ReadFile(key)
	require.NoError(t, err)
	host, port, err := net.SplitHostPort(at)
	require.NoError(t, err)
	file = filepath.Join(t.TempDir(), "known")
	put(t, file, fmt.Sprintf("[%s]:%s %s", host, port, text))
	return file
}

// through is the server seen through something that stands in between.
func (s *sshServer) through(t *testing.T, at string) *sshServer {
	_, port, err := net.SplitHostPort(at)
	require.NoError(t, err)
	other := *s
	other.address = strings.Replace(s.address, ":"+s.port, ":"+port, 1)
	other.options = []string{"--identity", s.options[1], "--known-hosts", s.knows(t, at, s.key)}
	return &other
}

func newKey(t *testing.T, file string) {
	t.Helper()
	public, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, pem.EncodeToMemory(block), 0o600))
	key, err := ssh.NewPublicKey(public)
	require.NoError(t, err)
	put(t, file+".pub", string(ssh.MarshalAuthorizedKey(key)))
}

// answers waits for a server.
func answers(t *testing.T, at string) {
	t.Helper()
	for range 100 {
		if c, err := net.Dial("tcp", at); err == nil {
			c.Close()
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Fatal("the server at " + at + " does not answer")
}

const apacheConf = `
ServerRoot %[1]s
PidFile %[1]s/pid
ErrorLog %[1]s/log
ServerName localhost
Listen %[2]s
LoadModule mpm_event_module %[4]s/mod_mpm_event.so
LoadModule authz_core_module %[4]s/mod_authz_core.so
LoadModule alias_module %[4]s/mod_alias.so
LoadModule dir_module %[4]s/mod_dir.so
LoadModule autoindex_module %[4]s/mod_autoindex.so
LoadModule dav_module %[4]s/mod_dav.so
LoadModule dav_fs_module %[4]s/mod_dav_fs.so
DavLockDB %[1]s/locks
DocumentRoot %[3]s
User %[5]s
Group %[6]s
<Directory %[3]s>
  Dav On
  Require all granted
</Directory>
Alias /plain/ %[3]s/
<Location /plain/>
  Dav Off
  Options +Indexes
</Location>
`

// startApache runs a real server that speaks WebDAV, with the files of a folder, which it may
// write to.
func startApache(t *testing.T, folder string) (address string) {
	t.Helper()
	systemtest.Long(t, "a server that it starts")
	program, err := exec.LookPath("apache2")
	if err != nil {
		program = "/usr/sbin/apache2"
		if _, err := os.Stat(program); err != nil || runtime.GOOS == "windows" {
			t.Skip("apache2 is not there")
		}
	}
	work, err := os.MkdirTemp("", "widecrate-dav-*") // that the server's user may go into
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(work) })
	require.NoError(t, os.Chmod(work, 0o777))
	self, err := user.Current()
	require.NoError(t, err)
	name, group := self.Username, "nogroup"
	if os.Getuid() == 0 { // as which it does not run
		name = "nobody"
		writable(t, folder)
	}
	at := free(t)
	conf := filepath.Join(work, "conf")
	put(t, conf, fmt.Sprintf(apacheConf, work, at, folder, "/usr/lib/apache2/modules", name, group))
	server := exec.Command(program, "-d", work, "-f", conf, "-DFOREGROUND")
	server.Stderr = os.Stderr
	require.NoError(t, server.Start())
	t.Cleanup(func() {
		_ = server.Process.Signal(os.Interrupt)
		_ = server.Wait()
	})
	answers(t, at)
	return "http://" + at
}

// writable lets everybody write into a folder and all below it, and go there.
func writable(t *testing.T, folder string) {
	t.Helper()
	for dir := filepath.Dir(folder); dir != "/"; dir = filepath.Dir(dir) {
		if info, err := os.Stat(dir); err == nil && info.Mode().Perm()&0o001 == 0 {
			require.NoError(t, os.Chmod(dir, info.Mode().Perm()|0o011))
		}
	}
	require.NoError(t, filepath.WalkDir(folder, func(path string, d os.DirEntry, err error) error {
		if err == nil {
			err = os.Chmod(path, map[bool]os.FileMode{true: 0o777, false: 0o666}[d.IsDir()])
		}
		return err
	}))
}

// between passes on what goes to an address and comes from there, through what a link does to it,
// and returns the address at which it stands.
func between(t *testing.T, to string, link func(ctx context.Context, from, to net.Conn)) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	t.Cleanup(func() {
		cancel()
		l.Close()
	})
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("tcp", to)
			if err != nil {
				near.Close()
				continue
			}
			for _, way := range [][2]net.Conn{{near, far}, {far, near}} {
				go func() {
					defer near.Close()
					defer far.Close()
					link(ctx, way[0], way[1])
				}()
			}
		}
	}()
	return l.Addr().String()
}

// cutting is a link that breaks after so many bytes one way.
func cutting(bytes int64) func(ctx context.Context, from, to net.Conn) {
	return func(_ context.Context, from, to net.Conn) { _, _ = io.CopyN(to, from, bytes) }
}

// falling is a link that says nothing more after so many bytes one way.
func falling(bytes int64) func(ctx context.Context, from, to net.Conn) {
	return func(ctx context.Context, from, to net.Conn) {
		if n, _ := io.CopyN(to, from, bytes); n == bytes {
			<-ctx.Done()
		}
	}
}
