//go:build !linux && !windows && !darwin

package folder

import "errors"

// moveExclusive would move a file to a path where nothing is, by one call of the
// system: there is none.
func moveExclusive(from, to string) error { return errors.ErrUnsupported }
