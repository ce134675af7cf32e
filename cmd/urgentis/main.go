// Command urgentis is the service and its command-line client.
package main

import (
	"os"

	"urgentis/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
