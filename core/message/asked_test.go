package message

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestWhatComesNextForATicketWithoutANumber(t *testing.T) {
	now := time.Date(2026, 3, 7, 2, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		status int
		as     AskedAs
		next   ToDo
	}{
		{200, AskedTaken, FindIt}, {201, AskedTaken, FindIt}, {204, AskedTaken, FindIt},
		{302, AskedNever, OpenIt}, {400, AskedNever, OpenIt}, {401, AskedNever, OpenIt}, {429, AskedNever, OpenIt},
		{408, AskedUnsure, FindIt}, {409, AskedUnsure, FindIt}, {500, AskedUnsure, FindIt}, {503, AskedUnsure, FindIt},
	} {
		a := AskedWith(c.status)
		assert.Equal(t, c.as, a.As, c.status)
		assert.Equal(t, c.next, a.Next(true), c.status)
		if c.next == FindIt {
			assert.Equal(t, LeaveIt, a.Next(false), c.status)
		}
		once := a.None(now)
		assert.Equal(t, c.as, once.As, "%d: the search there may lag behind", c.status)
		assert.Equal(t, c.as, once.None(now.Add(59*time.Second)).As, c.status)
		want := c.as
		if want == AskedUnsure {
			want = AskedNever
		}
		assert.Equal(t, want, once.None(now.Add(time.Minute)).As, c.status)
	}
}
