//go:build linux && amd64

package main

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"widecrate/core/bent"
	"widecrate/demo"
)

// specimen is a small archive, and what is in it.
type specimen struct {
	name, line string
	sums       bool // every byte of the contents is under a checksum
	data       []byte
	want       tree
}

// mostMemory bounds what any archive may take, in bytes.
const mostMemory = 400 << 20

// specimens are archives of every format that is written here, and method.
var specimens = []*specimen{
	{name: "x.zip", line: "create x.zip in --top drop", sums: true},
	{name: "s.zip", line: "create s.zip in --top drop --level 0", sums: true},
	{name: "b.zip", line: "create b.zip in --top drop --method bzip2", sums: true},
	{name: "z.zip", line: "create z.zip in --top drop --method zstd", sums: true},
	{name: "m.zip", line: "create m.zip in --top drop --method xz", sums: true},
	{name: "l.zip", line: "create l.zip in --top drop --encrypt --password-file pw", sums: true},
	{name: "x.tar", line: "create x.tar in --top drop"},
	{name: "x.tar.gz", line: "create x.tar.gz in --top drop", sums: true},
	{name: "x.tar.bz2", line: "create x.tar.bz2 in --top drop", sums: true},
	{name: "x.tar.xz", line: "create x.tar.xz in --top drop", sums: true},
	{name: "x.tar.zst", line: "create x.tar.zst in --top drop", sums: true},
	{name: "x.tar.lz4", line: "create x.tar.lz4 in --top drop", sums: true},
	{name: "x.tar.zz", line: "create x.tar.zz in --top drop", sums: true},
	{name: "x.iso"},
}

// prepareBytes makes them, and sees what comes of each.
func (h *harness) prepareBytes() error {
	dir := filepath.Join(h.dir, "specimens")
	if err := furnish(dir); err != nil {
		return err
	}
	for path, data := range map[string]string{"in/big.bin": noise(3000, 3), "in/text.csv": strings.Repeat("2026-05-01,osk,2711\n", 100)} {
		if err := os.WriteFile(filepath.Join(dir, path), []byte(data), 0o644); err != nil {
			return err
		}
	}
	for _, s := range specimens {
		path := filepath.Join(dir, s.name)
		if s.line == "" {
			image := demo.Image([]demo.ImageFile{{Path: "day/levels.csv", Data: []byte("2711\n")}, {Path: "big.bin", Data: []byte(noise(3000, 3))}}, demo.RockRidge)
			if err := os.WriteFile(path, image, 0o644); err != nil {
				return err
			}
		} else if code, printed := h.command(dir, s.line); code != 0 {
			return fmt.Errorf("%s: %s", s.line, printed)
		}
		var err error
		if s.data, err = os.ReadFile(path); err != nil {
			return err
		}
		code, now, printed, err := h.unpack(s, s.data)
		if err != nil || code != 0 {
			return fmt.Errorf("%s: %w %s", s.name, err, printed)
		}
		s.want = now
	}
	return nil
}

// unpack writes the data of a specimen, unpacks it, and makes sure that nothing came to
// lie outside.
func (h *harness) unpack(s *specimen, data []byte) (code int, now tree, printed string, err error) {
	dir, err := os.MkdirTemp(h.dir, "bytes-")
	if err != nil {
		return 0, nil, "", err
	}
	defer os.RemoveAll(dir)
	for name, content := range map[string][]byte{s.name: data, "pw": []byte("tide\n")} {
		if err := os.WriteFile(filepath.Join(dir, name), content, 0o644); err != nil {
			return 0, nil, "", err
		}
	}
	began := time.Now()
	r := h.during(dir, "extract "+s.name+" --into out --layout shared --password-file pw --max-total 100M", func(*exec.Cmd) {}, func(*os.Process) {})
	code, printed = r.code, r.output
	if took := time.Since(began); took > 20*time.Second || r.memory > mostMemory {
		return code, nil, printed, fmt.Errorf("it took %s, and %d bytes of memory", took, r.memory)
	}
	around, hidden, err := look(dir)
	if err != nil {
		return code, nil, printed, err
	}
	for at := range around {
		if at != s.name && at != "pw" && at != "out/" && !strings.HasPrefix(at, "out/") {
			return code, nil, printed, fmt.Errorf("%s came to lie outside", at)
		}
	}
	if len(hidden) > 0 {
		return code, nil, printed, fmt.Errorf("%s was left", strings.Join(hidden, ", "))
	}
	now, _, err = look(filepath.Join(dir, "out"))
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return code, now, printed, err
}

// flip changes or cuts a specimen. The run fails then, or what it puts there is right;
// what is under no checksum may differ.
func (h *harness) flip(random *rand.Rand) error {
	s := specimens[random.IntN(len(specimens))]
	data := bytes.Clone(s.data)
	how := ""
	switch random.IntN(6) {
	case 0:
		data = data[:random.IntN(len(data))]
		how = fmt.Sprintf("cut to %d of %d bytes", len(data), len(s.data))
	case 1:
		at, bit := random.IntN(len(data)), random.IntN(8)
		data[at] ^= 1 << bit
		how = fmt.Sprintf("bit %d of byte %d flipped", bit, at)
	case 2:
		at := random.IntN(len(data))
		for i := at; i < min(at+1+random.IntN(8), len(data)); i++ {
			data[i] = byte(random.IntN(256))
		}
		how = fmt.Sprintf("bytes from %d overwritten: %x", at, data[at:min(at+8, len(data))])
	case 3:
		at, more := random.IntN(len(data)), 1+random.IntN(600)
		data = append(data[:at], data[min(at+more, len(data)):]...)
		how = fmt.Sprintf("%d bytes missing at %d", more, at)
	default:
		data, how = bent.Change(random, data)
	}
	code, now, printed, err := h.unpack(s, data)
	switch {
	case err != nil:
	case code < 0, code == 1, code == 2, strings.Contains(printed, "goroutine "):
		err = fmt.Errorf("it ended with %d: %s", code, printed)
	case code != 0 && len(now) > 0 && !strings.Contains(printed, "is not a method that"): // else the others are taken
		err = fmt.Errorf("it ended with %d, and left something: %s: %s", code, now.differs(tree{}), printed)
	case code != 0:
		h.ended("bytes")
	case s.sums:
		// Names of folders and kinds have no checksum in a ZIP. Kinds are noticed by the data.
		for at, content := range s.want {
			if now[at] == "→ "+content && !strings.Contains(content, "\n") {
				now[at] = content
			}
		}
		if wrong := now.data().differs(s.want.data()); wrong != "" {
			err = fmt.Errorf("it ended with 0, and this is wrong: %s", wrong)
		}
	}
	if err != nil {
		return fmt.Errorf("%s, %s: %w", s.name, how, err)
	}
	return nil
}
