package demo

import (
	"os"
	"testing"

	"urgentis/internal/testapi"
)

func TestMain(m *testing.M) {
	testapi.Check()
	os.Exit(m.Run())
}
