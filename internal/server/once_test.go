package server_test

import (
	"context"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/access"
	"urgentis/internal/testdb"
)

// Whoever leaves in the moment in which the identity of what they ask for is noted has it done, and hears of it when
// they ask again: noted and not done, it would be known to nobody.
func TestWhoeverLeavesAsTheirRequestIsNotedHasItDone(t *testing.T) {
	s := start(t)
	token := s.token(access.Responder)
	const body = `{"title": "Mooring line parted", "severity": "major"}`
	db := testdb.SQL(s.Store)
	held := db.Begin()
	require.NoError(t, held.Exec("lock table heard_id in share mode").Error)
	waiting := func() bool {
		var n int
		require.NoError(t, db.Raw(`select count(*) from pg_stat_activity where datname = current_database()
			and wait_event_type = 'Lock' and query like 'insert into heard_id%'`).Scan(&n).Error)
		return n > 0
	}

	ctx, leave := context.WithCancel(context.Background())
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, s.Link+"/api/v1/incidents", strings.NewReader(body))
	require.NoError(t, err)
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Authorization", "Bearer "+token)
	req.Header.Set("Idempotency-Key", "mine")
	left := make(chan error, 1)
	go func() {
		res, err := http.DefaultClient.Do(req)
		if err == nil {
			res.Body.Close()
		}
		left <- err
	}()
	require.Eventually(t, waiting, time.Minute, 5*time.Millisecond)
	leave()
	require.ErrorIs(t, <-left, context.Canceled)
	for until := time.Now().Add(time.Second); waiting() && time.Now().Before(until); {
		time.Sleep(10 * time.Millisecond) // the service may notice that they left; nothing says when it did
	}
	require.NoError(t, held.Commit().Error)
	// Who asks again is not to overtake it.
	require.Eventually(t, func() bool { return !waiting() }, time.Minute, 5*time.Millisecond)

	require.Eventually(t, func() bool {
		code, head, said := s.do(http.MethodPost, "/api/v1/incidents", body, "Authorization", "Bearer "+token,
			"Idempotency-Key", "mine")
		if code == http.StatusConflict {
			return false // it is being done
		}
		assert.Equal(t, http.StatusCreated, code, said)
		assert.Equal(t, "true", head.Get("Idempotent-Replayed"), said)
		return true
	}, time.Minute, 20*time.Millisecond)
	var n int
	require.NoError(t, db.Raw("select count(*) from incident").Scan(&n).Error)
	assert.Equal(t, 1, n)
}
