package browser

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/internal/service"
	"urgentis/internal/testdb"
)

// write puts a text into the editor, in the place of what stands there.
func write(t *testing.T, p *Page, text string) {
	t.Helper()
	require.NoError(t, p.Until("!!document.querySelector('.cm-content')"))
	_, err := p.Text(fmt.Sprintf(`(() => {
		const e = document.querySelector('.cm-content')
		e.focus()
		document.execCommand('selectAll')
		document.execCommand('insertText', false, %q)
		return ''
	})()`, text))
	require.NoError(t, err)
}

// fill writes into the fields of the dialog that is open, by their labels.
func fill(t *testing.T, p *Page, fields ...string) {
	t.Helper()
	for i := 0; i < len(fields); i += 2 {
		label := fields[i]
		mark := fmt.Sprintf(`(() => {
			const l = [...document.querySelectorAll('form label')].find(e => e.innerText.trim().startsWith(%q))
			const f = l && document.getElementById(l.htmlFor)
			document.querySelectorAll('[data-fill]').forEach(e => e.removeAttribute('data-fill'))
			f?.setAttribute('data-fill', '')
			return !!f
		})()`, label)
		require.NoError(t, p.Until(mark), label)
		require.NoError(t, p.Fill("[data-fill]", fields[i+1]), label)
	}
}

// press clicks the button of a name.
func press(t *testing.T, p *Page, name string) {
	t.Helper()
	mark := fmt.Sprintf(`(() => {
		document.querySelectorAll('[data-press]').forEach(e => e.removeAttribute('data-press'))
		const b = [...document.querySelectorAll('.v-overlay--active button, main button, main a.v-btn')]
			.find(e => e.innerText.trim() === %q && !e.disabled && e.offsetParent)
		b?.setAttribute('data-press', '')
		return !!b
	})()`, name)
	require.NoError(t, p.Until(mark), name)
	require.NoError(t, p.Click("[data-press]"), name)
}

