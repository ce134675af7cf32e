// Command stop ends the PostgreSQL that the tests share, if it runs.
package main

import (
	"fmt"
	"os"

	"urgentis/internal/localdb"
	"urgentis/internal/testdb"
)

func main() {
	if err := localdb.StopAt(testdb.Dir()); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	if err := os.RemoveAll(testdb.Dir()); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}
