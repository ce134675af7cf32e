package alert

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var now = time.Date(2031, 3, 1, 2, 0, 0, 0, time.UTC)

func readAll(body string, headers ...string) ([]Report, bool, error) {
	h := http.Header{}
	for i := 0; i+1 < len(headers); i += 2 {
		h.Set(headers[i], headers[i+1])
	}
	return Read(h.Get, []byte(body), now)
}

func read(body string, headers ...string) (Report, error) {
	list, _, err := readAll(body, headers...)
	if err != nil {
		return Report{}, err
	}
	return list[0], nil
}

const ours = `{"key":"north/depth","severity":"major","summary":"deep","service":"berth-queue","labels":{"queue":"north"}}`

func TestReadForms(t *testing.T) {
	want, err := read(ours, "Content-Type", "application/json; charset=utf-8")
	require.NoError(t, err)
	assert.Equal(t, "north/depth", want.Key)
	assert.Equal(t, now, want.At.Time)

	got, err := read(
		`{"specversion":"1.0","id":"1","source":"mon","type":"t","subject":"s","time":"2031-03-01T02:00:00Z","data":`+ours+`}`,
		"Content-Type",
		"application/cloudevents+json",
	)
	require.NoError(t, err)
	assert.Equal(t, want, got)

	got, err = read(
		strings.Replace(ours, `"key":"north/depth",`, "", 1),
		"Content-Type",
		"application/json",
		"Ce-Specversion",
		"1.0",
		"Ce-Id",
		"1",
		"Ce-Source",
		"mon",
		"Ce-Type",
		"t",
		"Ce-Subject",
		"north/depth",
	)
	require.NoError(t, err)
	assert.Equal(t, want, got)
}

func TestReadLists(t *testing.T) {
	single, err := read(ours)
	require.NoError(t, err)
	other := strings.Replace(ours, "north/depth", "south/depth", 1)
	list, many, err := readAll(" [" + ours + ",\n" + other + "]")
	require.NoError(t, err)
	assert.True(t, many)
	require.Len(t, list, 2)
	assert.Equal(t, single, list[0])
	assert.Equal(t, "south/depth", list[1].Key)

	events := `[{"specversion":"1.0","id":"1","source":"mon","type":"t","data":` + ours + `}]`
	list, many, err = readAll(events, "Content-Type", "application/cloudevents-batch+json")
	require.NoError(t, err)
	assert.True(t, many)
	assert.Equal(t, []Report{single}, list)

	_, many, err = readAll(ours)
	require.NoError(t, err)
	assert.False(t, many)
	for want, body := range map[string]string{
		"the list has 0 reports":                       "[]",
		"the list has 101 reports; send from 1 to 100": "[" + strings.Repeat(ours+",", 100) + ours + "]",
		"report 2 of 2: severity is":                   "[" + ours + `,{"severity":"bad","summary":"x"}]`,
		"report 1 of 1: the body must be an object":    "[[]]",
	} {
		_, _, err := readAll(body)
		var e *Invalid
		require.ErrorAs(t, err, &e, body)
		assert.Contains(t, err.Error(), want)
	}
	_, _, err = readAll(ours, "Content-Type", "application/cloudevents-batch+json")
	assert.ErrorContains(t, err, "the body must be a list, not object")
}

func TestBadReports(t *testing.T) {
	many := make([]string, MaxLabels+1)
	for i := range many {
		many[i] = fmt.Sprintf(`"l%d":"x"`, i)
	}
	for want, body := range map[string]string{
		"the body is empty":                 "",
		"not JSON":                          "{",
		"severity is \"bad\"":               `{"severity":"bad","summary":"x"}`,
		"summary is missing":                `{"severity":"major"}`,
		"labels must be text":               `{"severity":"major","summary":"x","labels":{"a":1}}`,
		"severity must be text, not number": `{"severity":3}`,
		"there are 65 labels": `{"severity":"major","summary":"x","labels":{` + strings.Join(many,
			",") + `}}`,
		"the summary has":      `{"severity":"major","summary":"` + strings.Repeat("x", MaxText+1) + `"}`,
		"not UTF-8":            "{\"summary\":\"\xff\"}",
		"link must begin with": `{"severity":"major","summary":"x","link":"javascript:alert(1)"}`,
	} {
		_, err := read(body)
		var e *Invalid
		require.ErrorAs(t, err, &e, body)
		assert.Contains(t, err.Error(), want)
	}
	_, err := read(ours, "Content-Type", "text/html")
	assert.ErrorContains(t, err, "the Content-Type is text/html")
	_, err = read(ours, "Ce-Specversion", "0.3")
	assert.ErrorContains(t, err, "specversion")
}

