package browser

import (
	"context"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/api"
	"urgentis/core/access"
	"urgentis/internal/demo"
)

// sizes are those of the screens on which somebody who is woken decides.
var sizes = []struct {
	name          string
	width, height int
}{{"desk", 1280, 800}, {"phone", 390, 844}}

// unseen lists what does not stand in the first viewport, of what somebody must know to decide.
const unseen = `[...answers].filter(([, s]) => {
	const list = [...document.querySelectorAll(s)]
	if (!list.length) return true
	return list.some((e) => {
		const b = e.getBoundingClientRect()
		const bar = document.querySelector('footer.decision')
		const foot = bar && !bar.contains(e) ? bar.getBoundingClientRect().top : innerHeight
		return b.top < 0 || b.bottom > foot + 1 || b.height === 0
	})
}).map(([n]) => n).join(', ')`

// answers are the elements that answer what must be known, by what they answer.
var answers = [][2]string{
	{"what is wrong", "h1"},
	{"whom it harms", "section.band .harm"},
	{"how bad, since when, getting worse", "section.band .reading"},
	{"what is proposed, on what", "section.wanted .what"},
	{"exactly what would run", "section.wanted .commands pre"},
	{"can it be taken back", "section.wanted .commands .undo"},
	{"how it went before", "section.wanted .before"},
	{"after yes", "section.wanted .answers .yes"},
	{"after no", "section.wanted .answers .no"},
	{"if nobody answers", "section.wanted .answers .nobody"},
	{"the words", "footer.decision"},
}

// unparsed are the same where no number is read that could be drawn: that is said.
var unparsed = answers

// asked are the same where a question is asked.
var asked = [][2]string{
	{"what is wrong", "h1"},
	{"whom it harms", "section.band .harm"},
	{"how bad, since when, getting worse", "section.band .reading"},
	{"what is asked", "section.wanted .what"},
	{"what each answer leads to", "section.wanted .card, section.wanted .answers .choice"},
	{"can it be taken back", "section.wanted .approves"},
	{"how it went before", "section.wanted .before"},
	{"if nobody answers", "section.wanted .silence"},
	{"the words", "button.choice"},
}

// became are the same where it is asked what became of a change.
var became = slices.DeleteFunc(slices.Clone(asked), func(a [2]string) bool { return a[0] == "can it be taken back" })

// left is the same where a run left an incident to people.
var left = [][2]string{
	{"what is wrong", "h1"},
	{"whom it harms", "section.band .harm"},
	{"how bad, since when, getting worse", "section.band .reading"},
	{"why a person is needed", "section.wanted .what"},
	{"what was changed, and how that went", "section.wanted .changed"},
	{"how it went before", "section.wanted .before"},
	{"who has it, and what if nobody takes it", "section.wanted .holder"},
}

func notInSight(t *testing.T, p *Page, what [][2]string) string {
	t.Helper()
	list := "["
	for _, a := range what {
		list += fmt.Sprintf("[%q,%q],", a[0], a[1])
	}
	out, err := p.Text("(() => { const answers = " + list + "]; return " + unseen + "})()")
	require.NoError(t, err)
	return out
}

// TestAGateIsJudgedFromOneScreen breaks things of the demo, and wants all that somebody must know to decide in the
// first viewport.
func TestAGateIsJudgedFromOneScreen(t *testing.T) {
	w := world(t)
	for i, c := range []struct {
		name  string
		play  func()
		proof string // what stands there
	}{
		{"one host", func() { w.Fleet.Queue.Break() }, "berthq park"},
		{"a block", func() { w.Fleet.Clocks.Break() }, "clockctl set-servers"},
	} {
		c.play()
		for _, s := range sizes {
			t.Run(
				c.name+" "+s.name,
				func(t *testing.T) { judge(t, w, i+1, s.name, s.width, s.height, c.proof, answers) },
			)
		}
	}
	ctx := context.Background()
	approver, err := w.As(ctx, "approver", access.Approver)
	require.NoError(t, err)
	w.Fleet.Gates.Break()
	require.Eventually(t, func() bool {
		list, err := w.Admin.ListGatesWithResponse(ctx)
		return err == nil && list.JSON200 != nil && len(*list.JSON200) == 3
	}, time.Minute, 100*time.Millisecond)
	list, err := w.Admin.ListGatesWithResponse(ctx)
	require.NoError(t, err)
	for _, g := range *list.JSON200 {
		if g.Incident == 3 {
			_, err = approver.DecideGateWithResponse(ctx, g.Id, api.Decision{Approve: true, Digest: g.Digest})
			require.NoError(t, err)
		}
	}
	for _, s := range sizes {
		t.Run("a question "+s.name, func(t *testing.T) {
			judge(t, w, 3, s.name, s.width, s.height, "gatectl release rollback", asked)
		})
	}
	unknown(ctx, t, w, approver)
	for _, s := range sizes {
		t.Run("an unknown outcome "+s.name, func(t *testing.T) {
			judge(t, w, 1, "unknown-"+s.name, s.width, s.height, "What became of", became)
		})
	}
	questions, err := approver.ListQuestionsWithResponse(ctx)
	require.NoError(t, err)
	for _, q := range *questions.JSON200 {
		if q.Incident == 1 {
			_, err = approver.AnswerQuestionWithResponse(
				ctx,
				q.Id,
				api.Answer{Choice: "in-part", Comment: "It is half parked."},
			)
			require.NoError(t, err)
		}
	}
	for _, s := range sizes {
		t.Run("a hand-over "+s.name, func(t *testing.T) {
			judge(t, w, 1, "over-"+s.name, s.width, s.height, "A person is needed", left)
		})
	}
	rolling(ctx, t, w)
	for _, s := range sizes {
		t.Run("twenty rolling "+s.name, func(t *testing.T) {
			judge(t, w, 4, "rolling-"+s.name, s.width, s.height, "/relight", unparsed)
		})
	}
}

