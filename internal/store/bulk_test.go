package store_test

import (
	"context"
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/alert"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

func insert[T any](s *store.Store, rows []T) error {
	b := store.NewBulk(s.In(context.Background()))
	if err := store.Add(b, rows); err != nil {
		return err
	}
	return b.Write()
}

// What is written in bulk reads back as what was written: every kind of column, with and without a value.
func TestInsertKeepsEveryValue(t *testing.T) {
	s := testdb.Open(t)
	at := time.Now().UTC().Truncate(time.Microsecond)
	n := int64(7)
	var alerts []*store.Alert
	for i := range 3 {
		a := &store.Alert{
			ID:       fmt.Sprint("a", i),
			Source:   "m",
			Key:      fmt.Sprint(i),
			State:    "open",
			Severity: "major",
			Summary:  "{\"quoted\", and, a comma}\n' \\ ü",
			Count:    int64(i),
			FirstAt:  alert.HeardAt(at),
			LastAt:   alert.HeardAt(at.Add(time.Second)),
			Verdicts: json.RawMessage(`[{"x": "NULL"}]`),
			Labels:   store.Labels{"a": "NULL", "b": `"{}"`},
		}
		if i == 1 {
			a.Incident, a.Labels = &n, nil
		}
		alerts = append(alerts, a)
	}
	require.NoError(t, insert(s, alerts))
	var back []*store.Alert
	require.NoError(t, testdb.SQL(s).Order("id").Find(&back).Error)
	require.Len(t, back, 3)
	for i, a := range back {
		a.FirstAt, a.LastAt = alert.HeardAt(a.FirstAt.UTC()), alert.HeardAt(a.LastAt.UTC())
		assert.JSONEq(t, string(alerts[i].Verdicts), string(a.Verdicts))
		a.Verdicts = alerts[i].Verdicts
		assert.Equal(t, alerts[i], a)
	}

	end := at.Add(time.Hour)
	owner := ""
	runs := []store.Run{
		{ID: "r1", BegunAt: at, Epoch: 3, Version: 1, Rules: 2},
		{ID: "r2", BegunAt: at, EndedAt: &end, Owner: &owner, Incident: &n, Rules: 3},
	}
	require.NoError(t, insert(s, runs))
	var got []store.Run
	require.NoError(t, testdb.SQL(s).Order("id").Find(&got).Error)
	require.Len(t, got, 2)
	assert.Nil(t, got[0].EndedAt)
	assert.Nil(t, got[0].Owner)
	assert.Equal(t, "", *got[1].Owner)
	assert.Equal(t, end, got[1].EndedAt.UTC())
	assert.Equal(t, n, *got[1].Incident)
	assert.Equal(t, 3, got[1].Rules)

	// Numbers that the database gives out are its own; nothing is written for no rows.
	require.NoError(t, insert(s, []store.Feed{{Topic: "a", Ref: "1"}, {Topic: "b", Ref: "2", Incident: &n}}))
	var feed []store.Feed
	require.NoError(t, testdb.SQL(s).Order("id").Find(&feed).Error)
	assert.Less(t, feed[0].ID, feed[1].ID)
	assert.NotEmpty(t, feed[0].Xid)
	require.NoError(t, insert(s, []store.Feed{}))

	assert.Error(t, insert(s, []store.Session{{Person: "iva"}}), "a column that cannot go over is refused, not lost")
	assert.Error(
		t,
		insert(s, []*store.Alert{{ID: "x", Summary: "a\x00b", Verdicts: json.RawMessage("[]")}}),
		"as the database refuses it",
	)
}
