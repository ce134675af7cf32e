package flow

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"testing"

	"github.com/stretchr/testify/require"

	"urgentis/core/runbook"
)

// requireSame wants a machine whose log is as on disk to be what reading that log makes.
func requireSame(t require.TestingT, book *runbook.Book, log []Event, m *Machine) {
	opened, err := Open(book, log)
	require.NoError(t, err)
	fresh := opened.s
	clear(m.s.openLeaves) // what is on disk has none
	for _, s := range []*State{fresh, m.s} {
		for _, d := range s.data {
			clear(d.views)
		}
		for place, st := range s.steps {
			for n := range st.items {
				// Kept so that an item that is over is not walked again; it follows from the log.
				st.items[n] = itemState{}
			}
			if reflect.ValueOf(*st).IsZero() {
				delete(s.steps, place) // somebody looked whether anything is known of it
			}
		}
	}
	if !reflect.DeepEqual(fresh, m.s) {
		require.Equal(t, fmt.Sprintf("%+v", fresh), fmt.Sprintf("%+v", m.s), "what was discarded left something behind")
	}
}

// Whatever is planned or appended on a log, cut at any place, leaves nothing behind when it is discarded.
func TestWhatIsDiscardedLeavesNothing(t *testing.T) {
	files, err := filepath.Glob("testdata/rules*/*.json")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		t.Run(filepath.Base(filepath.Dir(file))+"/"+filepath.Base(file), func(t *testing.T) {
			t.Parallel()
			book, log := readRecorded(t, file)
			for cut := 1; cut < len(log); cut += 1 + len(log)/40 {
				m, err := Open(book, log[:cut])
				require.NoError(t, err)
				_, err = m.Append(log[cut])
				require.NoError(t, err)
				_, err = m.Plan(log[cut].At)
				require.NoError(t, err)
				if cut+1 < len(log) {
					m.Append(log[cut+1]) //nolint:errcheck // it may not fit behind what was planned
				}
				m.Discard()
				requireSame(t, book, log[:cut], m)
				// What is read from disk afterwards stays.
				require.NoError(t, m.Read(log[cut]))
				m.Discard()
				requireSame(t, book, log[:cut+1], m)
			}
		})
	}
}

func readRecorded(t *testing.T, file string) (*runbook.Book, []Event) {
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	var r recorded
	require.NoError(t, json.Unmarshal(data, &r))
	b, findings := runbook.ParseOld([]byte(r.Book))
	require.NotNil(t, b, findings)
	var log []Event
	for _, e := range r.Log {
		body, err := Decode(e.Kind, e.Body)
		require.NoError(t, err)
		log = append(log, Event{e.Seq, e.At, PlaceOf(e.Path), body})
	}
	return b, log
}
