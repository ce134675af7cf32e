package estate_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"urgentis/core/alert"
	"urgentis/core/estate"
	"urgentis/core/source"
)

const watch = `urgentis: source/1
name: harbour-watch
each: body.conditions
map:
  key: "{{ item.station }}/{{ item.what }}"
  summary: "{{ item.words }}"
  severity: {of: item.level, as: {"1": critical, "2": major, high: major}, otherwise: warning}
  service: {of: item.text, pattern: 'service=([a-z-]+)', otherwise: unknown}
  labels: {station: "{{ item.station }}", signal: "{{ item.what }}"}
  at: "{{ item.since }}"
cleared: item.state == "ok"
ignore: item.station == "test"
silent_after: 10m
`

var now = time.Date(2031, 3, 1, 2, 0, 0, 0, time.UTC)

func sourceOf(t require.TestingT, text string) *source.Source {
	docs, found := estate.Parse([]estate.File{{Name: "watch.yaml", Text: text}})
	require.Empty(t, found)
	require.Len(t, docs, 1)
	return docs[0].Source
}

// seen is what was read of an item, with what is said of an alert.
type seen struct {
	Report   alert.Report
	Made     []source.Made
	Ignored  bool
	Unparsed string
}

// mapping reads a payload; an error says why nothing of it can be read.
func mapping(s *source.Source, p source.Payload, at time.Time) ([]seen, error) {
	r := s.Read(p, alert.HeardAt(at))
	if r.Unparsed != "" {
		return nil, errors.New(r.Unparsed)
	}
	out := make([]seen, len(r.Items))
	for i, x := range r.Items {
		out[i] = seen{Made: x.Made(), Unparsed: x.Unparsed}
		switch e := x.Event.(type) {
		case *source.Alert:
			out[i].Report = e.Report
		case source.Ignored:
			out[i].Ignored = true
		}
	}
	return out, nil
}

func json(body string) source.Payload {
	return source.Payload{ContentType: "application/json", Body: []byte(body)}
}

func TestMapping(t *testing.T) {
	s := sourceOf(t, watch)
	assert.Equal(t, 10*time.Minute, s.SilentAfter)
	got, err := mapping(s, json(`{"conditions": [
		{"station": "quay-1", "what": "queue_depth", "words": "812 wait", "level": 1, "text": "x service=berth-queue y",
			"since": "2031-03-01T01:59:00Z", "state": "bad"},
		{"station": "quay-2", "what": "queue_depth", "level": "odd", "text": "", "since": 1930096740, "state": "ok"},
		{"station": "test"},
		{"station": "quay-3", "what": "queue_depth", "level": 2, "text": "", "since": "soon", "state": "bad", "words": "a"},
		{"station": "quay-4"}
	]}`), now)
	require.NoError(t, err)
	require.Len(t, got, 5)
	assert.Equal(t, alert.Report{
		Key: "quay-1/queue_depth", Severity: alert.Critical, Summary: "812 wait", Service: "berth-queue",
		Labels: map[string]string{"station": "quay-1", "signal": "queue_depth"}, At: alert.SaidAt(now.Add(-time.Minute)),
	}, got[0].Report)
	assert.Contains(t, got[0].Made, source.Made{Field: "severity", Value: "critical", From: "of: item.level"})
	assert.Equal(t, alert.Cleared, got[1].Report.Severity)
	assert.Equal(t, "unknown", got[1].Report.Service)
	assert.True(t, got[2].Ignored)
	assert.Equal(t, `at: "soon" is no time; RFC 3339 and seconds since 1970 are understood`, got[3].Unparsed)
	assert.Equal(t, "cleared: there is no state", got[4].Unparsed)
	for body, want := range map[string]string{
		`{"conditions": 3`: "the body is not JSON: unexpected EOF",
		`{}`:               "each: there is no conditions",
		`{} {}`:            "the body is not JSON: something follows the first value",
		strings.Repeat("[", 70) + strings.Repeat("]", 70):                  "the body is nested more than 64 deep",
		`{"conditions": [` + strings.Repeat("1,", source.MaxItems) + `1]}`: "there are 101 items, 100 are allowed",
	} {
		_, err := mapping(s, json(body), now)
		assert.EqualError(t, err, want, body)
	}
}

