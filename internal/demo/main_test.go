package demo

import (
	"flag"
	"os"
	"testing"

	"urgentis/internal/testapi"
)

func TestMain(m *testing.M) {
	testapi.Check()
	flag.Parse()
	flag.Set("test.parallel", "4") //nolint:errcheck // it is there: they wait for longer than they work
	os.Exit(m.Run())
}
