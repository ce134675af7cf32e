package estate_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/alert"
	"urgentis/core/estate"
	"urgentis/core/expr"
	"urgentis/core/incident"
	"urgentis/core/message"
	"urgentis/core/source"
	"urgentis/core/trigger"
)

var fenced = regexp.MustCompile("(?s)```(yaml|json)\n(.*?)```")

// Every document in the documentation is sound, and the sample becomes what it says.
func TestTheDocumentationIsTrue(t *testing.T) {
	text, err := os.ReadFile("../../docs/sources.md")
	require.NoError(t, err)
	sources := map[string]*source.Source{"": sourceOf(t, "urgentis: source/1\nname: devices\ntakes: trap\n")}
	var samples []string
	for _, m := range fenced.FindAllStringSubmatch(string(text), -1) {
		if m[1] == "yaml" {
			s := sourceOf(t, m[2])
			sources[s.Name] = s
		} else {
			samples = append(samples, m[2])
		}
	}
	got, err := mapping(sources["quay-panel"], json(samples[0]), now)
	require.NoError(t, err)
	require.Len(t, got, 2)
	assert.Equal(t, "north/ramp-2", got[0].Report.Key)
	assert.Equal(t, alert.Major, got[0].Report.Severity)
	assert.Equal(t, "ramp_blocked", got[0].Report.Labels["signal"])
	assert.Equal(t, alert.Cleared, got[1].Report.Severity)
	trap, err := mapping(sources[""], json(samples[len(samples)-1]), now)
	require.NoError(t, err)
	assert.Equal(t, "The link winch-4 is down", trap[0].Report.Summary)
	for _, takes := range source.Takes {
		for _, n := range append(source.Names(takes), source.WaysOf(takes)...) {
			assert.True(t, strings.Contains(string(text), n), n)
		}
	}
	for _, k := range append(estate.Kinds, "push", "pull") {
		assert.True(t, strings.Contains(string(text), string(k)), k)
	}
	for _, n := range source.FieldNames {
		assert.True(t, strings.Contains(string(text), "`"+n+"`"), n)
	}
}

// Every document in the other pages is sound, and every word of a trigger is explained.
func TestTheOtherPagesAreTrue(t *testing.T) {
	text := map[string]string{}
	for _, page := range []string{"triggers", "incidents", "people-and-messages", "desk", "library", "evidence",
		"objectives"} {
		b, err := os.ReadFile("../../docs/" + page + ".md")
		require.NoError(t, err)
		text[page] = string(b)
		n := 0
		for _, m := range fenced.FindAllStringSubmatch(string(b), -1) {
			if m[1] != "yaml" {
				continue
			}
			docs, found := estate.Parse([]estate.File{{Name: page, Text: m[2]}})
			require.Empty(t, found, m[2])
			n += len(docs)
			for _, d := range docs {
				if d.Connection != nil && d.Connection.Desk != nil {
					asks(t, d.Connection.Desk)
				}
			}
		}
		assert.Positive(t, n, page)
	}
	for _, word := range append(trigger.Occasions, trigger.MissedOnce, trigger.MissedSkip, trigger.MissedEach, "hours",
		"steady", "count", "at_most", "inputs", "on", "zone") {
		assert.True(t, strings.Contains(text["triggers"], word), word)
	}
	assert.True(t, strings.Contains(text["incidents"], incident.ExportFormat))
}

// asks makes every request of a desk as it would be made of an incident.
func asks(t *testing.T, d *message.DeskRequests) {
	names := map[string]any{
		"incident": map[string]any{
			"title":      "deep & wide",
			"reference":  "urgentis:http://u/incidents/7",
			"severity":   "critical",
			"harm":       "",
			"link":       "http://u/incidents/7",
			"waiting_on": "person",
			"outcome":    "repaired",
			"because":    "it fell",
			"owner":      "quayside",
			"service":    "boarding-gates",
		},
		"ticket":  map[string]any{"number": "T-1", "link": ""},
		"comment": map[string]any{"text": "it fell", "internal": true, "key": "k"},
	}
	for _, r := range []*message.Request{d.Open, d.Find, d.Comment, d.Update, d.Resolve,
		d.FollowUp} {
		if r == nil {
			continue
		}
		call, err := r.Render(names, nil)
		require.NoError(t, err)
		assert.True(t, strings.HasPrefix(call.URL, "https://"), call.URL)
		if r.Form {
			assert.Contains(t, call.Body, "call=")
		}
	}
	ok, err := d.When.Bool(&expr.Scope{Names: names})
	require.NoError(t, err)
	assert.True(t, ok)
}

// The demo's sources are sound, and the samples beside them are read by theirs.
func TestTheDemosSources(t *testing.T) {
	const folder = "../../examples/ferry/"
	files, err := filepath.Glob(folder + "sources/*.yaml")
	require.NoError(t, err)
	sources := map[string]*source.Source{}
	for _, f := range files {
		text, err := os.ReadFile(f)
		require.NoError(t, err)
		s := sourceOf(t, string(text))
		sources[s.Name] = s
	}
	samples, err := filepath.Glob(folder + "samples/*")
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(samples), 4)
	for _, f := range samples {
		body, err := os.ReadFile(f)
		require.NoError(t, err)
		s := sources[strings.TrimSuffix(filepath.Base(f), filepath.Ext(f))]
		got, err := mapping(s, source.Payload{ContentType: "text/xml", Body: body}, now)
		require.NoError(t, err, f)
		for _, m := range got {
			assert.Empty(t, m.Unparsed, f)
		}
	}
}
