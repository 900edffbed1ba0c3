// Command kindred runs a gate, and talks to one that runs.
package main

import (
	"os"

	"kindredgate/internal/cli"
)

func main() { os.Exit(cli.Run(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