// unknown approves the change of the first incident, and breaks its connection while it is under way.
func unknown(ctx context.Context, t *testing.T, w *demo.World, approver *api.ClientWithResponses) {
	t.Helper()
	w.Fleet.Queue.ParkTime = 10 * time.Second // so that its connection breaks meanwhile, on any machine
	gates, err := w.Admin.ListGatesWithResponse(ctx)
	require.NoError(t, err)
	for _, g := range *gates.JSON200 {
		if g.Incident == 1 {
			_, err = approver.DecideGateWithResponse(ctx, g.Id, api.Decision{Approve: true, Digest: g.Digest})
			require.NoError(t, err)
		}
	}
	require.Eventually(t, func() bool {
		d, err := w.Admin.GetIncidentWithResponse(ctx, 1, nil)
		return err == nil && d.JSON200 != nil && slices.ContainsFunc(d.JSON200.Entries, func(e api.Entry) bool {
			return e.Kind == "change.begun"
		})
	}, time.Minute, 10*time.Millisecond)
	w.Fleet.DropConnections()
	require.Eventually(t, func() bool {
		list, err := approver.ListQuestionsWithResponse(ctx)
		return err == nil && list.JSON200 != nil && slices.ContainsFunc(*list.JSON200, func(q api.Question) bool {
			return q.Incident == 1
		})
	}, time.Minute, 50*time.Millisecond)
}

// rolling starts a runbook whose change rolls over twenty targets.
func rolling(ctx context.Context, t *testing.T, w *demo.World) {
	t.Helper()
	service := api.Service{
		Name:  "quay-lamps",
		Owner: "quayside",
		Harm:  "Ships find the berths in the dark only by hand.",
	}
	_, err := w.Admin.SetServiceWithResponse(ctx, nil, service)
	require.NoError(t, err)
	host := w.Fleet.Hosts[0]
	for i := range 20 {
		name := fmt.Sprintf("lamp-%02d", i+1)
		r, err := w.Admin.SetTargetWithResponse(ctx, nil, api.Target{Name: name, Service: "quay-lamps",
			Address: host.Address, Labels: map[string]string{"role": "lamp"}})
		require.NoError(t, err)
		require.Equal(t, 200, r.StatusCode(), string(r.Body))
	}
	const text = `urgentis: runbook/1
name: lamps-dark
title: Quay lamps are dark
owner: quayside
service: quay-lamps
steps:
  - each: Light the lamps again
    where: {role: lamp}
    at_once: 4
    gate: {ask: team/quayside, within: 20m}
    steps:
      - change: Light the lamp
        id: light
        http: {method: POST, url: "http://{{ target.address }}/relight?lamp={{ target.name }}"}
        undo: {http: {method: POST, url: "http://{{ target.address }}/dim?lamp={{ target.name }}"}}
      - check: Is it lit?
        that: 1 == 1
        proves: light
    on_error: undo
  - close: repaired
    because: All lamps are lit.
`
	pushed, err := w.Admin.PushRunbookWithResponse(ctx, api.RunbookText{Text: text})
	require.NoError(t, err)
	require.Less(t, pushed.StatusCode(), 300, string(pushed.Body))
	opened, err := w.Admin.OpenIncidentWithResponse(
		ctx,
		api.NewIncident{Title: "The lamps of the quay are dark", Service: "quay-lamps", Severity: "major"},
	)
	require.NoError(t, err)
	require.Less(t, opened.StatusCode(), 300, string(opened.Body))
	run, err := w.Admin.StartRunWithResponse(ctx, api.NewRun{Runbook: "lamps-dark", Incident: opened.JSON201.Number})
	require.NoError(t, err)
	require.Less(t, run.StatusCode(), 300, string(run.Body))
}

func judge(
	t *testing.T, w *demo.World, incident int, name string, width, height int, proof string, what [][2]string,
) {
	p, err := Open(context.Background(), width, height)
	require.NoError(t, err)
	defer p.Close()
	require.NoError(t, p.SignIn(w.Link, "mara", w.SignIn["mara"]))
	require.NoError(t, p.Go(fmt.Sprintf("%s/incidents/%d", w.Link, incident)))
	require.NoError(t, p.See(proof))
	require.NoError(t, p.Until("!!document.querySelector('section.wanted .what') && !!document.querySelector('section.band')"))
	require.NoError(t, p.Until("!document.querySelector('footer.decision button.approves[disabled]')"))
	assert.Empty(t, notInSight(t, p, what))
	shot(t, p, fmt.Sprintf("gate-%d-%s", incident, name))
	// What stands behind the pinned bar comes out as the page is scrolled: it is no smaller for that.
	_, err = p.Text("(document.querySelector('footer.decision')?.style.setProperty('position', 'static'), '')")
	require.NoError(t, err)
	assert.Empty(t, axe(t, p))
}
