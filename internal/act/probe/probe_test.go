package probe

import (
	"context"
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/flow"
	"urgentis/core/leave"
	"urgentis/internal/act"
)

func probe(p leave.Probe) act.Result {
	return Hand{}.Do(context.Background(), act.Job{Request: leave.Request{Timeout: 10, Target: leave.Facts{Name: "x", Address: "127.0.0.1"}, Probe: &p}})
}

func TestPort(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := l.Addr().(*net.TCPAddr).Port
	r := probe(leave.Probe{Port: port})
	assert.Equal(t, flow.OK, r.State)
	assert.Contains(t, r.Stdout.Text(), `"open":true`)
	require.NoError(t, l.Close())
	r = probe(leave.Probe{Port: port})
	assert.Equal(t, flow.OK, r.State, "that nothing listens is an answer")
	assert.Contains(t, r.Stdout.Text(), `"open":false`)
}

func TestName(t *testing.T) {
	r := probe(leave.Probe{Name: "localhost", Type: "A"})
	assert.Equal(t, flow.OK, r.State, r.Error)
	assert.Contains(t, r.Stdout.Text(), "127.0.0.1")
}

func TestEcho(t *testing.T) {
	r := probe(leave.Probe{Echos: 2})
	if r.State == flow.Failed {
		// Without the right to send echoes it is said plainly, and counts as missing evidence.
		assert.Contains(t, r.Error, "does not let the service send echo requests")
		return
	}
	assert.Contains(t, r.Stdout.Text(), `"answered":2,`)
}
