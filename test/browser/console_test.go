package browser

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/api"
	"urgentis/core/access"
	"urgentis/internal/demo"
	"urgentis/internal/service"
	"urgentis/internal/testdb"
)

func world(t *testing.T) *demo.World {
	t.Parallel() // each world waits more than it reckons
	ctx, cancel := context.WithCancel(context.Background())
	w, err := demo.Start(
		ctx,
		service.Config{
			Database: testdb.URL(t),
			DataDir:  t.TempDir(),
			Listen:   "127.0.0.1:0",
			Log:      slog.New(slog.DiscardHandler),
		},
		100*time.Millisecond,
		func(string) {},
	)
	require.NoError(t, err)
	t.Cleanup(func() { cancel(); assert.NoError(t, w.Stop()) })
	return w
}

func open(t *testing.T, width int) *Page {
	p, err := Open(context.Background(), width, 800)
	require.NoError(t, err)
	t.Cleanup(p.Close)
	return p
}

// axe lists what an accessibility check finds on the page as it is.
func axe(t *testing.T, p *Page) string {
	begin := time.Now()
	defer func() { t.Log("axe took", time.Since(begin)) }()
	src, err := os.ReadFile("../../console/node_modules/axe-core/axe.min.js")
	require.NoError(t, err, "run make build first")
	_, err = p.Text(string(src) + "; 'loaded'")
	require.NoError(t, err)
	// What is out of sight is laid out only as it comes into sight; until then its size is an estimate.
	_, err = p.Text(`(document.head.insertAdjacentHTML('beforeend',
		'<style>* { content-visibility: visible !important }</style>'), '')`)
	require.NoError(t, err)
	found, err := p.Text(
		`axe.run(document, {runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa']}).then(r => r.violations.map(v => v.id + ': ' + v.nodes.map(n => n.target.join(' ') + ' ' + (n.any[0]?.message ?? '') + ' ' + (n.any[0]?.relatedNodes ?? []).map(r => r.target).join(' ')).join(' | ')).join('\n'))`,
	)
	require.NoError(t, err)
	return found
}

