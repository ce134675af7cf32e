package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"urgentis/internal/store"
)

func TestWhereADatabaseGoesOn(t *testing.T) {
	heard := time.Date(2031, 3, 1, 2, 0, 0, 0, time.UTC)
	before := store.LogMark{Began: heard.Add(-time.Hour), At: 700}
	server := func(began time.Duration, start, at int64) store.Server {
		return store.Server{LogMark: store.LogMark{Began: heard.Add(began), At: at}, Start: start}
	}
	after := func(marks ...store.LogMark) *dbSeen {
		d := &dbSeen{heard: heard}
		assert.False(t, d.lost(server(-time.Hour, 100, 200)), "nothing was seen before")
		d.goOnWith(server(-time.Hour, 100, 200))
		for _, m := range marks {
			d.saw(m)
		}
		return d
	}
	assert.False(t, after(before).lost(server(time.Second, 700, 900)))
	assert.True(t, after(before).lost(server(time.Second, 699, 900)), "what others wrote since does not hide it")
	assert.False(t, after(before).lost(server(-24*time.Hour, 100, 900)), "it stood by, and has it all")
	assert.True(t, after(before).lost(server(-24*time.Hour, 100, 699)), "it stood by, and was behind")
	anew := store.LogMark{Began: heard.Add(time.Second), At: 900}
	assert.False(t, after(before, anew).lost(server(time.Second, 700, 900)),
		"a run wrote to the new server before this instance compared it")
	d := after(before)
	d.goOnWith(server(time.Second, 700, 900))
	d.saw(anew)
	d.saw(before)
	assert.True(t, d.lost(server(time.Minute, 899, 899)))
}
