// Command widecrate unpacks, inspects and makes archives, many at a time.
package main

import (
	"os"
	"runtime"

	"widecrate/cli"
)

func main() {
	// Garbage up to this size is not worth collecting: with small files that would
	// be a tenth of the time. It is address space only.
	ballast := make([]byte, 16<<20)
	code := cli.Main(os.Args[1:], os.Stdout, os.Stderr)
	runtime.KeepAlive(ballast)
	os.Exit(code)
}
