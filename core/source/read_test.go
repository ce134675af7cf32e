package source

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/alert"
)

var now = time.Date(2031, 3, 1, 2, 0, 0, 0, time.UTC)

// readAs reads what a source without a map sent, with headers as NAME: VALUE.
func readAs(reports, body, media string, headers ...string) *Reading {
	p := Payload{ContentType: media, Body: []byte(body), Headers: map[string]string{}}
	for _, h := range headers {
		name, value, _ := strings.Cut(h, ": ")
		p.Headers[name] = value
	}
	return (&Source{Name: "mon", Reports: reports}).Read(p, alert.HeardAt(now))
}

func report(t *testing.T, r *Reading) alert.Report {
	require.Empty(t, r.Unparsed)
	require.NotEmpty(t, r.Items)
	require.Empty(t, r.Items[0].Unparsed)
	return r.Items[0].Event.(*Alert).Report
}

const ours = `{"key":"north/depth","severity":"major","summary":"deep","service":"berth-queue","labels":{"queue":"north"}}`

const event = `{"specversion":"1.0","id":"1","source":"mon","type":"t","subject":"s","time":"2031-03-01T01:00:00Z","data":`

func TestFormsThatAreKnown(t *testing.T) {
	r := readAs("", ours, "application/json; charset=utf-8")
	want := report(t, r)
	assert.False(t, r.Many)
	assert.Equal(t, "north/depth", want.Key)
	assert.Equal(t, now, want.At.Time)
	assert.Contains(t, r.Items[0].Made(), Made{"labels.queue", "north", "our own JSON"})
	assert.Equal(t, want, report(t, readAs("", "\ufeff "+ours, "")))

	want.At = alert.SaidAt(now.Add(-time.Hour))
	for _, media := range []string{structuredType, "application/json"} {
		r = readAs("", event+ours+`}`, media)
		assert.Equal(t, want, report(t, r), media)
		assert.Equal(t, "ce mon 1", r.Items[0].ID)
		assert.Contains(t, r.Items[0].Made(), Made{"severity", "major", "CloudEvents"})
	}
	r = readAs("", strings.Replace(ours, `"key":"north/depth",`, "", 1), "application/json", "ce-specversion: 1.0",
		"ce-id: 1", "ce-source: mon", "ce-type: t", "ce-subject: north/depth", "ce-time: 2031-03-01T01:00:00Z")
	assert.Equal(t, want, report(t, r))
	assert.Equal(t, "ce mon 1", r.Items[0].ID)
}

// Of a list what can be read is read; what cannot is told with its place.
func TestLists(t *testing.T) {
	r := readAs("", " ["+ours+",\n"+strings.Replace(ours, "north", "south", 1)+"]", "", "idempotency-key: k1")
	assert.True(t, r.Many)
	require.Len(t, r.Items, 2)
	assert.Equal(t, "south/depth", r.Items[1].Event.(*Alert).Key)
	assert.Equal(t, "idempotency-key k1/1", r.Items[1].ID)
	r = readAs("", "["+event+ours+"}]", batchType)
	assert.Equal(t, "north/depth", report(t, r).Key)

	r = readAs("", "["+ours+`,{"severity":"bad","summary":"x"},[],3]`, "")
	places, finding := r.Left()
	assert.Equal(t, []int{1, 2, 3}, places)
	assert.Equal(t, `item 2 of 4: severity is "bad"; it must be critical, major, minor, warning or cleared`, finding)
	assert.Equal(t, "the body must be an object, not array", r.Items[2].Unparsed)
	for want, body := range map[string]string{
		"the list is empty; send from 1 to 100":   "[]",
		"there are 101 items, 100 are allowed":    "[" + strings.Repeat(ours+",", 100) + ours + "]",
		"the body is not JSON: unexpected end of": "[" + ours,
	} {
		_, finding = readAs("", body, "").Left()
		assert.Contains(t, finding, want)
	}
	_, finding = readAs("", ours, batchType).Left()
	assert.Equal(t, "the body must be a list, not object", finding)
}

func TestWhatIsOfNoForm(t *testing.T) {
	for want, body := range map[string]string{
		"the body is empty":                 "",
		"not JSON":                          "{",
		"labels must be text":               `{"severity":"major","summary":"x","labels":{"a":1}}`,
		"severity must be text, not number": `{"severity":3}`,
		"not UTF-8":                         "{\"summary\":\"\xff\"}",
		"nested more than 64 deep":          strings.Repeat("[", 70) + strings.Repeat("]", 70),
	} {
		_, finding := readAs("", body, "").Left()
		assert.Contains(t, finding, want)
	}
	for want, r := range map[string]*Reading{
		"the Content-Type is text/html":          readAs("", ours, "text/html"),
		"the Content-Type cannot be read":        readAs("", ours, "a/b/c"),
		`the event's specversion is "0.3"`:       readAs("", ours, "", "ce-specversion: 0.3"),
		"the event lacks id, source or type":     readAs("", ours, "", "ce-specversion: 1.0"),
		"the event's time is not RFC 3339":       readAs("", strings.Replace(event, "2031-03-01T", "", 1)+ours+"}", ""),
		"the body comes as br, which is not":     readAs("", ours, "", "content-encoding: br"),
		"the body must be an object, not string": readAs(OfDeployments, `"x"`, ""),
		"the service is missing":                 readAs(OfDeployments, `{}`, ""),
		"those about a service are understood":   readAs(OfDeployments, `{"context":{"type":"dev.cdevents.x"},"subject":{}}`, ""),
		"the source has no map":                  readAs(OfTickets, `{}`, ""),
	} {
		_, finding := r.Left()
		assert.Contains(t, finding, want)
	}
}

// Whatever comes is read, or said why not, and never partly both.
func FuzzRead(f *testing.F) {
	f.Add("application/json", []byte(ours))
	f.Add("", []byte("["+ours+"]"))
	f.Add(structuredType, []byte(`{"specversion":"1.0","data":{}}`))
	f.Add(batchType, []byte("["+event+ours+"}]"))
	f.Fuzz(func(t *testing.T, kind string, body []byte) {
		for _, reports := range Reports {
			r := readAs(reports, string(body), kind)
			assert.True(t, r.Unparsed != "" || len(r.Items) > 0)
			for _, x := range r.Items {
				assert.True(t, x.Event == nil == (x.Unparsed != ""))
				if a, ok := x.Event.(*Alert); ok {
					assert.NotEmpty(t, a.Key)
					assert.LessOrEqual(t, len(a.Labels), alert.MaxLabels)
				}
			}
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