// What stands where a value is missing may be made of others.
func TestOtherwiseIsFilledIn(t *testing.T) {
	s := sourceOf(t, `urgentis: source/1
name: a
map:
  summary: {of: body.text, otherwise: "{{ body.host }} is ill"}
  severity: {of: body.level, otherwise: "{{ body.bad ? 'major' : 'minor' }}"}
`)
	got, err := mapping(s, json(`{"host": "quay-1", "bad": true}`), now)
	require.NoError(t, err)
	assert.Equal(t, "quay-1 is ill", got[0].Report.Summary)
	assert.Equal(t, alert.Major, got[0].Report.Severity)
	got, err = mapping(s, json(`{"bad": true}`), now)
	require.NoError(t, err)
	assert.Equal(t, "summary: {{ body.host }}: there is no host", got[0].Unparsed)
	_, found := estate.Parse([]estate.File{{Name: "a", Text: "urgentis: source/1\nname: a\nmap:\n" +
		"  summary: {of: body.text, otherwise: '{{ bodyy }}'}\n  severity: {of: body.x, otherwise: odd}\n"}})
	require.Len(t, found, 2)
	assert.Equal(t, "body", found[0].Meant)
}

func TestBodiesOfOtherKinds(t *testing.T) {
	one := func(m, contentType, body string) (alert.Report, string) {
		s := sourceOf(t, "urgentis: source/1\nname: a\nmap:\n  severity: major\n"+m)
		got, err := mapping(s, source.Payload{
			ContentType: contentType, Body: []byte(body), Query: map[string]string{"key": "k1"},
			Headers: map[string]string{"x-station": "quay-1"},
		}, now)
		if err != nil {
			return alert.Report{}, err.Error()
		}
		return got[0].Report, got[0].Unparsed
	}
	r, why := one("  summary: \"{{ body.alarm.text }} {{ body.alarm._id }}\"\n", "text/xml; charset=utf-8",
		`<alarm id="7"><text>dark &amp; cold</text></alarm>`)
	assert.Empty(t, why)
	assert.Equal(t, "dark & cold 7", r.Summary)
	r, why = one("  summary: \"{{ body.what }} at {{ headers['x-station'] }}\"\n  key: \"{{ query.key }}\"\n",
		"application/x-www-form-urlencoded", "what=a+lamp&other=1")
	assert.Empty(t, why)
	assert.Equal(t, "a lamp at quay-1", r.Summary)
	assert.Equal(t, "k1", r.Key)
	r, why = one("  summary: {of: body, pattern: 'ALARM (.*)'}\n", "text/plain", "ALARM the lamp is dark")
	assert.Empty(t, why)
	assert.Equal(t, "the lamp is dark", r.Summary)
	_, why = one("  summary: {of: body, pattern: 'ALARM (.*)'}\n", "", "fine")
	assert.Equal(t, `summary: "fine" does not match the pattern`, why)
	for _, bomb := range []string{
		`<!DOCTYPE a [<!ENTITY b "cc"><!ENTITY c "&b;&b;">]><a>&c;</a>`,
		`<!DOCTYPE a [<!ENTITY b SYSTEM "file:///etc/passwd">]><a>&b;</a>`,
	} {
		_, why = one("  summary: \"{{ body.a }}\"\n", "application/xml", bomb)
		assert.Equal(t, "the body declares entities of its own, which are not taken", why)
	}
	_, why = one("  summary: \"{{ body.a }}\"\n", "application/xml", "<a>")
	assert.Contains(t, why, "the body is not XML: ")
	_, why = one("  summary: x\n", "application/xml", strings.Repeat("<a>", 70)+strings.Repeat("</a>", 70))
	assert.Equal(t, "the body is nested more than 64 deep", why)
	_, why = one("  summary: x\n", "text/plain", "\xff")
	assert.Equal(t, "the body is not UTF-8, and nothing says what else it is", why)
}

