package engine_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

func (b *bench) title(number int64) string {
	return eventually[store.Incident](b, "select * from incident where number = ?", number).Title
}

// A runbook names its incident by what it reads, with the newest value; a closed one is named as it was at its worst.
func TestARunbookNamesItsIncident(t *testing.T) {
	b := set(t, source(t))
	taken := b.alert()
	eventually[store.Gate](b, "select * from gate where state = 'open'")
	assert.Equal(t, "812 berth assignments wait in north", b.title(taken.Incident))
	b.decide(true)
	b.ended()
	inc := eventually[store.Incident](b, "select * from incident where state = 'closed'")
	assert.Equal(t, "812 berth assignments wait in north", inc.Title, "not by how little waits at the end")
}

// What somebody named by hand keeps its name.
func TestANameByHandStays(t *testing.T) {
	b := set(t, source(t))
	taken := b.alert()
	eventually[store.Gate](b, "select * from gate where state = 'open'")
	require.NoError(t, testdb.SQL(b.store).Exec("update incident set title = 'The quay', title_by = 'iva'").Error)
	b.decide(true)
	b.ended()
	assert.Equal(t, "The quay", b.title(taken.Incident))
}

// A worse trouble in the same incident is not hidden behind the name that a run gives it.
func TestANameHidesNoWorseTrouble(t *testing.T) {
	b := set(t, source(t))
	taken := b.alert()
	eventually[store.Gate](b, "select * from gate where state = 'open'")
	require.Equal(t, taken.Incident, b.raise("fire", "critical").Incident)
	assert.Equal(t, "Trouble with the fire", b.title(taken.Incident))
	b.decide(true)
	b.ended()
	assert.Equal(t, "Trouble with the fire", b.title(taken.Incident))
}
