package elsewhere

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"maps"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widecrate/core/systemtest"
)

// nginxConf has a location for each way in which a server can be set up.
const nginxConf = `
daemon off; master_process off; error_log %[1]s/error.log; pid %[1]s/pid; %[4]s
events { worker_connections 64; }
http {
  access_log off; default_type application/octet-stream;
  client_body_temp_path %[1]s/t1; proxy_temp_path %[1]s/t2; fastcgi_temp_path %[1]s/t3; uwsgi_temp_path %[1]s/t4; scgi_temp_path %[1]s/t5;
  server {
    listen %[2]s; listen %[3]s ssl; ssl_certificate %[1]s/cert.pem; ssl_certificate_key %[1]s/key.pem;
    location /good/ { alias %[5]s/; }
    location /list/ { alias %[5]s/; autoindex on; }
    location /json/ { alias %[5]s/; autoindex on; autoindex_format json; }
    location /xml/ { alias %[5]s/; autoindex on; autoindex_format xml; }
    location /untagged/ { alias %[5]s/; etag off; if_modified_since off; }
    location /whole/ { alias %[5]s/; max_ranges 0; }
    location /one/ { alias %[5]s/; max_ranges 1; }
    location /locked/ { alias %[5]s/; auth_basic "gauges"; auth_basic_user_file %[1]s/users; }
    location /moved/ { rewrite ^/moved/(.*)$ http://%[2]s/good/$1 redirect; }
    location /slow/ { alias %[5]s/; limit_rate 2m; }
    location /mute/ { return 444; }
    location /cut/ { proxy_pass http://%[2]s/crawl/; proxy_read_timeout 300ms; proxy_buffering off; }
    location /crawl/ { alias %[5]s/; limit_rate 100k; limit_rate_after 200k; }
  }
}
`

// startNginx runs a real server with the files of a folder.
func startNginx(t *testing.T, folder string) (plain, secure, ca string) {
	t.Helper()
	systemtest.Long(t, "a server that it starts")
	nginx, err := exec.LookPath("nginx")
	if err != nil {
		nginx = "/usr/sbin/nginx"
		if _, err := os.Stat(nginx); err != nil {
			t.Skip("nginx is not there")
		}
	}
	work := t.TempDir()
	ca = certificate(t, work)
	put(t, filepath.Join(work, "users"), "tide:{PLAIN}gauge\n")
	plain, secure = free(t), free(t)
	user := ""
	if os.Getuid() == 0 {
		user = "user root;"
	}
	conf := filepath.Join(work, "nginx.conf")
	put(t, conf, fmt.Sprintf(nginxConf, work, plain, secure, user, folder))
	server := exec.Command(nginx, "-p", work, "-c", conf)
	server.Stderr = os.Stderr
	require.NoError(t, server.Start())
	t.Cleanup(func() {
		_ = server.Process.Kill()
		_ = server.Wait()
	})
	answers(t, plain)
	return "http://" + plain + "/", "https://" + secure + "/", ca
}

// free is an address of this machine on which nobody listens.
func free(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

// certificate makes one for this machine, signed by itself.
func certificate(t *testing.T, dir string) (file string) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "tidewatch"}, NotAfter: time.Now().Add(time.Hour),
		IsCA: true, BasicConstraintsValid: true, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	cert, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	file = filepath.Join(dir, "cert.pem")
	put(t, file, string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: cert})))
	put(t, filepath.Join(dir, "key.pem"), string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})))
	return file
}

// A real server, set up in every way that it can be, gives the same trees.
func TestRealServer(t *testing.T) {
	dir := month(t)
	plain, secure, ca := startNginx(t, dir)
	netrc := filepath.Join(t.TempDir(), "netrc")
	put(t, netrc, "machine 127.0.0.1\nlogin tide\npassword gauge\n")
	sources := []string{"web/all.zip", "web/all.tar", "web/all.tar.gz"}
	want := map[string]map[string]string{}
	for _, source := range sources {
		out := filepath.Join(t.TempDir(), "out")
		_, stderr, code := run(t, dir, "extract", source, "--into", out, "-q")
		require.Zero(t, code, stderr)
		want[source] = tree(t, out)
	}
	t.Setenv("NETRC", netrc)
	for _, base := range []string{plain + "good/", plain + "untagged/", plain + "whole/", plain + "one/", plain + "locked/", plain + "moved/", plain + "slow/", plain + "cut/", secure + "good/"} {
		for _, source := range sources {
			t.Run(base[len("http://127.0.0.1:")+5:]+source, func(t *testing.T) {
				out := filepath.Join(t.TempDir(), "out")
				_, stderr, code := run(t, dir, "extract", base+source, "--into", out, "-q", "--ca-file", ca)
				require.Zero(t, code, stderr)
				assert.True(t, maps.Equal(want[source], tree(t, out)))
			})
		}
	}
	for name, c := range map[string]struct {
		address, want string
	}{
		"unknown certificate": {secure + "good/web/all.zip", "its certificate is not trusted"},
		"no answer":           {plain + "mute/web/all.zip", "there is no answer"},
		"not there":           {plain + "good/none.zip", "404 Not Found"},
		"a list of files":     {plain + "good/web", "end the address with a slash"},
	} {
		_, stderr, code := run(t, dir, "inspect", c.address, "--retries", "0")
		assert.Equal(t, 8, code, name)
		assert.Contains(t, stderr, c.want, name)
	}
	t.Setenv("NETRC", filepath.Join(t.TempDir(), "none"))
	_, stderr, code := run(t, dir, "inspect", plain+"good/web/all.zip")
	assert.Equal(t, 8, code, stderr)
	put(t, netrc, "machine 127.0.0.1\nlogin tide\npassword wrong\n")
	t.Setenv("NETRC", netrc)
	_, stderr, code = run(t, dir, "inspect", plain+"locked/web/all.zip")
	assert.Equal(t, 8, code)
	assert.Contains(t, stderr, "401 Unauthorized")
	assert.NotContains(t, stderr, "wrong")
}
