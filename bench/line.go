package main

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"widecrate/core/archive"
	"widecrate/core/format/tar"
	"widecrate/demo/standin"
)

// What a line is held to.
const (
	lineRate  = 50e6 // bytes a second, each way
	lineDelay = 10 * time.Millisecond
	lineQueue = 20 * time.Millisecond // what waits in front of it, so that it is not idle when this process is late
)

// A way is one direction of a line, shared by all connections.
type way struct {
	sync.Mutex
	free time.Time // when the next byte can leave
}

// leaves is when so many bytes have left.
func (w *way) leaves(n int) time.Time {
	w.Lock()
	defer w.Unlock()
	if now := time.Now(); w.free.Before(now) {
		w.free = now
	}
	w.free = w.free.Add(time.Duration(float64(n) / lineRate * float64(time.Second)))
	return w.free
}

// paced stands in front of a server, like a line of that rate and delay, and returns its address.
// The kernels here cannot do that themselves.
func paced(to string) (at string, stop func()) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	must(err)
	var there, back way
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("tcp", to)
			must(err)
			go pace(near, far, &there)
			go pace(far, near, &back)
		}
	}()
	return l.Addr().String(), func() { l.Close() }
}

// pace passes bytes on, each a while after it came. As much is under way as a line of that rate and
// delay holds, and as much again in its buffers.
func pace(from, to net.Conn, w *way) {
	type packet struct {
		data []byte
		due  time.Time
	}
	const size = 16 << 10
	under := make(chan packet, int(4*lineRate*lineDelay.Seconds())/size)
	go func() {
		defer close(under)
		for {
			p := packet{data: make([]byte, size)}
			n, err := from.Read(p.data)
			if n > 0 {
				left := w.leaves(n)
				p.data, p.due = p.data[:n], left.Add(lineDelay)
				under <- p
				time.Sleep(time.Until(left) - lineQueue)
			}
			if err != nil {
				return
			}
		}
	}()
	for p := range under {
		time.Sleep(time.Until(p.due))
		if _, err := to.Write(p.data); err != nil {
			break
		}
	}
	to.Close()
	from.Close()
}

// A server is what a line leads to.
type server struct {
	address string   // of the folder of the benchmark, with a slash at its end
	options []string // that let the program in
	get     func(names []string, at int)
	stop    func()
}

// overHTTP and overSFTP are servers behind a line, with a plain client for each.
func overHTTP(b *bench) server {
	s := &standin.Server{Folder: b.dir, Index: true}
	address, stop, err := s.Start()
	must(err)
	at, end := paced(address[len("http://") : len(address)-1])
	base := "http://" + at + "/"
	get := func(names []string, connections int) {
		client := http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: connections}}
		together(names, connections, func(name string) {
			answer, err := client.Get(base + name)
			must(err)
			_, err = io.Copy(io.Discard, answer.Body)
			must(err)
			answer.Body.Close()
		})
	}
	return server{base, nil, get, func() { end(); stop() }}
}

func overSFTP(b *bench) server {
	keys := filepath.Join(b.dir, "keys")
	must(os.MkdirAll(keys, 0o700))
	s, err := standin.StartSSH(keys)
	must(err)
	at, end := paced("127.0.0.1:" + s.Port)
	must(os.WriteFile(s.KnownHosts, []byte(s.Known(at)+"\n"), 0o600))
	text, err := os.ReadFile(s.Identity)
	must(err)
	key, err := ssh.ParsePrivateKey(text)
	must(err)
	get := func(names []string, connections int) {
		conn, err := ssh.Dial("tcp", at, &ssh.ClientConfig{User: "tide", Auth: []ssh.AuthMethod{ssh.PublicKeys(key)}, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
		must(err)
		client, err := sftp.NewClient(conn)
		must(err)
		together(names, connections, func(name string) {
			f, err := client.Open(filepath.Join(b.dir, name))
			must(err)
			_, err = f.WriteTo(io.Discard)
			must(err)
			f.Close()
		})
		conn.Close()
	}
	return server{"sftp://tide@" + at + filepath.ToSlash(b.dir) + "/", []string{"--identity", s.Identity, "--known-hosts", s.KnownHosts}, get, func() { end(); s.Stop() }}
}

// together gets files, several at a time.
func together(names []string, several int, get func(name string)) {
	var workers sync.WaitGroup
	for w := range several {
		workers.Go(func() {
			for i := w; i < len(names); i += several {
				get(names[i])
			}
		})
	}
	workers.Wait()
}

// lineWhole unpacks an archive behind a line, against a plain download of it.
func lineWhole(over func(*bench) server, name string, fill func(path string)) func(*bench) result {
	return func(b *bench) result {
		path, out := filepath.Join(b.dir, name), filepath.Join(b.dir, "out")
		fill(path)
		defer os.Remove(path)
		s := over(b)
		defer s.stop()
		return b.pair(remover(out), func() { s.get([]string{name}, 1) }, append([]string{"extract", s.address + name, "--into", out, "-q"}, s.options...)...)
	}
}

// lineList lists a plain tar behind a line, against a plain download of it.
func lineList(over func(*bench) server) func(*bench) result {
	return func(b *bench) result {
		const members, size = 1000, 200 << 10
		path := filepath.Join(b.dir, "readings.tar")
		data := table(rand.New(rand.NewPCG(9, 9)), size)
		f, err := os.Create(path)
		must(err)
		w := tar.NewWriter(f)
		for i := range members {
			_, err := w.Add(archive.Entry{Path: fmt.Sprintf("day-%04d.csv", i), Size: int64(len(data)), Modified: time.Unix(1_777_000_000, 0)}, bytes.NewReader(data))
			must(err)
		}
		must(w.Close())
		must(f.Close())
		defer os.Remove(path)
		s := over(b)
		defer s.stop()
		return b.pair(func() {}, func() { s.get([]string{"readings.tar"}, 1) }, append([]string{"inspect", s.address + "readings.tar", "-q"}, s.options...)...)
	}
}

// lineSmall unpacks a folder of small archives behind a line, against a plain client that gets
// them with as many connections as the program has.
func lineSmall(over func(*bench) server) func(*bench) result {
	return func(b *bench) result {
		const archives, connections = 1000, 4
		out, in := filepath.Join(b.dir, "out"), filepath.Join(b.dir, "in")
		must(os.MkdirAll(in, 0o777))
		defer os.RemoveAll(in)
		r := rand.New(rand.NewPCG(8, 8))
		var names []string
		for a := range archives {
			name := fmt.Sprintf("in/day-%04d.zip", a)
			write(filepath.Join(b.dir, name), func(add func(string, []byte)) { add("levels.csv", table(r, 60<<10)) })
			names = append(names, name)
		}
		s := over(b)
		defer s.stop()
		return b.pair(remover(out), func() { s.get(names, connections) }, append([]string{"extract", s.address + "in/", "--into", out, "-q"}, s.options...)...)
	}
}