func TestMistakes(t *testing.T) {
	for text, want := range map[string]string{
		"name: a": "1: a document begins with urgentis: KIND/1, where " +
			"KIND is runbook, source, trigger, calendar, mute, join, team, connection, route, binding, watch, objective, device, lookback or reader",
		"urgentis: sorce/1": "1: urgentis must be KIND/1, where KIND is runbook, source, " +
			"trigger, calendar, mute, join, team, connection, route, binding, watch, objective, device, lookback or reader; did you mean source/1?",
		"urgentis: source/2": "1: urgentis must be KIND/1, where KIND is runbook, source, " +
			"trigger, calendar, mute, join, team, connection, route, binding, watch, objective, device, lookback or reader; did you mean source/1?",
		"urgentis: source/1": "1: the source has no name",
		"urgentis: source/1\nname: a\nproof: [bearr]": "3: there is no proof bearr of what comes by http; " +
			"they are bearer, basic, address, signed; did you mean bearer?",
		"urgentis: source/1\nname: a\ntakes: sylog": "3: takes must be one of http, mail, syslog, trap, not sylog; " +
			"did you mean syslog?",
		"urgentis: source/1\nname: a\ntakes: syslog": "1: from is missing: without keys, what may report is known by " +
			"its network, such as from: [10.1.0.0/16]",
		"urgentis: source/1\nname: a\ntakes: syslog\nfrom: [10.1]": "4: 10.1 is no network; write it like " +
			"10.1.0.0/16, or 0.0.0.0/0 for any",
		"urgentis: source/1\nname: a\ntakes: mail": "1: what comes by mail needs a map: how it is read is known to " +
			"nobody else",
		"urgentis: source/1\nname: a\nzone: UTC": "3: zone is for sources that take syslog, whose times may name none",
		"urgentis: source/1\nname: a\ntakes: trap\nzone: Mars/1": "4: there is no zone Mars/1; write it like " +
			"Europe/Lisbon or UTC",
		"urgentis: source/1\nname: a\nrate: 0": "3: rate is how many reports are taken in a second, from 1 to 100000",
		"urgentis: source/1\nname: a\ntakes: trap\ncleared: trap.oid == \"1\"": "4: cleared needs a map: without one " +
			"notifications are read by RFC 3877 and RFC 2863",
		"urgentis: source/1\nname: a\ntakes: trap\nmap: {severity: major, summary: \"{{ body.x }}\"}": "4: there is " +
			"no body here",
		"urgentis: source/1\nname: a\nproof: []": "3: proof is empty: then nothing can be reported",
		"urgentis: source/1\nname: urgentis": "2: urgentis is the source of the service's own alerts; give it " +
			"another name",
		"urgentis: source/1\nname: A b": "2: name must be small letters, digits and hyphens, " +
			"and begin with a letter",
		strings.Replace(watch, "ignore", "ignor", 1):         "12: a source has no key ignor; did you mean ignore?",
		strings.Replace(watch, "item.level", "itm.level", 1): "7: there is no itm here; did you mean item?",
		strings.Replace(watch, "high: major", "high: majr", 1): "7: there is no severity majr; they are cleared, " +
			"warning, " +
			"minor, major, critical; did you mean major?",
		strings.Replace(watch, "service=(", "service=((", 1): "8: pattern is not a regular expression " +
			"(RE2): missing closing ): `service=(([a-z-]+)`",
		strings.Replace(watch, "  summary: \"{{ item.words }}\"\n", "", 1): "5: map has no summary",
		"urgentis: source/1\nname: a\nignore: body.a == 1": "3: ignore needs a map: without one the source sends " +
			"our own JSON " +
			"or CloudEvents",
		strings.Replace(watch, `item.state == "ok"`, `item.state = "ok"`, 1): "11: = compares nothing: write ==",
		strings.Replace(watch, `at: "{{ item.since }}"`, `at: {of: item.since, otherwise: "0"}`,
			1): "10: at: \"0\" is " +
			"no time; RFC 3339 and seconds since 1970 are understood",
		strings.Replace(watch, "of: item.text, ", "", 1): "8: service needs of: the value that " +
			"it is made of",
	} {
		_, found := estate.Parse([]estate.File{{Name: "x.yaml", Text: text}})
		var said []string
		for _, f := range found {
			said = append(said, fmt.Sprintf("%d: %s", f.Line, f.Sentence()))
		}
		assert.Equal(t, want, strings.Join(said, "\n"), text)
	}
}

func TestManyDocumentsInAFile(t *testing.T) {
	text := "# the harbour\n---\n" + watch + "---\nurgentis: source/1\nname: tide-watch\n---\n# nothing\n"
	docs, found := estate.Parse([]estate.File{{Name: "a.yaml", Text: text}, {Name: "b.yaml",
		Text: "\nurgentis: source/1\nname: tide-watch\n---\nurgentis: source/1\nnam: x\n"}})
	require.Len(t, docs, 2)
	assert.Equal(t, watch, docs[0].Text)
	assert.Equal(t, 3, docs[0].Line)
	require.Len(t, found, 2)
	assert.Equal(t, "there is another source tide-watch in a.yaml", found[0].Message)
	assert.Equal(t, 2, found[0].Line)
	assert.Equal(t, 6, found[1].Line, "places are those of the file")
}

func TestPlan(t *testing.T) {
	docs, found := estate.Parse([]estate.File{{Name: "a.yaml", Text: watch + "---\nurgentis: source/1\nname: b\n"}})
	require.Empty(t, found)
	have := []estate.Have{
		{Kind: estate.Source, Name: "old", Text: "urgentis: source/1\nname: old\n", Digest: "1"},
		{Kind: estate.Source, Name: "harbour-watch", Digest: "2",
			Text: strings.Replace(
				strings.Replace(watch, "otherwise: warning", "otherwise: minor", 1),
				"ignore: ",
				"#",
				1,
			)},
	}
	said := func(prune bool) (out []string) {
		for _, s := range estate.Plan(have, docs, "", prune) {
			out = append(out, strings.TrimSpace(s.What+" "+s.Name+" "+strings.Join(s.Fields, "; ")))
		}
		return out
	}
	assert.Equal(t, []string{"added b", `changed harbour-watch ignore: "item.station == \"test\"", new; ` +
		`map.severity.otherwise: "warning", was "minor"`}, said(false))
	assert.Contains(t, said(true), "removed old")
}

