// The hmule command keeps background jobs: it is the service, its client and
// the demo in one program.
package main

import (
	"os"

	"humblemule.example/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr)) }