// The path of the whole product, in the browser: nothing is reloaded by hand.
func TestAnIncidentInTheConsole(t *testing.T) {
	w := world(t)
	p := open(t, 1280)
	require.NoError(t, p.Go(w.Link+"/incidents/1"))
	require.NoError(t, p.See("Sign in to Urgentis"))
	assert.Empty(t, axe(t, p))
	require.NoError(t, p.Type("input[name=username]", "mara"))
	require.NoError(t, p.Type("input[name=password]", "wrong"))
	require.NoError(t, p.Until("!document.querySelector('button[type=submit]').disabled"))
	require.NoError(t, p.Press("\r"))
	require.NoError(t, p.See("Name or password is wrong."))
	require.NoError(t, p.SignIn(w.Link, "mara", w.SignIn["mara"]))
	require.NoError(t, p.See("No incident is open."))
	assert.Empty(t, axe(t, p))

	w.Fleet.Queue.Break()
	require.NoError(t, p.See("1 waits for you"), "it comes by itself")
	require.NoError(t, p.See("waits for approval"))
	assert.Empty(t, axe(t, p))
	require.NoError(t, p.Click("article.card a.v-btn"))
	require.NoError(t, p.See("berthq park --queue quay-north m-4711"))
	require.NoError(t, p.See("the runbook has a gate here"))
	assert.Empty(t, axe(t, p))
	require.NoError(t, p.Click(".comment-first"))
	require.NoError(t, p.Type("section.wanted textarea", "Seen on both."))
	require.NoError(t, p.Click("#approve"))
	require.NoError(t, p.See("Parked one message; depth fell from"))
	require.NoError(t, p.See("Seen on both."))
	// The story, as it went, and what is left to be read of it.
	require.NoError(t, p.Until("document.querySelector('table.story')?.textContent.includes('closed, good')"))
	told, err := p.Text("document.querySelector('table.story').textContent")
	require.NoError(t, err)
	for _, want := range []string{"approved, good", "Park the unreadable message", "done on berth-consumer-1",
		"“Seen on both.”", "depth "} {
		assert.Contains(t, told, want)
	}
	require.NoError(t, p.Until("document.querySelector('section.sum') !== null"))
	sum, err := p.Text("document.querySelector('section.sum').innerText")
	require.NoError(t, err)
	assert.Regexp(t, `(?s)Repaired in .*Parked one message.*Cause.*Done.*Park the unreadable message on berth-consumer-1.*Approved by.*mara.*Effect.*proved`,
		sum)
	assert.Empty(t, axe(t, p))
	shot(t, p, "story")
	require.NoError(t, p.Click("button.v-tab:nth-of-type(2)"))
	// The head of the page may be newer than the record below it.
	require.NoError(t, p.Until("document.querySelector('ol.record')?.textContent.includes('Closed: repaired')"))
	// What is out of sight is not drawn, and has no innerText.
	text, err := p.Text("document.querySelector('ol.record').textContent")
	require.NoError(t, err)
	order := -1
	for _, want := range []string{"Runbook started", "Depth and the oldest message", "Is it really backing up?",
		"approved", "own(stuck) is m-4711", "Is the queue draining?", "Closed: repaired"} {
		at := strings.Index(text, want)
		assert.Greater(t, at, order, "%s does not stand where it belongs in:\n%s", want, text)
		order = at
	}
	lanes, err := p.Text(
		"['evidence','decision','change','proof'].filter(l => document.querySelector('.span.' + l)).join()",
	)
	require.NoError(t, err)
	assert.Equal(t, "evidence,decision,change,proof", lanes, "the strip draws all four lanes")
	assert.Len(t, w.Fleet.Queue.Changes(), 1)

	// How is it now, against then?
	require.NoError(t, p.Click("button.again"))
	require.NoError(t, p.Until(`document.querySelector('ol.record').textContent.includes('(better)')`))
	require.NoError(t, p.Until("!document.querySelector('button.again').disabled"))
	assert.Empty(t, axe(t, p))
	shot(t, p, "looked-again")

	// Every other page, by keyboard and in the dark.
	for key, want := range map[string]string{"1": "Closed lately", "2": "repaired", "3": "trigger:berth-queue-backlog",
		"4": "berth-queue", "5": "Berth assignments are piling up"} {
		require.NoError(t, p.Press(key))
		require.NoError(t, p.See(want))
		assert.Empty(t, axe(t, p), key)
	}
	require.NoError(t, p.Press("?"))
	require.NoError(t, p.See("go to the button that approves"))
	require.NoError(t, p.Theme("dark"))
	for path, want := range map[string]string{"/incidents/1": "Repaired in",
		"/runbooks/berth-queue-backlog": "Park the unreadable message", "/nothing": "There is no such page",
		"/triggers": "clocks-at-night", "/triggers/berth-queue-backlog.backlog": "What came of it",
		"/incidents/999": "there is no incident 999"} {
		require.NoError(t, p.Go(w.Link+path))
		require.NoError(t, p.See(want))
		assert.Empty(t, axe(t, p), path)
	}
	require.NoError(t, p.Press("d"))
	dark, err := p.Text("String(document.querySelector('.v-theme--dark') !== null)")
	require.NoError(t, err)
	assert.Equal(t, "false", dark)
}

func TestWhoMayNotDecideSeesNoButtons(t *testing.T) {
	w := world(t)
	p := open(t, 400)
	require.NoError(t, p.SignIn(w.Link, "jonas", w.SignIn["jonas"]))
	w.Fleet.Queue.Break()
	require.NoError(t, p.See("waits for approval"))
	require.NoError(t, p.Go(w.Link+"/incidents/1"))
	require.NoError(t, p.See("needs the role approver"))
	n, err := p.Text("String(document.querySelectorAll('#approve').length)")
	require.NoError(t, err)
	assert.Equal(t, "0", n)
	// A small screen scrolls one way only.
	wide, err := p.Text("String(document.documentElement.scrollWidth - document.documentElement.clientWidth)")
	require.NoError(t, err)
	assert.Equal(t, "0", wide)
	assert.Empty(t, axe(t, p))
	require.NoError(t, p.Type("form.note textarea", "The pilot boat was told."))
	require.NoError(t, p.Until("!document.querySelector('form.note button').disabled"))
	require.NoError(t, p.Click("form.note button"))
	require.NoError(t, p.See("jonas: The pilot boat was told."))
}