// Values are compared whole, and told around what differs. What is empty is told from what is missing, a number from a
// text.
func TestCompareTellsWhatDiffers(t *testing.T) {
	long := strings.Repeat("a", 100)
	for _, c := range []struct{ older, newer, want string }{
		{"x: " + long + "b", "x: " + long + "c",
			`x: …` + strings.Repeat("a", 20) + `c", was …` + strings.Repeat("a", 20) + `b"`},
		{"x: " + long, "x: b" + long, `x: "b` + strings.Repeat("a", 58) + `…, was "` + strings.Repeat("a", 59) + `…`},
		{"x: {}", "y: 1", `x: gone, was {}; y: 1, new`},
		{"x: [1]", "x: []", `x: [], new; x[1]: gone, was 1`},
		{"x: 1", `x: "1"`, `x: "1", was 1`},
		{"x: " + long, "x:   " + long, ""},
	} {
		assert.Equal(t, c.want, strings.Join(estate.Compare(c.older, c.newer), "; "))
	}
}

// A document whose text stays and that is kept elsewhere from then on is a change of its own.
func TestAPlanSaysWhatIsTakenFromElsewhere(t *testing.T) {
	docs, found := estate.Parse([]estate.File{{Name: "a.yaml", Text: watch}})
	require.Empty(t, found)
	have := []estate.Have{{Kind: estate.Source, Name: docs[0].Name, Text: docs[0].Text, Digest: docs[0].Digest,
		Origin: "harbour"}}
	s := estate.Plan(have, docs, "quay", false)
	assert.Equal(t, estate.Moved, s[0].What)
	assert.Equal(t, "harbour", s[0].KeptAt)
	assert.False(t, estate.Nothing(s))
	assert.Equal(t, estate.Same, estate.Plan(have, docs, "harbour", false)[0].What)
	assert.Equal(t, estate.Same, estate.Plan(have, docs, "", false)[0].What, "whoever names no place moves nothing")
}

// What was applied is there: a second plan has nothing to do, in whatever order the documents come.
func TestPlanTwiceDoesNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		names := rapid.SliceOfNDistinct(rapid.StringMatching("[a-z]{1,4}"), 0, 8, rapid.ID[string]).Draw(t, "names")
		text := &strings.Builder{}
		for _, n := range names {
			fmt.Fprintf(
				text,
				"---\nurgentis: source/1\nname: %s\nsilent_after: %dm\n",
				n,
				rapid.IntRange(1, 9).Draw(t, "m"),
			)
		}
		docs, found := estate.Parse([]estate.File{{Name: "a", Text: text.String()}})
		require.Empty(t, found)
		var have []estate.Have
		for _, s := range estate.Plan(nil, docs, "", true) {
			require.Equal(t, estate.Added, s.What)
			have = append(have, estate.Have{
				Kind: s.Kind, Name: s.Name, Text: s.Document.Text, Digest: s.Document.Digest})
		}
		assert.True(t, estate.Nothing(estate.Plan(rapid.Permutation(have).Draw(t, "order"), docs, "", true)))
	})
}

// A mapping is a pure function that never fails otherwise than in words.
func FuzzMapping(f *testing.F) {
	s := sourceOf(f, watch)
	f.Add("application/json", `{"conditions": [{"station": "a"}]}`)
	f.Add("text/xml", `<conditions><station>a</station></conditions>`)
	f.Add("application/x-www-form-urlencoded", "a=b&conditions=1")
	f.Add("text/plain", "words")
	f.Fuzz(func(t *testing.T, contentType, body string) {
		p := source.Payload{ContentType: contentType, Body: []byte(body)}
		a, errA := mapping(s, p, now)
		b, errB := mapping(s, p, now)
		require.Equal(t, errA, errB)
		require.Equal(t, a, b)
		for _, m := range a {
			assert.True(t, m.Ignored || m.Unparsed != "" || m.Report.Key != "")
		}
	})
}

func FuzzParse(f *testing.F) {
	f.Add(watch)
	f.Add("---\n---\nurgentis: source/1")
	f.Fuzz(func(t *testing.T, text string) {
		docs, found := estate.Parse([]estate.File{{Name: "a", Text: text}})
		for _, d := range docs {
			assert.NotEmpty(t, d.Name)
		}
		for _, x := range found {
			assert.Positive(t, x.Line)
		}
	})
}
