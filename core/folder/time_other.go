//go:build !windows

package folder

import (
	"os"
	"time"
)

// SetTime sets the time of a file or folder below base.
func SetTime(base *os.Root, at string, t time.Time) error { return base.Chtimes(at, t, t) }
