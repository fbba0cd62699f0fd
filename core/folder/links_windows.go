package folder

import (
	"errors"

	"golang.org/x/sys/windows"
)

// NoLinks reports whether a symbolic link could not be made because the file system
// has none, or the user lacks the right to make them.
func NoLinks(err error) bool {
	return errors.Is(err, windows.ERROR_PRIVILEGE_NOT_HELD) || errors.Is(err, windows.ERROR_NOT_SUPPORTED) || errors.Is(err, windows.ERROR_INVALID_FUNCTION)
}
