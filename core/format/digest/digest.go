// Package digest compares the data of files with the sums that a package has of them.
package digest

import (
	"encoding/hex"
	"hash"
	"io"

	"widecrate/core/fault"
)

// A Check is a sum that data must have. The zero value accepts everything.
type Check struct {
	Name string // of the algorithm, for people
	Hash hash.Hash
	Want string // in hexadecimal digits, lower case
}

// Take takes what a read gave, and returns its error, or at the end of the data one of
// kind fault.Damaged where the sum is another.
func (c *Check) Take(p []byte, err error) error {
	if c.Hash == nil {
		return err
	}
	c.Hash.Write(p) // never fails
	if err != io.EOF {
		return err
	}
	got := hex.EncodeToString(c.Hash.Sum(nil))
	c.Hash = nil
	if got != c.Want {
		return fault.New(fault.Damaged, "its data has the %s sum %s where the package says %s", c.Name, got, c.Want)
	}
	return err
}
