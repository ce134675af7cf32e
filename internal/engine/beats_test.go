package engine_test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

// Only what ran where we can see processes is taken for gone by itself; a host's name proves nothing.
func TestOnlyWhatCanBeSeenIsBuried(t *testing.T) {
	b := set(t, source(t))
	me := eventually[store.Instance](b, "select * from instance where fenced_at is null")
	host, err := os.Hostname()
	require.NoError(t, err)
	for id, boot := range map[string]string{"other-boot": "00000000-0000-4000-8000-000000000000 " +
		"pid:[1]", "other-namespace": me.Boot + "1", "unknown": "", "here": me.Boot} {
		require.NoError(
			t,
			testdb.SQL(b.store).
				Exec("insert into instance (id, host, pid, version, boot, begun_ticks, fenced_at) values (?, ?, "+
					"999999, '', ?, 1, now())", id, host, boot).
				Error,
		)
	}
	eventually[int](b, "select 1 from instance where id = 'here' and gone_at is not null")
	var others int64
	require.NoError(
		t,
		testdb.SQL(b.store).
			Raw("select count(*) from instance where id in ('other-boot', 'other-namespace', 'unknown') and gone_at "+
				"is not null").
			Scan(&others).
			Error,
	)
	require.Zero(t, others)
}
