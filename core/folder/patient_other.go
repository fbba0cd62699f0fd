//go:build !windows

package folder

// Patient does something once: only Windows keeps files that others have open.
func Patient(do func() error) error { return do() }

// Movable has nothing to look at: any file can be moved.
func (h Handle) Movable(string) error { return nil }

// Unlock has nothing to do: any file can be replaced.
func Unlock(string) (lock func()) { return func() {} }
