//go:build !unix

package main

import "os"

// peak is not known on this system.
func peak(*os.ProcessState) int64 { return 0 }