// What cannot be undone is said with what is lost by it, and asked once more with the values that will be sent.
func TestWhatCannotBeUndoneIsAskedTwice(t *testing.T) {
	w := world(t)
	p := open(t, 1280)
	require.NoError(t, p.SignIn(w.Link, "mara", w.SignIn["mara"]))
	w.Fleet.Clocks.Break()
	require.NoError(t, p.See("1 waits for you"))
	require.NoError(t, p.Go(w.Link+"/incidents/1"))
	require.NoError(t, p.See("“Step the clock”: cannot be undone"))
	require.NoError(t, p.See("What is lost: Time jumps by the offset"))
	require.NoError(t, p.See("Approve on 4 targets, no undo"))
	assert.Empty(t, axe(t, p))
	shot(t, p, "risk")
	require.NoError(t, p.Click("#approve"))
	require.NoError(t, p.See("Exactly this will be sent:"))
	assert.Empty(t, axe(t, p))
	shot(t, p, "second-look")
	assert.Empty(t, w.Fleet.Clocks.Changes(), "nothing is sent before it")
	require.NoError(t, p.Until("!document.querySelector('#approve-sure').disabled"))
	require.NoError(t, p.Click("#approve-sure"))
	require.NoError(t, p.See("Repaired in"))
	require.NoError(t, p.Theme("dark"))
	require.NoError(t, p.Go(w.Link+"/incidents/1"))
	require.NoError(t, p.See("Repaired in"))
	assert.Empty(t, axe(t, p))
	shot(t, p, "story-dark")
}

// A session that is over lies over the page: what was typed is there again, and is sent once whoever it was signed in.
func TestASessionThatIsOverComesBack(t *testing.T) {
	w := world(t)
	p := open(t, 1280)
	require.NoError(t, p.SignIn(w.Link, "mara", w.SignIn["mara"]))
	w.Fleet.Queue.Break()
	require.NoError(t, p.See("1 waits for you"))
	require.NoError(t, p.Go(w.Link+"/incidents/1"))
	require.NoError(t, p.Until("!!document.querySelector('form.note textarea')"))
	require.NoError(t, p.Type("form.note textarea", "The pilot boat waits."))
	require.NoError(t, only(p.Text("fetch('/api/v1/session', {method: 'DELETE'}).then(() => 'done')")))
	require.NoError(t, p.Click("form.note button"))
	require.NoError(t, p.See("Your session is over"))
	assert.Empty(t, axe(t, p))
	shot(t, p, "session-over")
	require.NoError(t, p.Fill("input[name=password]", w.SignIn["mara"]))
	require.NoError(t, p.Press("\r"))
	require.NoError(t, p.Until("!document.body.innerText.includes('Your session is over')"))
	has, err := p.Text("document.querySelector('form.note textarea').value")
	require.NoError(t, err)
	assert.Equal(t, "The pilot boat waits.", has)
	require.NoError(t, p.Click("form.note button"))
	require.NoError(t, p.See("mara: The pilot boat waits."))

	require.NoError(t, p.Press("\x1b"))
	require.NoError(t, p.Click("#me"))
	require.NoError(t, p.Click("#sign-out"))
	require.NoError(t, p.Until("location.pathname === '/sign-in'"))
}

// What is looked for is found by a few letters, from anywhere, by keys alone.
func TestSearchOrAct(t *testing.T) {
	w := world(t)
	p := open(t, 1280)
	require.NoError(t, p.SignIn(w.Link, "mara", w.SignIn["mara"]))
	require.NoError(t, p.Press("/"))
	require.NoError(t, p.Until("document.activeElement?.id === 'find'"))
	assert.Empty(t, axe(t, p))
	require.NoError(t, p.Press("cross"))
	require.NoError(t, p.See("crossing-clocks"))
	shot(t, p, "search")
	require.NoError(t, p.Press("\r"))
	require.NoError(t, p.Until("location.pathname === '/services/crossing-clocks'"))
	require.NoError(t, p.Click("#search"))
	require.NoError(t, p.Until("document.activeElement?.id === 'find'"))
	require.NoError(t, p.Press("halt"))
	require.NoError(t, p.Until("document.querySelector('#found [aria-selected=true]')?.innerText.includes('Halt all changes')"))
	require.NoError(t, p.Press("\r"))
	require.NoError(t, p.See("Halt all changes?"))
	require.NoError(t, p.Type("form.sheet input", "a drill"))
	require.NoError(t, p.Press("\r"))
	require.NoError(t, p.See("All changes are halted by mara"))
	assert.Empty(t, axe(t, p))
	require.NoError(t, p.Click("#halt"))
	require.NoError(t, p.See("Let changes go on?"))
	require.NoError(t, p.Click("form.sheet button[type=submit]"))
	require.NoError(t, p.Until("!document.body.innerText.includes('All changes are halted')"))
}

