package need_test

import (
	"log/slog"
	"testing"

	"github.com/stretchr/testify/assert"

	"urgentis/internal/need"
)

type part struct {
	Inner string `need:"yes"`
}

type config struct {
	Log  *slog.Logger `need:"yes"`
	Part *part        `need:"yes"`
	Link string       `need:"yes"`
	Most int
}

func TestAll(t *testing.T) {
	whole := config{Log: slog.Default(), Part: &part{}, Link: "http://u"}
	assert.NoError(t, need.All("a part", whole), "what is in a part is that part's matter")
	assert.EqualError(t, need.All("a part", config{Log: slog.Default()}), "a part cannot do without Part, Link")
}
