package incident

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func said1(kind Kind, title, content string) Entry {
	return Entry{Seq: 1, At: time.Date(2026, 3, 7, 2, 14, 6, 0, time.UTC), Kind: kind, Actor: "runbook:r", Title: title,
		Content: json.RawMessage(content)}
}

// What an entry tells beside its title: what was read, done, missing, failed and said, and nothing that is not there.
func TestFactsOfEntries(t *testing.T) {
	for _, c := range []struct {
		entry  Entry
		word   string
		facts  string
		failed bool
	}{
		{said1(LookTaken, "How full?", `{"target":"web-1","shown":"df /","state":"ok","exit":0,
			"readings":{"used":{"value":91.5,"unit":"%"},"host":{"value":"web-1"}},"output":{"head":"a lot"}}`),
			"look", "on web-1; df /; host = web-1; used = 91.5 %", false},
		{said1(LookTaken, "Log", `{"target":"web-1","shown":"tail x","state":"ok","output":{"head":"one\ntwo\nthree\nfour"}}`),
			"look", "on web-1; tail x; printed: one / two / three", false},
		{said1(LookIncomplete, "How full?", `{"target":"web-1","shown":"df /","state":"failed","exit":127,
			"error":"","stderr":{"head":"df: not found"},"missing":{"used":"nothing was printed"}}`),
			"look", "on web-1; df /; used is missing: nothing was printed; failed, exit 127; printed: df: not found", true},
		{said1(ChangeBegun, "Reload", `{"target":"web-1","shown":"systemctl reload nginx"}`),
			"change", "on web-1; systemctl reload nginx", false},
		{said1(ChangeEnded, "Reload", `{"target":"web-1","shown":"systemctl reload nginx","state":"ok","exit":0}`),
			"change", "on web-1", false},
		{said1(ChangeEnded, "Reload", `{"target":"web-1","shown":"systemctl reload nginx","state":"failed","exit":1,
			"stderr":{"head":"Job failed."}}`),
			"failed", "on web-1; systemctl reload nginx; failed, exit 1; printed: Job failed.", true},
		{said1(UndoDone, "Reload", `{"target":"web-1","shown":"x","state":"unknown","error":"the connection dropped"}`),
			"undo fails", "on web-1; x; unknown, the connection dropped", true},
		{said1(CheckFails, "Is one below?", `{"result":"fails","values":[{"part":"readings.days","text":"4"}],"unsure":""}`),
			"fails", "readings.days = 4", false},
		{said1(ChangeStill, "Still wanted?", `{"target":"web-1","result":"passes",
			"values":[{"part":"readings.days","text":"4"}]}`),
			"still?", "on web-1; passes; readings.days = 4", false},
		{said1(StepTroubled, "Trouble", `{"because":"exit 1"}`), "trouble", "exit 1", true},
		{said1(GateRaised, "Asked", `{"requests":[{"target":"a","shown":"rm x"},{"target":"b","shown":"rm x"}]}`),
			"gate", "a: rm x; b: rm x", false},
		{said1(GateRefused, "Refused", `{"comment":"not\nat night"}`), "refused", "not / at night", false},
		{said1(Note, "Seen", `{"text":"it leaks\u001b[2J"}`), "note", "it leaks⟨U+001B⟩[2J", false},
		{Entry{Kind: Note, Title: "taken out"}, "note", "", false},
	} {
		assert.Equal(t, c.facts, strings.Join(c.entry.Facts(), "; "), c.entry.Title)
		assert.Equal(t, c.failed, c.entry.Failed(), c.entry.Title)
		assert.Equal(t, c.word, c.entry.Word(), c.entry.Title)
	}
	long := said1(Note, "x", `{"text":"`+strings.Repeat("é", 5000)+`"}`)
	assert.Len(t, []rune(long.Facts()[0]), mostFact)
}

func TestWhatIsChosenOfEntries(t *testing.T) {
	lock, gate := said1(LockTaken, "", "{}"), said1(GateRaised, "", "{}")
	assert.False(t, lock.Among(nil), "it is machinery")
	assert.True(t, gate.Among(nil))
	assert.True(t, lock.Among([]string{"lock", "note"}))
	assert.True(t, gate.Among([]string{"gate.raised"}))
	assert.False(t, gate.Among([]string{"gate.approved"}))
	for _, k := range Kinds {
		assert.Contains(t, Choices(), string(k.Kind))
	}
}

// A report says of what failed that it failed, and of what was undone what became of that.
func TestAReportShowsWhatFailed(t *testing.T) {
	r := &Report{Title: "x", OpenedAt: time.Now(), Entries: []Entry{
		said1(LookTaken, "How full?", `{"target":"web-1","readings":{"used":{"value":91}}}`),
		said1(ChangeEnded, "Reload", `{"target":"web-1","shown":"systemctl reload nginx","state":"failed","exit":1}`),
		said1(StepTroubled, "Trouble: Reload", `{"because":"exit 1"}`),
		said1(UndoDone, "Put the old one back", `{"target":"web-1","state":"failed","exit":2}`),
		said1(LockGivenBack, "Free for others again", `{}`),
	}}
	html, err := r.HTML()
	assert.NoError(t, err)
	for _, text := range []string{r.Markdown(), html} {
		for _, want := range []string{"used = 91", "failed", "systemctl reload nginx", "exit 1", "trouble", "undo fails",
			"exit 2"} {
			assert.Contains(t, text, want)
		}
		assert.NotContains(t, text, "Free for others")
	}
}
