// Command twinning is the service, its client and the offline reconciliation.
package main

import (
	"os"

	"twinning/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
