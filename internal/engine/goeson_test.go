package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"urgentis/internal/store"
)

func TestWhereADatabaseGoesOn(t *testing.T) {
	heard := time.Date(2031, 3, 1, 2, 0, 0, 0, time.UTC)
	d := &dbSeen{began: heard.Add(-time.Hour), heard: heard}
	began := store.Server{Began: heard.Add(time.Second), Start: 700, Mark: 900}
	assert.EqualValues(t, 700, d.goesOn(began), "what others wrote since it recovered does not hide what is gone")
	stood := store.Server{Began: heard.Add(-24 * time.Hour), Start: 700, Mark: 900}
	assert.EqualValues(t, 900, d.goesOn(stood), "its last checkpoint may be older than what it has")
}
