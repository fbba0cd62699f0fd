//go:build !linux && !windows

package folder

// patient does something once: only Windows keeps files that others have open.
func patient(do func() error) error { return do() }

// makeReplaceable has nothing to do: any file can be replaced.
func makeReplaceable(string) {}
