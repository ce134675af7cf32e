package estate_test

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/alert"
	"urgentis/core/estate"
	"urgentis/core/source"
)

func one(t *testing.T, s *source.Source, contentType, body string) seen {
	got, err := mapping(s, source.Payload{
		ContentType: contentType, Body: []byte(body), Headers: map[string]string{"from": "10.1.0.7"}}, now)
	require.NoError(t, err)
	require.Len(t, got, 1)
	return got[0]
}

const hosts = "urgentis: source/1\nname: hosts\ntakes: syslog\nfrom: [10.1.0.0/16]\n"

// RFC 5424 and RFC 3164, good and bad, are read by RFC 5674 where the source has no map.
func TestSyslogWithoutAMap(t *testing.T) {
	s := sourceOf(t, hosts)
	for body, want := range map[string]alert.Report{
		"<11>1 2031-03-01T01:59:00Z quay-1 consumer 77 STUCK - \ufeffno progress": {
			Key: "quay-1/consumer/STUCK", Severity: alert.Minor, Summary: "no progress", Service: "consumer",
			Labels: map[string]string{"host": "quay-1", "app": "consumer", "facility": "user"}, At: alert.SaidAt(now.Add(-time.Minute))},
		"<18>Mar  1 01:58:00 quay-2 mailer[9]: spool is full\n": {
			Key: "quay-2/mailer/", Severity: alert.Major, Summary: "spool is full", Service: "mailer",
			Labels: map[string]string{"host": "quay-2", "app": "mailer", "facility": "mail"}, At: alert.SaidAt(now.Add(-2 * time.Minute))},
		// December, read in March, was last year.
		"<24>Dec 24 01:58:00 quay-2 mailer: x": {
			Key: "quay-2/mailer/", Severity: alert.Critical, Summary: "x", Service: "mailer",
			Labels: map[string]string{"host": "quay-2", "app": "mailer", "facility": "daemon"},
			At:     alert.SaidAt(time.Date(2030, 12, 24, 1, 58, 0, 0, time.UTC))},
		`<189>1 2031-03-01T01:59:00Z pump-3 alarmd - LINK [alarm resource="pump-3/p1" probableCause="315" ` +
			`perceivedSeverity="major"] pressure`: {
			Key: "pump-3/pump-3/p1/315", Severity: alert.Major, Summary: "pressure", Service: "alarmd",
			Labels: map[string]string{"host": "pump-3", "app": "alarmd", "facility": "local7"}, At: alert.SaidAt(now.Add(-time.Minute))},
		"<11>\xff broken": {
			Key: "10.1.0.7//", Severity: alert.Minor, Summary: "\ufffd broken",
			Labels: map[string]string{"host": "10.1.0.7", "app": "", "facility": "user"}, At: alert.SaidAt(now)},
	} {
		m := one(t, s, source.SyslogType, body)
		assert.Empty(t, m.Unparsed, body)
		assert.Equal(t, want, m.Report, body)
	}
	for _, body := range []string{"<13>Mar  1 01:58:00 quay-2 mailer[9]: all is well", "no priority at all", "", "<999>x",
		"<190>1 - - - - - -"} {
		assert.True(t, one(t, s, source.SyslogType, body).Ignored, body)
	}
	m := one(t, s, source.SyslogType, "<11>1 2031-09-01T01:59:00Z quay-1 consumer 77 STUCK - x")
	assert.Equal(t, now, m.Report.At.Time, "what says a year is held to it: it lies ahead, and is taken for now")
	assert.Contains(t, m.Made, source.Made{Field: "at", Value: "2031-09-01T01:59:00Z",
		From: "no map: messages are read by RFC 5674"})
	m = one(t, s, source.SyslogType, `<189>1 - pump-3 alarmd - - [alarm resource="a" probableCause="315" `+
		`perceivedSeverity="cleared"]`)
	assert.Equal(t, alert.Cleared, m.Report.Severity)
}

func TestSyslogWithAMapAndAZone(t *testing.T) {
	s := sourceOf(t, hosts+`zone: Europe/Lisbon
map:
  summary: "{{ syslog.text }}"
  severity: major
  labels: {depth: {of: syslog.data.queue.depth, otherwise: none}}
  at: "{{ syslog.at }}"
`)
	m := one(t, s, source.SyslogType, "<13>Aug  1 12:00:00 quay-2 mailer[9]: all is well")
	assert.Equal(t, time.Date(2030, 8, 1, 11, 0, 0, 0, time.UTC), m.Report.At.UTC())
	assert.Equal(t, "none", m.Report.Labels["depth"])
	m = one(t, s, source.SyslogType, `<13>1 - - - - - [queue depth="812"] x`)
	assert.Equal(t, "812", m.Report.Labels["depth"])
	assert.Equal(t, now, m.Report.At.Time)
}

