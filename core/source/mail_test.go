package source

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func mailOf(text string) Payload {
	return Payload{ContentType: MailType, Body: []byte(strings.ReplaceAll(text, "\n", "\r\n"))}
}

func TestMailIsTakenApart(t *testing.T) {
	got, err := mailOf(`From: Tide Watch <watch@tides.example>
To: in@urgentis.example
Subject: =?utf-8?q?Gauge_3_=C3=BCber?=
MIME-Version: 1.0
Content-Type: multipart/mixed; boundary=a

--a
Content-Type: multipart/alternative; boundary*0=b; boundary*1=c

--bc
Content-Type: text/plain

It reads 4.1 m.
--bc
Content-Type: text/html

<p>It reads <b>4.1 m</b>.</p>
--bc--
--a
Content-Type: text/csv; name=gauge.csv
Content-Disposition: attachment; filename=gauge.csv

1,2
--a--
`).readMail()
	require.NoError(t, err)
	m := got.(map[string]any)
	assert.Equal(t, "It reads 4.1 m.", m["text"])
	assert.Contains(t, m["html"], "<b>4.1 m</b>")
	assert.Equal(t, "watch@tides.example", m["from"])
	assert.Equal(t, "Gauge 3 über", m["subject"])
	assert.Equal(t, []any{map[string]any{"name": "gauge.csv", "size": int64(3)}}, m["files"])

	got, err = mailOf("Subject: x\nContent-Type: text/html\n\n<p>Only <i>this</i></p>\n").readMail()
	require.NoError(t, err)
	assert.Equal(t, "Only\nthis", got.(map[string]any)["text"])
}

// Each part within another is read through all around it, so that depth costs its square: it is bounded, however a mail
// writes its boundaries.
// A mail that is sent again passes other hands, but says the same under the same name.
func TestAMailIsKnownByItsName(t *testing.T) {
	mail := func(received, id, text string) Payload {
		return Payload{ContentType: MailType, Body: []byte("Received: from " + received + "\r\n" +
			"From: a@quay.example\r\nSubject: Pump stopped\r\n" + id + "\r\n" + text + "\r\n")}
	}
	const id = "Message-ID: <7@quay.example>\r\n"
	assert.Equal(t, "mail 7@quay.example", mail("one", id, "x").ID())
	assert.Equal(t, mail("one", id, "x").digest(), mail("two", id, "x").digest())
	assert.NotEqual(t, mail("one", id, "x").digest(), mail("one", id, "y").digest())
	assert.Empty(t, mail("one", "", "x").ID())
}

func TestMailNestsOnlySoDeep(t *testing.T) {
	for _, boundary := range []string{"boundary=b%d", "boundary*0=b%d", "BOUNDARY*=us-ascii''b%d", `boundary = "b%d"`} {
		text := &strings.Builder{}
		for i := range 4000 {
			if i > 0 {
				fmt.Fprintf(text, "--b%d\n", i-1)
			}
			fmt.Fprintf(text, "Content-Type: multipart/mixed; "+boundary+"\n\n", i)
		}
		_, err := mailOf(text.String()).readMail()
		assert.ErrorContains(t, err, "the mail nests parts more than 10 deep", boundary)
	}
}

// Of many parts the first are read.
func TestMailOfManyParts(t *testing.T) {
	text := &strings.Builder{}
	text.WriteString("Content-Type: multipart/mixed; boundary=a\n\n--a\n\nFirst.\n")
	for i := range 500 {
		fmt.Fprintf(text, "--a\nContent-Disposition: attachment; filename=%d\n\nx\n", i)
	}
	got, err := mailOf(text.String() + "--a--\n").readMail()
	require.NoError(t, err)
	assert.Equal(t, "First.", got.(map[string]any)["text"])
	assert.Len(t, got.(map[string]any)["files"], maxParts-1)
}
