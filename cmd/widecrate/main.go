// Command widecrate unpacks, inspects and makes archives, many at a time.
package main

import (
	"os"

	"widecrate/cli"
)

func main() { os.Exit(cli.Program()) }