func TestIdentityIsDerivedFromLabels(t *testing.T) {
	a, err := read(`{"severity":"major","summary":"one","labels":{"a":"1","b":"2"}}`)
	require.NoError(t, err)
	b, err := read(`{"severity":"minor","summary":"two","labels":{"b":"2","a":"1"}}`)
	require.NoError(t, err)
	assert.Equal(t, a.Key, b.Key)
	c, err := read(`{"severity":"minor","summary":"two","labels":{"b":"2\"=\"","a":"1"}}`)
	require.NoError(t, err)
	assert.NotEqual(t, a.Key, c.Key)
}

func TestCompare(t *testing.T) {
	for _, c := range []struct {
		open, now Severity
		want      Change
	}{
		{"", Major, New}, {"", Cleared, Idle}, {Major, Major, Repeat}, {Major, Critical, Worse},
		{Major, Minor, Better}, {Warning, Cleared, Clear}, {Critical, Warning, Better},
	} {
		assert.Equal(t, c.want, Compare(c.open, Report{Severity: c.now}), c)
	}
}

func FuzzRead(f *testing.F) {
	f.Add("application/json", []byte(ours))
	f.Add("", []byte("["+ours+"]"))
	f.Add("application/cloudevents+json", []byte(`{"specversion":"1.0","data":{}}`))
	f.Fuzz(func(t *testing.T, kind string, body []byte) {
		list, many, err := Read(func(h string) string {
			if h == "Content-Type" {
				return kind
			}
			return ""
		}, body, now)
		if err != nil {
			var e *Invalid
			require.ErrorAs(t, err, &e)
			return
		}
		assert.True(t, many || len(list) == 1)
		for _, r := range list {
			assert.NotEmpty(t, r.Key)
			assert.LessOrEqual(t, len(r.Labels), MaxLabels)
		}
	})
}

// Bodies are read in the character set that they say.
func TestCharacterSets(t *testing.T) {
	for name, c := range map[string]struct{ media, body, want string }{
		"declared":          {"text/xml", "<?xml version='1.0' encoding='ISO-8859-1'?><a>l\xe4uft</a>", "läuft"},
		"declared, ASCII":   {"text/xml", `<?xml version="1.0" encoding="iso-8859-1" standalone="yes"?><a>runs</a>`, "runs"},
		"UTF-8 declared":    {"text/xml", `<?xml version="1.0" encoding="UTF-8"?><a>läuft</a>`, "läuft"},
		"nothing declared":  {"text/xml", `<?xml version="1.0"?><a>läuft</a>`, "läuft"},
		"no declaration":    {"text/xml", `<a>läuft</a>`, "läuft"},
		"Content-Type wins": {"text/xml; charset=windows-1251", "<?xml version='1.0' encoding='x'?><a>\xef</a>", "п"},
	} {
		v, err := Payload{ContentType: c.media, Body: []byte(c.body)}.read()
		require.NoError(t, err, name)
		assert.Equal(t, map[string]any{"a": c.want}, v, name)
	}
	v, err := Payload{ContentType: "text/plain; charset=iso-8859-15", Body: []byte("10 \xa4")}.read()
	require.NoError(t, err)
	assert.Equal(t, "10 €", v)
	v, err = Payload{ContentType: "application/json", Body: []byte("\ufeff{\"a\": \"läuft\"}")}.read()
	require.NoError(t, err)
	assert.Equal(t, map[string]any{"a": "läuft"}, v)
	_, err = Payload{ContentType: "text/plain; charset=klingon", Body: []byte("x")}.read()
	assert.ErrorContains(t, err, "the body is in klingon, a character set that is not known")
	_, err = Payload{ContentType: "text/plain", Body: []byte("l\xe4uft")}.read()
	assert.ErrorContains(t, err, "the body is not UTF-8, and nothing says what else it is")
}
