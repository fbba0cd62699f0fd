// Package claim gives a name on the disk to one process at a time, also where several
// hosts share a file system. A claim ends with its process, however that ends.
package claim

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"time"
)

// Holder is a process.
type Holder struct {
	Host string `json:"host"`
	PID  int    `json:"pid"`
}

// HeldError says who has a name.
type HeldError struct{ Holder }

func (e *HeldError) Error() string {
	if e.PID == 0 {
		return "another process has it"
	}
	return fmt.Sprintf("process %d on %s has it", e.PID, e.Host)
}

// A Claim is a name that this process has.
type Claim struct {
	path string
	file *os.File
	stop func() // the heartbeat
}

// Take takes the name, which becomes that of a file until it is released, or fails at
// once with a HeldError.
func Take(path string) (*Claim, error) {
	self := Holder{PID: os.Getpid()}
	var err error
	if self.Host, err = os.Hostname(); err != nil {
		return nil, err
	}
	for {
		file, err := open(path)
		if leaving(err) { // whoever had the name is just removing the file
			return nil, &HeldError{}
		}
		if err != nil {
			return nil, err
		}
		c := &Claim{path: path, file: file}
		if err := c.check(); err != nil {
			file.Close()
			return nil, err
		}
		if err := Lock(file); err != nil {
			if Held(err) {
				err = &HeldError{c.holder()}
			}
			file.Close()
			return nil, err
		}
		still, err := c.isThere()
		if err == nil && still {
			err = c.write(self)
		}
		if err != nil || !still {
			file.Close()
		}
		switch {
		case err != nil:
			return nil, err
		case still:
			c.stop = Beat(file)
			return c, nil
		}
	}
}

// open opens the file of a name, or makes it. What a link leads to is not made.
func open(path string) (*os.File, error) {
	for {
		file, err := os.OpenFile(path, os.O_RDWR, 0)
		if !os.IsNotExist(err) {
			return file, err
		}
		if file, err = os.OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o666); !os.IsExist(err) {
			return file, err
		}
		if there, missing := os.Lstat(path); missing == nil && !there.Mode().IsRegular() {
			return nil, fmt.Errorf("%s is not a file of a run: remove it", path)
		}
	}
}

// check makes sure that the file is a regular one, and no link leads to it: who may write to the folder
// could have put anything under the name.
func (c *Claim) check() error {
	ours, err := c.file.Stat()
	if err != nil {
		return err
	}
	there, err := os.Lstat(c.path)
	if os.IsNotExist(err) { // whoever had the name has just removed the file
		return nil
	}
	if err == nil && (!ours.Mode().IsRegular() || !there.Mode().IsRegular()) { // another file is by whoever is next
		err = fmt.Errorf("%s is not a file of a run: remove it", c.path)
	}
	return err
}

// isThere reports whether the file that was locked still has the name: whoever had it
// may have removed it in between.
func (c *Claim) isThere() (bool, error) {
	ours, err := c.file.Stat()
	if err != nil {
		return false, err
	}
	there, err := os.Lstat(c.path)
	if os.IsNotExist(err) {
		return false, nil
	}
	return err == nil && os.SameFile(ours, there), err
}

// holder is who has written the file; zero: nobody.
func (c *Claim) holder() (h Holder) {
	text, err := os.ReadFile(c.path)
	if err != nil || json.Unmarshal(text, &h) != nil {
		return Holder{}
	}
	return h
}

// write makes the file that of this process, unless one on another host is alive.
func (c *Claim) write(self Holder) error {
	if h := c.holder(); h.PID != 0 && h.Host != self.Host {
		silent, err := c.silent()
		if err != nil {
			return err
		}
		if !silent {
			return &HeldError{h}
		}
	}
	text, err := json.Marshal(self)
	if err == nil {
		err = c.file.Truncate(0)
	}
	if err == nil {
		_, err = c.file.WriteAt(text, 0)
	}
	return err
}

// silent reports whether nobody has touched the file for long, by the clock of its file
// system.
func (c *Claim) silent() (bool, error) {
	info, err := c.file.Stat()
	if err != nil {
		return false, err
	}
	probe, err := os.CreateTemp(filepath.Dir(c.path), filepath.Base(c.path)+"-*")
	if err != nil {
		return false, err
	}
	defer os.Remove(probe.Name())
	defer probe.Close()
	now, err := probe.Stat()
	if err != nil {
		return false, err
	}
	return Silent(info, now.ModTime()), nil
}

// Release gives the name back, and removes the file.
func (c *Claim) Release() {
	c.stop()
	early := os.Remove(c.path) // while it is locked, where a file that is open can be removed
	c.file.Close()
	// Those who try to take the name have the file open for a moment; one who has it, for longer.
	for tries := 0; early != nil && !os.IsNotExist(early) && tries < 20; tries++ {
		time.Sleep(time.Millisecond)
		early = os.Remove(c.path)
	}
}

// patience bounds how long Together waits: a process that was stopped must not stop all
// others.
const patience = 5 * time.Second

// Together does something that others must not do at the same time, as far as the file
// system can tell them, and as long as none of them takes very long.
func Together(f *os.File, do func() error) error {
	for began := time.Now(); time.Since(began) < patience; time.Sleep(time.Millisecond) {
		err := Lock(f)
		if err == nil {
			defer unlock(f)
		}
		if err == nil || !Held(err) {
			break
		}
	}
	return do()
}
