//go:build !linux

package systemtest

// InMemory does nothing: there is no such folder.
func InMemory() {}
