// Command widecrate unpacks, inspects and makes archives, many at a time.
package main

import (
	"os"

	"widecrate/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr)) }
