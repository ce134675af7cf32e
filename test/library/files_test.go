package library

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/api"
)

const filesBook = `urgentis: runbook/1
name: tool-there
title: A tool is put there, and its report fetched
owner: quayside
service: berth-queue
steps:
  - change: Put the tool there
    id: tool
    where: {role: our-host}
    send: {to: DIR/tool, mode: "0700", file: tool.sh}
    gate: {ask: team/quayside, within: 10m}
    undo: {run: [rm, -f, DIR/tool]}
  - look: Its report
    id: report
    where: {role: our-host}
    run: [cat, DIR/report]
    env: {WORD: "{{ secrets.database_looker }}"}
    only_reads: the word is there to be masked
    attach: true
    timeout: 1m
    read:
      ended: {exit: true, type: integer}
  - check: Is it there?
    that: max(readings.ended) == 0
    proves: tool
`

func sha(b string) string {
	sum := sha256.Sum256([]byte(b))
	return hex.EncodeToString(sum[:])
}

// A file of the store is a part of what is approved, and arrives as it is; a report comes back whole, without secrets.
func TestFilesGoBothWays(t *testing.T) {
	t.Parallel()
	p := at(t, "host")
	ctx := context.Background()
	dir := t.TempDir()
	report := strings.Repeat("line of a report that is longer than what is kept of an output\n", 50_000) +
		"line with " + looks + " in it\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "report"), []byte(report), 0o600))
	push := func(text string) *api.PushResponse {
		r, err := p.admin.PushWithResponse(ctx, api.NewPush{Files: []api.PushFile{{Name: "t.yaml", Text: text}}})
		require.NoError(t, err)
		return r
	}
	require.NotNil(t, push(strings.ReplaceAll(filesBook, "DIR", dir)).JSON200)
	put := func(text string) {
		r, err := p.admin.PutStoredWithBodyWithResponse(ctx, "tool.sh", "application/octet-stream", strings.NewReader(text))
		require.NoError(t, err)
		require.NotNil(t, r.JSON200, string(r.Body))
		assert.Equal(t, sha(text), r.JSON200.Digest)
	}
	i, err := p.admin.OpenIncidentWithResponse(ctx, api.NewIncident{Title: "T", Service: ofService, Severity: "minor"})
	require.NoError(t, err)
	begin := func() string {
		r, err := p.admin.StartRunWithResponse(ctx, api.NewRun{Runbook: "tool-there", Incident: i.JSON201.Number})
		require.NoError(t, err)
		require.NotNil(t, r.JSON202, string(r.Body))
		return r.JSON202.Id
	}
	ended := func(id string) (d *api.RunDetail) {
		require.Eventually(t, func() bool {
			r, err := p.admin.GetRunWithResponse(ctx, id)
			require.NoError(t, err)
			d = r.JSON200
			return d.Run.State != "running" && d.Run.State != "waiting"
		}, 60*time.Second, 50*time.Millisecond)
		return d
	}
	d := ended(begin())
	assert.Contains(t, d.Run.Because, "there is no file tool.sh in the store")

	first, second := "#!/bin/sh\necho one\n", "#!/bin/sh\necho two\n"
	put(first)
	id := begin()
	gate := func(digest string) (g *api.Gate) {
		require.Eventually(t, func() bool {
			r, err := p.admin.ListGatesWithResponse(ctx)
			require.NoError(t, err)
			if len(*r.JSON200) != 1 {
				return false
			}
			one, err := p.admin.GetGateWithResponse(ctx, (*r.JSON200)[0].Id)
			require.NoError(t, err)
			g = one.JSON200
			return strings.Contains(g.Brief.Parts[0].Shown, digest)
		}, time.Minute, 50*time.Millisecond)
		return g
	}
	g := gate(sha(first))
	put(second)
	own, err := p.admin.DecideGateWithResponse(ctx, g.Id, api.Decision{Approve: true, Digest: g.Digest})
	require.NoError(t, err)
	assert.GreaterOrEqual(t, own.StatusCode(), 400, "who put the file there does not approve it alone")
	decide := func(g *api.Gate) {
		r, err := p.approver.DecideGateWithResponse(ctx, g.Id, api.Decision{Approve: true, Digest: g.Digest})
		require.NoError(t, err)
		require.Less(t, r.StatusCode(), 300, string(r.Body))
	}
	decide(g)
	g = gate(sha(second)) // it stands again, with what would be sent now
	assert.NoFileExists(t, filepath.Join(dir, "tool"))
	decide(g)
	d = ended(id)
	assert.Equal(t, api.RunState("done"), d.Run.State, d.Run.Because)
	got, err := os.ReadFile(filepath.Join(dir, "tool"))
	require.NoError(t, err)
	assert.Equal(t, second, string(got))

	files, err := p.admin.ListAttachmentsWithResponse(ctx, i.JSON201.Number)
	require.NoError(t, err)
	require.Len(t, *files.JSON200, 1)
	f := (*files.JSON200)[0]
	assert.Equal(t, "quay-1-report", f.Name)
	one, err := p.admin.GetFile(ctx, i.JSON201.Number, f.Id)
	require.NoError(t, err)
	defer one.Body.Close()
	body, err := io.ReadAll(one.Body)
	require.NoError(t, err)
	assert.Equal(t, sha(string(body)), f.Digest, "the hash of what is kept")
	assert.NotContains(t, string(body), looks)
	assert.True(t, strings.HasPrefix(string(body), report[:3_000_000]), "the whole, not what is kept of an output")
	assert.True(t, strings.HasSuffix(string(body), " in it\n"))

	removed, err := p.admin.RemoveStoredWithResponse(ctx, "tool.sh")
	require.NoError(t, err)
	require.Less(t, removed.StatusCode(), 300)
	list, err := p.admin.ListStoredWithResponse(ctx)
	require.NoError(t, err)
	assert.Empty(t, *list.JSON200)
}
