package standin

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"
)

// Password is what the user tide may come in with instead of a key.
const Password = "low water"

// An SSH server has the files of this machine, for whoever has its key: for demonstrations and
// tests, on this machine alone.
type SSH struct {
	Address    string // of the root folder, without a slash at its end
	Identity   string // file of the key that it lets in
	KnownHosts string // file that says which key the server has
	Port       string

	Connections atomic.Int64 // that were made

	host     ssh.Signer
	listener net.Listener
	config   ssh.ServerConfig
	mu       sync.Mutex
	open     map[net.Conn]bool
}

// StartSSH serves on a free port, with keys in a folder, until it is stopped.
func StartSSH(keys string) (*SSH, error) {
	s := &SSH{Identity: filepath.Join(keys, "own"), KnownHosts: filepath.Join(keys, "known"), open: map[net.Conn]bool{}}
	_, hostKey, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	s.host, err = ssh.NewSignerFromKey(hostKey)
	if err != nil {
		return nil, err
	}
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err == nil {
		err = os.WriteFile(s.Identity, pem.EncodeToMemory(block), 0o600)
	}
	if err != nil {
		return nil, err
	}
	own, err := ssh.NewPublicKey(public)
	if err != nil {
		return nil, err
	}
	s.config.PublicKeyCallback = func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
		if string(key.Marshal()) != string(own.Marshal()) {
			return nil, fmt.Errorf("another key")
		}
		return nil, nil
	}
	s.config.PasswordCallback = func(c ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
		if c.User() != "tide" || string(password) != Password {
			return nil, fmt.Errorf("another password")
		}
		return nil, nil
	}
	s.config.AddHostKey(s.host)
	if s.listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return nil, err
	}
	at := s.listener.Addr().String()
	s.Address = "sftp://tide@" + at
	if _, s.Port, err = net.SplitHostPort(at); err == nil {
		err = os.WriteFile(s.KnownHosts, []byte(s.Known(at)+"\n"), 0o666)
	}
	if err != nil {
		s.Stop()
		return nil, err
	}
	go s.serve()
	return s, nil
}

// Known is the line for another address at which the server is seen.
func (s *SSH) Known(at string) string {
	return knownhosts.Line([]string{knownhosts.Normalize(at)}, s.host.PublicKey())
}

// Stop ends the server, and all connections.
func (s *SSH) Stop() {
	s.listener.Close()
	s.Drop()
}

// Drop breaks all connections.
func (s *SSH) Drop() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for conn := range s.open {
		conn.Close()
	}
}

func (s *SSH) serve() {
	for {
		conn, err := s.listener.Accept()
		if err != nil {
			return
		}
		s.Connections.Add(1)
		s.mu.Lock()
		s.open[conn] = true
		s.mu.Unlock()
		go func() {
			s.talk(conn)
			conn.Close()
			s.mu.Lock()
			delete(s.open, conn)
			s.mu.Unlock()
		}()
	}
}

// talk serves the file transfer protocol on a connection.
func (s *SSH) talk(conn net.Conn) {
	_, channels, requests, err := ssh.NewServerConn(conn, &s.config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for channel := range channels {
		if channel.ChannelType() != "session" {
			_ = channel.Reject(ssh.UnknownChannelType, "only sessions")
			continue
		}
		stream, asked, err := channel.Accept()
		if err != nil {
			return
		}
		go func() {
			for request := range asked {
				is := request.Type == "subsystem" && string(request.Payload[4:]) == "sftp"
				_ = request.Reply(is, nil)
				if is {
					go func() {
						defer stream.Close()
						if server, err := sftp.NewServer(stream); err == nil {
							_ = server.Serve() // it ends with the connection
						}
					}()
				}
			}
		}()
	}
}