// From an empty installation to an approved change, in the console alone: people, a team, a service, a target, a source
// and a runbook, and then the first alert.
func TestAWeekInTheConsole(t *testing.T) {
	t.Parallel()
	ctx, cancel := context.WithCancel(context.Background())
	i, err := service.Start(ctx, service.Config{Database: testdb.URL(t), DataDir: t.TempDir(), Listen: "127.0.0.1:0",
		AllowNet: []string{"127.0.0.0/8"}, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	go i.Serve(ctx) //nolint:errcheck // it ends with the context
	t.Cleanup(func() { cancel(); assert.NoError(t, i.Stop()) })
	var lit, hosts atomic.Int64
	host := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		hosts.Add(1)
		if r.Method == http.MethodPost {
			lit.Add(1)
		}
		fmt.Fprintf(w, `{"lit": %d}`, lit.Load())
	}))
	t.Cleanup(host.Close)
	port := host.URL[strings.LastIndex(host.URL, ":")+1:]
	code, err := i.App.SetupCode(ctx)
	require.NoError(t, err)

	p := open(t, 1280)
	require.NoError(t, p.Go(i.Link+"/setup?code="+code))
	fill(t, p, "Name", "iva", "Password", "a-long-password")
	press(t, p, "Begin")
	require.NoError(t, p.See("First steps"))
	shot(t, p, "week-first")
	assert.Empty(t, axe(t, p))

	require.NoError(t, p.Go(i.Link+"/people"))
	press(t, p, "Add a person")
	fill(t, p, "Name", "mara", "Password", "another-password")
	_, err = p.Text(`[...document.querySelectorAll('form label')].find(e => e.innerText.startsWith('approver')).click(), ''`)
	require.NoError(t, err)
	assert.Empty(t, axe(t, p))
	press(t, p, "Add")
	require.NoError(t, p.See("responder, approver"))
	assert.Empty(t, axe(t, p))

	require.NoError(t, p.Go(i.Link+"/documents/team"))
	write(t, p, "urgentis: team/1\nname: lights\ntitle: Lights\nmembers: [mara]\nrota:\n  zone: UTC\n  first:\n"+
		"    - {from: 2026-01-05 09:00, every: FREQ=WEEKLY;BYDAY=MO, people: [mara]}\n")
	require.NoError(t, p.See("is added"))
	press(t, p, "Push")
	require.NoError(t, p.Until("location.pathname === '/documents/team/lights'"))
	require.NoError(t, p.Go(i.Link+"/rotas"))
	require.NoError(t, p.Until("!!document.querySelector('.turn')"))
	assert.Empty(t, axe(t, p))
	shot(t, p, "week-rotas")

	require.NoError(t, p.Go(i.Link+"/services"))
	press(t, p, "Add a service")
	fill(t, p, "Name", "lamps", "Title", "Lamps of the pier", "Whom it harms", "Ships find the pier in the dark only by hand.")
	press(t, p, "Add")
	require.NoError(t, p.See("Lamps of the pier"))

	require.NoError(t, p.Go(i.Link+"/targets"))
	press(t, p, "Add a target")
	fill(t, p, "Name", "lamp-1", "Address", "127.0.0.1", "Service", "lamps")
	require.NoError(t, p.Click(".v-autocomplete__content .v-list-item"))
	fill(t, p, "Labels", "role=lamp")
	press(t, p, "Add")
	require.NoError(t, p.See("role=lamp"))
	assert.Empty(t, axe(t, p))

	require.NoError(t, p.Go(i.Link+"/sources"))
	press(t, p, "Add a source")
	fill(t, p, "Name", "pier-watch")
	press(t, p, "Add")
	require.NoError(t, p.Until("!!document.querySelector('#token')"))
	token, err := p.Text("document.querySelector('#token').innerText")
	require.NoError(t, err)

	require.NoError(t, p.Go(i.Link+"/documents/runbook"))
	write(t, p, strings.ReplaceAll(`urgentis: runbook/1
name: lamps-dark
title: A lamp is dark
owner: lights
service: lamps
starts:
  dark: {alert: alert.service == "lamps"}
steps:
  - look: Is it lit?
    id: lit
    where: {role: lamp}
    http: {url: "http://{{ target.address }}:PORT/"}
    read: {lit: {json: .lit, type: integer, good: high}}
  - change: Light the lamp
    id: light
    where: {role: lamp}
    http: {method: POST, url: "http://{{ target.address }}:PORT/light"}
    undo: none
    loses: Nothing but a minute of darkness.
    gate: {ask: team/lights, within: 20m}
  - check: Is it lit now?
    retake: lit
    that: min(readings.lit) > 0
    proves: light
  - close: repaired
    because: It is lit.
`, "PORT", port))
	require.NoError(t, p.See("is added"))
	// What is written and not pushed is there again.
	require.NoError(t, p.Go(i.Link+"/"))
	require.NoError(t, p.Go(i.Link+"/documents/runbook"))
	require.NoError(t, p.See("did not push is back"))
	require.NoError(t, p.See("is added"))
	assert.Empty(t, axe(t, p))
	press(t, p, "Push")
	require.NoError(t, p.Until("location.pathname === '/documents/runbook/lamps-dark'"))

	req, err := http.NewRequestWithContext(ctx, http.MethodPost, i.Link+"/in/pier-watch",
		strings.NewReader(`{"key": "lamp-1", "service": "lamps", "severity": "major", "summary": "lamp 1 is dark"}`))
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+token)
	req.Header.Set("Content-Type", "application/json")
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	res.Body.Close()
	require.Less(t, res.StatusCode, 300)

	mara := open(t, 1280)
	require.NoError(t, mara.SignIn(i.Link, "mara", "another-password"))
	require.NoError(t, mara.See("1 waits for you"))
	require.NoError(t, mara.Click("article.card a.v-btn"))
	require.NoError(t, mara.See("Approve on 1 target, no undo"))
	shot(t, mara, "week-gate")
	require.NoError(t, mara.Click("#approve"))
	require.NoError(t, mara.Until("document.querySelector('#approve-sure')?.disabled === false"))
	require.NoError(t, mara.Click("#approve-sure"))
	require.NoError(t, mara.See("Repaired in"))
	assert.EqualValues(t, 1, lit.Load())
	time.Sleep(100 * time.Millisecond)
	assert.Empty(t, axe(t, mara))
}