func TestTrapsWithoutAMap(t *testing.T) {
	s := sourceOf(t, "urgentis: source/1\nname: devices\ntakes: trap\n")
	m := one(t, s, source.TrapType, `{"from": "10.1.0.7", "version": "2c", "oid": "1.3.6.1.6.3.1.1.5.3", "uptime": 12.5,
		"vars": [{"oid": "1.3.6.1.2.1.2.2.1.1.4", "type": "Integer", "value": 4},
		{"oid": ".1.3.6.1.2.1.2.2.1.2.4", "type": "OctetString", "value": "quay-4"}]}`)
	require.Empty(t, m.Unparsed)
	assert.Equal(t, "10.1.0.7/link/4", m.Report.Key)
	assert.Equal(t, "The link quay-4 is down", m.Report.Summary)
	assert.Equal(t, alert.Major, m.Report.Severity)
	m = one(t, s, source.TrapType, `{"from": "10.1.0.7", "oid": "1.3.6.1.6.3.1.1.5.4",
		"vars": [{"oid": "1.3.6.1.2.1.2.2.1.1.4", "value": 4}]}`)
	assert.Equal(t, alert.Cleared, m.Report.Severity)
	assert.Equal(t, "10.1.0.7/link/4", m.Report.Key)
	alarm := func(oid, state string) seen {
		return one(t, s, source.TrapType, `{"from": "10.1.0.7", "oid": "`+oid+`", "vars": [
			{"oid": "1.3.6.1.2.1.118.1.2.2.1.13.0", "value": "1.3.6.1.2.1.118.1.1.2.1.3.0.7.`+state+`"},
			{"oid": "1.3.6.1.2.1.118.1.2.2.1.10.0", "value": "1.3.6.1.2.1.2.2.1.1.4"}]}`)
	}
	worse, over := alarm("1.3.6.1.2.1.118.0.2", "6"), alarm("1.3.6.1.2.1.118.0.3", "1")
	assert.Equal(t, alert.Critical, worse.Report.Severity, worse.Unparsed)
	assert.Equal(t, worse.Report.Key, over.Report.Key)
	assert.Equal(t, alert.Cleared, over.Report.Severity)
	m = one(t, s, source.TrapType, `{"from": "10.1.0.7", "oid": "1.3.6.1.4.1.99", "vars": []}`)
	assert.Contains(t, m.Unparsed, "key: ")
	_, err := mapping(s, source.Payload{Body: []byte("{")}, now)
	assert.ErrorContains(t, err, "the notification is not JSON")
}

const letter = "From: Old Panel <panel@quay.example>\r\nTo: alarms+k1@urgentis.example\r\n" +
	"Date: Sat, 01 Mar 2031 01:59:00 +0000\r\nSubject: =?utf-8?q?ALARM_ramp_=C3=A9?=\r\n"

func TestMail(t *testing.T) {
	s := sourceOf(t, `urgentis: source/1
name: old-panel
takes: mail
map:
  key: {of: mail.subject, pattern: '^(?:ALARM|OVER) (.*)'}
  summary: {of: mail.text, pattern: '^[^\n]*'}
  severity: major
  labels: {from: "{{ mail.from }}", files: "{{ string(size(mail.files)) }}"}
  at: "{{ mail.at }}"
cleared: mail.subject.startsWith("OVER")
ignore: mail.headers["x-test"] == "1"
`)
	for body, want := range map[string]string{
		letter + "\r\nRamp 2 is dark\r\nsecond line":                                                        "",
		letter + "Content-Type: text/html\r\n\r\n<style>p{}</style><p>Ramp 2 is dark</p><script>x</script>": "",
		letter + "Content-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\nContent-Type: text/plain; charset=iso-8859-1\r\n" +
			"Content-Transfer-Encoding: quoted-printable\r\n\r\nRamp 2 is dark\r\n--b\r\nContent-Disposition: attachment; " +
			"filename=a.txt\r\n\r\nxyz\r\n--b--": "1",
	} {
		m := one(t, s, source.MailType, tested(body))
		if want == "" {
			want = "0"
		}
		// Without the header, ignore cannot be judged: such a mail is unparsed and not taken for harmless.
		assert.Equal(t, `ignore: there is no x-test`, one(t, s, source.MailType, body).Unparsed)
		require.Empty(t, m.Unparsed, body)
		assert.Equal(t, "ramp é", m.Report.Key)
		assert.Equal(t, "Ramp 2 is dark", m.Report.Summary)
		assert.Equal(t, want, m.Report.Labels["files"])
		assert.Equal(t, now.Add(-time.Minute), m.Report.At.Time)
	}
	_, err := mapping(s, source.Payload{Body: make([]byte, source.MaxMail+1)}, now)
	assert.EqualError(t, err, "the mail has 1048577 bytes, 1048576 are allowed")
}

func tested(body string) string { return "X-Test: 0\r\n" + body }

