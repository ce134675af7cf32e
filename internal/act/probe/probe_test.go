package probe

import (
	"context"
	"encoding/json"
	"net"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/flow"
	"urgentis/core/task"
	"urgentis/internal/act"
)

func probe(p task.Probe) act.Result {
	return Hand{}.Do(
		context.Background(),
		act.Job{Request: task.Request{Timeout: 10, Target: task.Facts{Name: "x", Address: "127.0.0.1"}, Probe: &p}},
	)
}

func TestPort(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := l.Addr().(*net.TCPAddr).Port
	r := probe(task.Probe{Port: port})
	assert.Equal(t, flow.OK, r.State)
	assert.Contains(t, r.Stdout.Text(), `"open":true`)
	require.NoError(t, l.Close())
	r = probe(task.Probe{Port: port})
	assert.Equal(t, flow.OK, r.State, "that nothing listens is an answer")
	assert.Contains(t, r.Stdout.Text(), `"open":false`)
}

func TestName(t *testing.T) {
	r := probe(task.Probe{Name: "localhost", Type: "A"})
	assert.Equal(t, flow.OK, r.State, r.Error)
	assert.Contains(t, r.Stdout.Text(), "127.0.0.1")
}

func TestEcho(t *testing.T) {
	r := probe(task.Probe{Echos: 2})
	if r.State == flow.Failed {
		// Without the right to send echoes it is said plainly, and counts as missing evidence.
		assert.Contains(t, r.Error, "does not let the service send echo requests")
		return
	}
	assert.Contains(t, r.Stdout.Text(), `"answered":2,`)
}

func TestANameThatIsNotThereIsNoClosedPort(t *testing.T) {
	r := Hand{}.Do(
		context.Background(),
		act.Job{
			Request: task.Request{
				Kind:    "probe",
				Timeout: 5,
				Target:  task.Facts{Address: "nowhere.invalid"},
				Probe:   &task.Probe{Port: 80},
			},
		},
	)
	assert.Equal(t, flow.Failed, r.State, "what was not tried is not known")
}

// Echoes to addresses of which one begins like another, at the same time: each counts its own answers only.
func TestEchoesAtTheSameTimeAreToldApart(t *testing.T) {
	var wg sync.WaitGroup
	for _, c := range []struct {
		address string
		answers bool
	}{{"127.0.0.10", true}, {"203.0.113.1", false}, {"127.0.0.1", true}} {
		wg.Go(func() {
			r := Hand{}.Do(
				context.Background(),
				act.Job{
					Request: task.Request{
						Kind:    "probe",
						Timeout: 10,
						Target:  task.Facts{Address: c.address},
						Probe:   &task.Probe{Echos: 3},
					},
				},
			)
			if r.State != flow.OK {
				return // this host does not let us
			}
			var got struct{ Answered int }
			assert.NoError(t, json.Unmarshal(r.Stdout.Kept, &got))
			assert.Equal(t, c.answers, got.Answered > 0, "%s: %d", c.address, got.Answered)
		})
	}
	wg.Wait()
}
