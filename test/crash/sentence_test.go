package crash

import (
	"encoding/json"
	"strings"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/flow"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

// suffixes are what the changes of storm.yaml count under, by their titles.
var suffixes = map[string]string{
	"Alone": "-alone", "Over HTTP": "-web", "A job elsewhere": "-job", "Each": "-each", "Back and forth": "-forth",
}

// proveSentences proves that what each run says in the end is what its hosts counted. What was done by a run that a
// database that was put back does not know any more, the next one for the same alert knows nothing of.
func (s *storm) proveSentences(st *store.Store) {
	var list []struct {
		Key, Body string
		Anew      bool // it began after the database was put back, and touched nothing: what was done another did
	}
	require.NoError(s.t, testdb.SQL(st).Raw(`select b.body::jsonb->'inputs'->>'key' as key, e.body,
		exists (select from setting where key = 'put_back' and at < r.begun_at) and not exists (select from event c
				where c.run = r.id and c.kind = 'attempt.intended' and c.body like '%"for":"change"%') as anew
		from event e join event b on b.run = e.run and b.seq = 1
		join run r on r.id = e.run and r.runbook = 'storm' where e.kind = 'run.ended'`).Scan(&list).Error)
	begun, undone := s.fleet.Works.Begun()
	for _, x := range list {
		var end flow.Ended
		require.NoError(s.t, json.Unmarshal([]byte(x.Body), &end))
		said := map[string]bool{}
		for _, l := range end.Changes {
			for _, t := range l.Targets {
				work := x.Key + suffixes[l.Title] + " on " + t
				said[work] = true
				s.isTrue(l.String(), l.Says, begun[work], undone[work])
			}
		}
		for work, n := range begun {
			if strings.HasPrefix(work, x.Key+"-") && n > 0 && !said[work] && !x.Anew {
				assert.Contains(s.t, end.Because, "is not known", "%s was done, and the run says nothing of it", work)
			}
		}
	}
}

// isTrue holds what a line says against what a host counted.
func (s *storm) isTrue(line, says string, begun, undone int) {
	switch {
	case says == "done":
		assert.Equal(s.t, [2]int{1, 0}, [2]int{begun, undone}, line)
	case strings.HasPrefix(says, "undone"):
		assert.Equal(s.t, [2]int{1, 1}, [2]int{begun, undone}, line)
	case strings.HasPrefix(says, "not begun"):
		assert.Zero(s.t, begun, line)
	case strings.HasPrefix(says, "done; whether it was undone before the database was put back"):
		assert.Equal(s.t, 1, begun, line)
		assert.LessOrEqual(s.t, undone, 1, line)
	case strings.HasPrefix(says, "done; not undone"):
		assert.Equal(s.t, [2]int{1, 0}, [2]int{begun, undone}, line)
	}
}