func TestAPageThatRestedIsLiveAgain(t *testing.T) {
	w := world(t)
	p := open(t, 1280)
	require.NoError(t, p.SignIn(w.Link, "mara", w.SignIn["mara"]))
	_, err := p.Text("window.dispatchEvent(new Event('pagehide')); window.dispatchEvent(new Event('pageshow')); 'done'")
	require.NoError(t, err)
	w.Fleet.Queue.Break()
	require.NoError(t, p.See("1 waits for you"), "after a rest the page is live again")
}

// maxScript is how much script may come before the first page is usable, gzipped, in bytes.
const maxScript = 200 << 10

func TestTheFirstPageIsSmall(t *testing.T) {
	w := world(t)
	p := open(t, 1280)
	require.NoError(t, p.SignIn(w.Link, "mara", w.SignIn["mara"]))
	require.NoError(t, p.Go(w.Link+"/"))
	require.NoError(t, p.See("Nothing waits for you"))
	list, err := p.Text(
		"JSON.stringify(performance.getEntriesByType('resource').map(r => r.name).filter(n => n.endsWith('.js')))",
	)
	require.NoError(t, err)
	var urls []string
	require.NoError(t, json.Unmarshal([]byte(list), &urls))
	require.NotEmpty(t, urls)
	total := 0
	for _, u := range urls {
		res, err := http.Get(u)
		require.NoError(t, err)
		b, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		res.Body.Close()
		var z bytes.Buffer
		g := gzip.NewWriter(&z)
		_, err = g.Write(b)
		require.NoError(t, err)
		require.NoError(t, g.Close())
		total += z.Len()
	}
	t.Logf("script before the first page: %d kB in %d files", total>>10, len(urls))
	assert.Less(t, total, maxScript)
	page, err := http.Get(w.Link + "/")
	require.NoError(t, err)
	defer page.Body.Close()
	html, err := io.ReadAll(page.Body)
	require.NoError(t, err)
	assert.False(
		t,
		regexp.MustCompile(`<script(?:\s[^>]*)?>[^<]`).Match(html),
		"no script stands in the page: %s",
		string(html),
	)
}

// A question is answered in the browser; the answer approves a change, and the path that the run took is drawn.
func TestAQuestionInTheConsole(t *testing.T) {
	w := world(t)
	ctx := context.Background()
	p := open(t, 1280)
	require.NoError(t, p.SignIn(w.Link, "mara", w.SignIn["mara"]))
	w.Fleet.Gates.Break()
	approver, err := w.As(ctx, "approver", access.Approver)
	require.NoError(t, err)
	_, err = w.Approve(ctx, approver, "One of six.")
	require.NoError(t, err)
	require.NoError(t, p.See("waits for an answer"), "it comes by itself")
	runs, err := w.Admin.ListRunsWithResponse(ctx, &api.ListRunsParams{Limit: 1})
	require.NoError(t, err)
	require.NoError(t, p.Go(w.Link+"/runs/"+runs.JSON200.Items[0].Id))
	require.NoError(t, p.See("gatectl release rollback"), "whoever answers sees what would run")
	require.NoError(t, p.See("The path that it took"))
	assert.Empty(t, axe(t, p))
	require.NoError(t, p.Until("!document.querySelector('button.choice').disabled"))
	require.NoError(t, p.Click("button.choice"))
	_, err = w.Approve(ctx, approver, "It is well again.")
	require.NoError(t, err)
	require.NoError(t, p.See("no gate has more than"))
	require.NoError(t, p.Until("document.querySelectorAll('.node.taken').length > 8"))
	assert.Len(t, w.Fleet.Gates.Changes(), 3)
	require.NoError(t, p.See("Run again"))

	require.NoError(t, p.Go(w.Link+"/runbooks/boarding-gate-errors"))
	require.NoError(t, p.See("Roll it back and put it in again"))
	assert.Empty(t, axe(t, p))
	require.NoError(t, p.Click(".vue-flow__node[data-id] .node.step.change"))
	require.NoError(t, p.Until("document.querySelector('.cm-line.picked')?.textContent.includes('change:')"),
		"the picture shows where its step stands in the text")
}

