package server

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTheEscapeOfNULIsFoundAndNothingElse(t *testing.T) {
	for body, is := range map[string]bool{
		`{"a":"x\u0000"}`: true, `"\u0000"`: true, `"\\\u0000"`: true,
		`"\\u0000"`: false, `"\u0001"`: false, `"\u00`: false, `"\\\\u0000"`: false, ``: false,
	} {
		assert.Equal(t, is, writtenNUL([]byte(body)), body)
	}
}
