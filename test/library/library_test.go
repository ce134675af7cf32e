// Package library tries runbooks of the library against real things on loopback: a trouble is made, the runbook finds
// it, asks, mends it and proves that.
package library

import (
	"context"
	"log/slog"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/api"
	"urgentis/core/access"
	"urgentis/internal/demo"
	"urgentis/internal/service"
	"urgentis/internal/testapi"
	"urgentis/internal/testdb"
	"urgentis/internal/testpeers"
)

func TestMain(m *testing.M) {
	testapi.Check()
	os.Exit(m.Run())
}

// place is a service with one real host.
type place struct {
	t               *testing.T
	role            string
	host            *testpeers.Host
	admin, approver *api.ClientWithResponses
}

const (
	owner     = "quayside"
	ofService = "berth-queue"
	hostName  = "quay-1"
)

// at starts a service, and a host on which the role of a runbook is played.
func at(t *testing.T, role string) *place {
	ctx := context.Background()
	i, err := service.Start(ctx, service.Config{
		Database: testdb.URL(t), DataDir: t.TempDir(), Listen: "127.0.0.1:0", Version: "test",
		AllowNet: []string{"127.0.0.0/8"}, Log: slog.New(slog.DiscardHandler),
	})
	require.NoError(t, err)
	serving, cancel := context.WithCancel(ctx)
	go i.Serve(serving) //nolint:errcheck // it ends with the context
	t.Cleanup(func() { cancel(); assert.NoError(t, i.Stop()) })
	p := &place{t: t, host: testpeers.SSHD(t)}
	p.admin, err = demo.Client(i.Link, testapi.Token(t, i.Store, "admin", "mara", access.Admin))
	require.NoError(t, err)
	p.approver, err = demo.Client(i.Link, testapi.Token(t, i.Store, "approver", "iva", access.Approver))
	require.NoError(t, err)
	for name, value := range map[string]string{"host-key": string(p.host.Key), "database_looker": looks,
		"database_mender": mends} {
		kind := api.NewSecretKind("password")
		if name == "host-key" {
			kind = "ssh-key"
		}
		r, err := p.admin.SetSecretWithResponse(ctx, api.NewSecret{Name: name, Kind: kind, Value: value})
		require.NoError(t, err)
		require.Less(t, r.StatusCode(), 300, string(r.Body))
	}
	s, err := p.admin.SetServiceWithResponse(ctx, nil, api.Service{Name: ofService, Owner: owner})
	require.NoError(t, err)
	require.Less(t, s.StatusCode(), 300, string(s.Body))
	target, err := p.admin.SetTargetWithResponse(ctx, nil, api.Target{
		Name: hostName, Service: ofService, Address: "127.0.0.1", Port: p.host.Port, Account: p.host.Account,
		Secret: "host-key", HostKey: p.host.HostKey, Labels: map[string]string{"role": "our-" + role},
	})
	require.NoError(t, err)
	require.Less(t, target.StatusCode(), 300, string(target.Body))
	p.role = role
	return p
}

// The passwords of accounts of databases: one that looks, one that mends.
const looks, mends = "only-looks", "may-mend"

// plays binds a runbook, runs it, says yes at its gates, and gives how it ended.
func (p *place) plays(runbook string, inputs map[string]any) end {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	text, err := yaml.Marshal(map[string]any{
		"urgentis": "binding/1", "name": "ours", "library": runbook, "service": ofService, "owner": owner,
		"roles": map[string]string{p.role: "our-" + p.role}, "inputs": inputs,
	})
	require.NoError(p.t, err)
	pushed, err := p.admin.PushWithResponse(
		ctx,
		api.NewPush{Files: []api.PushFile{{Name: "b.yaml", Text: string(text)}}},
	)
	require.NoError(p.t, err)
	require.NotNil(p.t, pushed.JSON200, string(pushed.Body))
	begun, err := p.admin.StartRunWithResponse(ctx, api.NewRun{Runbook: "ours"})
	require.NoError(p.t, err)
	require.NotNil(p.t, begun.JSON202, string(begun.Body))
	for {
		r, err := p.admin.GetRunWithResponse(ctx, begun.JSON202.Id)
		require.NoError(p.t, err, "it is not over")
		require.NotNil(p.t, r.JSON200, string(r.Body))
		if s := r.JSON200.Run.State; s != "running" && s != "waiting" {
			p.savedAsACase(begun.JSON202.Id)
			return endOf(r.JSON200)
		}
		gates, err := p.admin.ListGatesWithResponse(ctx)
		require.NoError(p.t, err)
		for _, g := range *gates.JSON200 {
			_, err := p.approver.DecideGateWithResponse(ctx, g.Id, api.Decision{Approve: true, Digest: g.Digest})
			require.NoError(p.t, err)
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// end is how a run ended: with an outcome, or a state where there is none.
type end struct{ outcome, because string }

func endOf(r *api.RunDetail) end {
	out := end{string(r.Run.State), r.Run.Because}
	for _, e := range r.Events {
		if o, ok := e.Body["outcome"].(string); ok && e.Kind == "run.ended" && o != "" {
			out.outcome = o
		}
	}
	return out
}

// savedAsACase wants the run, saved as a case, to go the same way again.
func (p *place) savedAsACase(run string) {
	c, err := p.admin.GetRunCaseWithResponse(context.Background(), run)
	require.NoError(p.t, err)
	require.NotNil(p.t, c.JSON200, string(c.Body))
	assert.Empty(p.t, c.JSON200.Wrong, c.JSON200.Text)
}

// repairs wants a runbook to find the trouble and to mend it, and then to find nothing any more.
func (p *place) repairs(runbook string, inputs map[string]any) {
	r := p.plays(runbook, inputs)
	require.Equal(p.t, "repaired", r.outcome, r.because)
	p.finds(runbook, inputs, "false-alarm")
}

// finds wants a runbook to come to an outcome.
func (p *place) finds(runbook string, inputs map[string]any, outcome string) {
	r := p.plays(runbook, inputs)
	require.Equal(p.t, outcome, r.outcome, r.because)
}

// sh runs a script of the test itself.
func sh(t *testing.T, script string, args ...string) string {
	out, err := exec.Command("sh", append([]string{"-euc", script, "sh"}, args...)...).CombinedOutput()
	require.NoError(t, err, "%s", out)
	return strings.TrimSpace(string(out))
}