// A payload that could not be read is the sample on the bench; what it becomes is seen while its map is looked at.
func TestTheBenchOfASource(t *testing.T) {
	w := world(t)
	ctx := context.Background()
	key, err := w.Admin.AddSourceWithResponse(ctx, api.NewSource{Name: "quay-panel"})
	require.NoError(t, err)
	post := func(body string) {
		req, err := http.NewRequest(http.MethodPost, w.Link+"/in/quay-panel", strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+key.JSON201.Token)
		req.Header.Set("Content-Type", "application/xml")
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		res.Body.Close()
		require.Equal(t, http.StatusAccepted, res.StatusCode)
	}
	post(`<panel quay="n" at="soon"><point id="ramp-2" state="alarm" code="17"><text>Stuck</text></point></panel>`)
	p := open(t, 1280)
	require.NoError(t, p.SignIn(w.Link, "iva", w.SignIn["iva"]))
	require.NoError(t, p.Go(w.Link+"/sources"))
	require.NoError(t, p.See("1 cannot be read"))
	assert.Empty(t, axe(t, p))
	require.NoError(t, p.Click("a[href='/sources/quay-panel']"))
	require.NoError(t, p.See(`"soon" is no time`))
	require.NoError(t, p.Click(".acts button"))
	require.NoError(t, p.See("cannot be read: at:"))
	require.NoError(t, p.See("of: item._state"))
	assert.Empty(t, axe(t, p))
	require.NoError(t, p.Click(".acts button:last-child"))
	require.NoError(t, p.See("item 1 still cannot be read"))
}

// A document is written in the console: what was seen is offered, mistakes stand where they are, and what is pushed is
// what was shown.
func TestADocumentIsWritten(t *testing.T) {
	w := world(t)
	w.Fleet.Queue.Break()
	require.Eventually(t, func() bool {
		r, err := w.Admin.ListSeenWithResponse(context.Background(), &api.ListSeenParams{Field: "service"})
		return err == nil && len(*r.JSON200) > 0
	}, time.Minute, 200*time.Millisecond)
	p := open(t, 1280)
	require.NoError(t, p.SignIn(w.Link, "iva", w.SignIn["iva"]))
	require.NoError(t, p.Go(w.Link+"/documents"))
	require.NoError(t, p.See("clocks-at-night"))
	assert.Empty(t, axe(t, p))
	require.NoError(t, p.Click("a[href='/documents/join']"))
	require.NoError(t, p.See("A new join"))
	require.NoError(t, p.See("join my-join is added"))
	assert.Empty(t, axe(t, p))
	// Onto the line after the name, where a condition is written.
	require.NoError(t, p.Click(".cm-line:nth-child(2)"))
	require.NoError(t, p.Press(kb.End))
	require.NoError(t, only(p.Text(`document.execCommand('insertText', false, '\n'); 'done'`)))
	require.NoError(t, p.Press(`when: alert.service == "`))
	require.NoError(t, p.See("berth-queue"), "what alerts said is offered")
	shot(t, p, "document-offered")
	require.NoError(t, p.Press(`berth-queue" &`))
	require.NoError(t, p.See("line 3:"))
	require.NoError(t, p.Until("document.querySelector('form.push button').disabled"))
	shot(t, p, "document-mistake")
	require.NoError(t, p.Press(kb.Backspace+kb.Backspace))
	require.NoError(t, p.See("join my-join is added"))
	require.NoError(t, p.Type("form.push input", "berths are one trouble"))
	require.NoError(t, p.Until("!document.querySelector('form.push button').disabled"))
	require.NoError(t, p.Click("form.push button"))
	require.NoError(t, p.See("revision 1"))
	require.NoError(t, p.See("berths are one trouble"))
	got, err := w.Admin.GetDocumentWithResponse(context.Background(), "join", "my-join", &api.GetDocumentParams{})
	require.NoError(t, err)
	assert.Contains(t, got.JSON200.Text, `when: alert.service == "berth-queue"`+"\n")
	assert.Equal(t, "iva", got.JSON200.PushedBy)

	require.NoError(t, p.Click(".cm-line:nth-child(5)"))
	require.NoError(t, p.Press(kb.End+"\b\b\b20m"))
	require.NoError(t, p.See("join my-join is changed"))
	shot(t, p, "document-changed")
	require.NoError(t, p.Click("form.push button"))
	require.NoError(t, p.See("revision 2"))
	require.NoError(t, p.Click("table[aria-label=Revisions] button"))
	require.NoError(t, p.Until("document.querySelector('.cm-content').innerText.includes('within: 15m')"))
	require.NoError(t, p.See("join my-join is changed"))
}

