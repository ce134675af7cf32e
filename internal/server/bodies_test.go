package server

import (
	"context"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestRoomForBodies(t *testing.T) {
	r := newRoom()
	one, two := netip.MustParsePrefix("10.0.0.1/32"), netip.MustParsePrefix("2001:db8::/64")
	soon, cancel := context.WithTimeout(context.Background(), 20*time.Millisecond)
	defer cancel()
	assert.True(t, r.take(soon, one, roomForEach))
	assert.False(t, r.take(soon, one, 1), "one network has its part, and no more")
	assert.True(t, r.take(context.Background(), two, roomForEach), "another is not kept out")
	done := make(chan bool)
	go func() { done <- r.take(context.Background(), one, roomForEach) }()
	r.giveBack(one, roomForEach)
	assert.True(t, <-done, "whoever waits goes on as room is given back")
	r.giveBack(one, roomForEach)
	r.giveBack(two, roomForEach)
	assert.Zero(t, r.used)
	assert.Empty(t, r.by)
}
