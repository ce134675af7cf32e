package listen

import (
	"bytes"
	"errors"
	"log/slog"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// A disk that cannot be written is complained of once a minute, with how often.
func TestADiskIsComplainedOfSeldom(t *testing.T) {
	var log bytes.Buffer
	q := &queue{source: "hosts", log: slog.New(slog.NewTextHandler(&log, nil))}
	for range 4000 {
		q.complain(errors.New("no space left on device"))
	}
	assert.Equal(t, 1, strings.Count(log.String(), "no space left"))
	q.said = q.said.Add(-time.Hour)
	q.complain(errors.New("no space left on device"))
	assert.Contains(t, log.String(), "times=4000")
}