// Where nothing starts by itself, the page suggests runbooks and says why, and starts it.
func TestWhatMayHelpIsSuggested(t *testing.T) {
	w := world(t)
	ctx := context.Background()
	opened, err := w.Admin.OpenIncidentWithResponse(ctx, api.NewIncident{Title: "Clocks look odd on the ferries",
		Service: "crossing-clocks", Severity: "minor"})
	require.NoError(t, err)
	require.NotNil(t, opened.JSON201, string(opened.Body))
	p := open(t, 1280)
	require.NoError(t, p.SignIn(w.Link, "mara", w.SignIn["mara"]))
	require.NoError(t, p.Go(fmt.Sprintf("%s/incidents/%d", w.Link, opened.JSON201.Number)))
	require.NoError(t, p.See("Suggested runbooks"))
	require.NoError(t, p.See("it is for crossing-clocks"))
	assert.Empty(t, axe(t, p))
	shot(t, p, "suggested")
	require.NoError(t, p.Click("section.suggest button"))
	require.NoError(t, p.Until("location.pathname.startsWith('/runs/')"))
	require.Eventually(t, func() bool {
		r, err := w.Admin.ListRunsWithResponse(ctx, &api.ListRunsParams{Limit: 10})
		return err == nil && len(r.JSON200.Items) == 1 && r.JSON200.Items[0].Incident == opened.JSON201.Number
	}, time.Minute, 50*time.Millisecond)
}

// A runbook of the library is read, bound to a service, and is a runbook of ours.
func TestTheLibraryInTheConsole(t *testing.T) {
	w := world(t)
	p := open(t, 1280)
	require.NoError(t, p.SignIn(w.Link, "iva", w.SignIn["iva"]))
	require.NoError(t, p.Go(w.Link+"/runbooks"))
	require.NoError(t, p.Click("a[href='/library']"))
	require.NoError(t, p.See("One replica answers worse than its siblings"))
	assert.Empty(t, axe(t, p))
	shot(t, p, "library")
	require.NoError(t, p.Click("a[href='/library/host-disk-full']"))
	require.NoError(t, p.See("What cannot write any more stops"))
	require.NoError(t, p.See("Remove old files"))
	assert.Empty(t, axe(t, p))
	shot(t, p, "library-runbook")
	require.NoError(t, p.Click("a[href='/documents/binding?library=host-disk-full']"))
	require.NoError(t, p.See("library: host-disk-full"))
	for line, now := range map[string]string{"4": strings.Repeat("\b", 10) + "berth-queue",
		"5": strings.Repeat("\b", 7) + "quayside", "7": strings.Repeat("\b", 4) + "consumer"} {
		require.NoError(t, p.Click(".cm-line:nth-child("+line+")"))
		require.NoError(t, p.Press(kb.End+now))
	}
	require.NoError(t, p.See("binding my-host-disk-full is added"))
	require.NoError(t, p.See("runbook my-host-disk-full is added"))
	shot(t, p, "library-bound")
	require.NoError(t, p.Until("!document.querySelector('form.push button').disabled"))
	require.NoError(t, p.Click("form.push button"))
	require.NoError(t, p.See("revision 1"))
	r, err := w.Admin.GetRunbookWithResponse(context.Background(), "my-host-disk-full")
	require.NoError(t, err)
	require.NotNil(t, r.JSON200, string(r.Body))
	assert.Contains(t, r.JSON200.Text, "where: {role: consumer}")
	require.NoError(t, p.Go(w.Link+"/library"))
	require.NoError(t, p.See("my-host-disk-full"))
}

// shot keeps a picture where somebody asked for them.
func shot(t *testing.T, p *Page, name string) {
	if dir := os.Getenv("URGENTIS_SHOTS"); dir != "" {
		require.NoError(t, p.Shoot(filepath.Join(dir, name+".png")))
	}
}