func BenchmarkSyslog(b *testing.B) {
	docs, _ := estate.Parse([]estate.File{{Name: "a", Text: hosts}})
	p := source.Payload{Body: []byte("<11>1 2031-03-01T01:59:00Z quay-1 consumer 77 STUCK - no progress")}
	for b.Loop() {
		if _, err := mapping(docs[0].Source, p, now); err != nil {
			b.Fatal(err)
		}
	}
}

// What arrives by any way is read, or refused in words; the same each time.
func FuzzWire(f *testing.F) {
	var sources []*source.Source
	for _, text := range []string{hosts, "urgentis: source/1\nname: devices\ntakes: trap\n", `urgentis: source/1
name: old-panel
takes: mail
map:
  key: "{{ mail.subject }}"
  summary: "{{ mail.text }} {{ mail.from }}"
  severity: major
  at: "{{ mail.at }}"
`} {
		docs, found := estate.Parse([]estate.File{{Name: "a", Text: text}})
		require.Empty(f, found)
		sources = append(sources, docs[0].Source)
	}
	f.Add([]byte("<11>1 2031-03-01T01:59:00Z quay-1 consumer 77 STUCK [a b=\"c\"] no progress"))
	f.Add([]byte("<18>Mar  1 01:58:00 quay-2 mailer[9]: spool is full\n"))
	f.Add([]byte(letter + "Content-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\n\r\nx\r\n--b--"))
	f.Add([]byte(`{"from": "10.1.0.7", "oid": "1.3.6.1.6.3.1.1.5.4", "vars": [{"oid": "1.3.6.1.2.1.2.2.1.1.4"}]}`))
	f.Fuzz(func(t *testing.T, body []byte) {
		for _, s := range sources {
			p := source.Payload{Body: body, Headers: map[string]string{"from": "10.1.0.7"}}
			a, errA := mapping(s, p, now)
			b, errB := mapping(s, p, now)
			require.Equal(t, errA, errB)
			require.Equal(t, a, b)
			for _, m := range a {
				assert.True(t, m.Ignored || m.Unparsed != "" || m.Report.Key != "")
			}
		}
	})
}

// Deployments come as our own JSON, as CDEvents in both modes, and mapped.
func TestDeployments(t *testing.T) {
	const own = "urgentis: source/1\nname: d\nreports: deployments\n"
	read := func(text, body string) ([]source.Deployment, error) {
		r := sourceOf(t, text).Read(json(body), alert.HeardAt(now))
		if _, finding := r.Left(); finding != "" {
			return nil, errors.New(finding)
		}
		var out []source.Deployment
		for _, x := range r.Items {
			if d, ok := x.Event.(*source.Deployment); ok {
				out = append(out, *d)
			}
		}
		return out, nil
	}
	want := source.Deployment{Service: "berth-queue", Version: "v7", By: "mara", Summary: "deployed", At: now.Add(-time.Hour)}
	got, err := read(own, `{"service": "berth-queue", "version": "v7", "by": "mara", "summary": "deployed",
		"at": "2031-03-01T01:00:00Z"}`)
	require.NoError(t, err)
	assert.Equal(t, []source.Deployment{want}, got)
	event := `{"context": {"version": "0.4.1", "id": "1", "source": "mara", "type": "dev.cdevents.service.deployed.0.2.0",
		"timestamp": "2031-03-01T01:00:00Z"}, "subject": {"id": "berth-queue", "type": "service",
		"content": {"artifactId": "v7", "environment": {"id": "quay"}}}}`
	want.Environment = "quay"
	for _, body := range []string{event, `{"specversion": "1.0", "id": "1", "source": "x", "type":
		"dev.cdevents.service.deployed.0.2.0", "data": ` + event + `}`, "[" + event + "]"} {
		got, err = read(own, body)
		require.NoError(t, err)
		assert.Equal(t, []source.Deployment{want}, got)
	}
	got, err = read(own+"each: body.done\nmap: {service: \"{{ item.app }}\", version: \"{{ item.tag }}\"}\nignore: item.app == "+
		"\"test\"\n", `{"done": [{"app": "berth-queue", "tag": "v8"}, {"app": "test", "tag": "v9"}]}`)
	require.NoError(t, err)
	assert.Equal(t, []source.Deployment{{Service: "berth-queue", Version: "v8", At: now}}, got)
	for body, want := range map[string]string{
		`{}`: "the service is missing", `[]`: "the list is empty; send from 1 to 100",
		`[1]`: "the body must be an object, not number",
		`{"context": {"type": "dev.cdevents.build.started.0.1.0"}, "subject": {}}`: "the CDEvent is a " +
			"dev.cdevents.build.started.0.1.0; those about a service are understood",
		`{"service": "a", "link": "javascript:1"}`: "link must begin with https:// or http://",
	} {
		_, err := read(own, body)
		assert.EqualError(t, err, want)
	}
}
