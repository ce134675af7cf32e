package app_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"urgentis/core/alert"
	"urgentis/core/incident"
	"urgentis/internal/app"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

// raised raises an alert and gives it with its incident.
func raised(t require.TestingT, a *site, service, key string, sev alert.Severity) (string, int64) {
	taken, err := a.Intake.Take(context.Background(), "mon", alert.Report{Key: key, Service: service, Severity: sev,
		Summary: key + " is " + string(sev), Labels: map[string]string{"quay": service}, At: alert.SaidAt(time.Now())})
	require.NoError(t, err)
	return taken.Alert, taken.Incident
}

func TestIncidentsByHand(t *testing.T) {
	a := open(t)
	i, err := a.OpenIncident(ctx, jonas, app.NewIncident{Title: "Smoke on deck 2", Service: "deck", Severity: "major"})
	require.NoError(t, err)
	_, joined := raised(t, a, "deck", "smoke", alert.Critical)
	assert.Equal(t, i.Number, joined, "alerts of its service join it")
	got, err := a.Incident(ctx, jonas, i.Number)
	require.NoError(t, err)
	assert.Equal(t, "Smoke on deck 2", got.Title, "a title by hand stays")
	assert.Equal(t, "major", got.Severity)
	assert.Equal(t, "jonas", got.Holder)
	_, err = a.EditIncident(ctx, jonas, i.Number, "Fire on deck 2", "auto")
	require.NoError(t, err)
	h, err := a.Hold(ctx, mara, i.Number, "mara", "my watch")
	require.NoError(t, err)
	assert.Equal(t, "mara", h.Holder)
	got, err = a.Incident(ctx, jonas, i.Number)
	require.NoError(t, err)
	assert.Equal(t, "critical", got.Severity, "auto follows the alerts again")
	_, err = a.AddNote(ctx, jonas, i.Number, "The captain was told about the ventilation.", true)
	require.NoError(t, err)
	_, err = a.AddLink(ctx, jonas, i.Number, "Plan of deck 2", "https://plans.example/2")
	require.NoError(t, err)
	_, err = a.AddLink(ctx, jonas, i.Number, "x", "javascript:alert(1)")
	assert.Error(t, err)
	_, err = a.CloseIncident(ctx, mara, i.Number, "repaired-by-hand", "It was steam.")
	require.NoError(t, err)
	_, err = a.Hold(ctx, mara, i.Number, "mara", "")
	assert.ErrorContains(t, err, "the incident is closed")
	_, err = a.Reopen(ctx, mara, i.Number, "it smokes again")
	require.NoError(t, err)
	_, err = a.Reopen(ctx, mara, i.Number, "it smokes again")
	assert.ErrorContains(t, err, "the incident is open")
	v, err := a.Verify(ctx, mara, i.Number)
	require.NoError(t, err)
	assert.True(t, v.Whole, v.Says)
	for _, c := range []app.NewIncident{{Title: " ", Severity: "major"}, {Title: "x", Severity: "odd"}, {Title: "x"}} {
		_, err := a.OpenIncident(ctx, jonas, c)
		assert.Error(t, err)
	}
}

func TestSearch(t *testing.T) {
	a := open(t)
	_, north := raised(t, a, "north", "ramp", alert.Major)
	_, south := raised(t, a, "south", "lamp", alert.Minor)
	_, err := a.AddNote(ctx, jonas, north, "The hydraulic pump was replaced.", false)
	require.NoError(t, err)
	_, err = a.Hold(ctx, mara, south, "mara", "")
	require.NoError(t, err)
	find := func(w store.WhichIncidents) (out []int64) {
		list, _, err := a.Incidents(ctx, jonas, w, 0, 10)
		require.NoError(t, err)
		for _, i := range list {
			out = append(out, i.Number)
		}
		return out
	}
	hour := time.Now().Add(-time.Hour)
	for name, c := range map[string]struct {
		which store.WhichIncidents
		want  []int64
	}{
		"a note":         {store.WhichIncidents{Text: "hydraulic pump"}, []int64{north}},
		"an alert":       {store.WhichIncidents{Text: "lamp"}, []int64{south}},
		"either":         {store.WhichIncidents{Text: "pump or lamp"}, []int64{south, north}},
		"without":        {store.WhichIncidents{Text: "is -lamp"}, []int64{north}},
		"severity":       {store.WhichIncidents{Severity: "major"}, []int64{north}},
		"holder":         {store.WhichIncidents{Holder: "mara"}, []int64{south}},
		"label":          {store.WhichIncidents{Label: "quay=south"}, []int64{south}},
		"source":         {store.WhichIncidents{Source: "nobody"}, nil},
		"from":           {store.WhichIncidents{From: &hour}, []int64{south, north}},
		"to":             {store.WhichIncidents{To: &hour}, nil},
		"odd characters": {store.WhichIncidents{Text: `"' & | ! ( ) :* \ %`}, nil},
	} {
		assert.Equal(t, c.want, find(c.which), name)
	}
}

// Whatever is merged and split, each alert has one incident that counts it, no entry is lost, and every record is
// whole.
func TestMergeAndSplitKeepEverything(t *testing.T) {
	a := open(t)
	turn := 0
	rapid.Check(t, func(t *rapid.T) {
		turn++
		var numbers []int64
		alerts := map[string]bool{}
		for i := range 6 {
			id, n := raised(t, a, fmt.Sprint("s", turn, "-", i%3), fmt.Sprint("k", turn, "-", i), alert.Major)
			if alerts[id] = true; !slices.Contains(numbers, n) {
				numbers = append(numbers, n)
			}
		}
		written := map[int64]int64{}
		for range rapid.IntRange(1, 8).Draw(t, "acts") {
			from := rapid.SampledFrom(numbers).Draw(t, "from")
			if rapid.Bool().Draw(t, "merge") {
				into := rapid.SampledFrom(numbers).Draw(t, "into")
				_, _ = a.Merge(ctx, mara, from, into, "the same") // what may not be is refused
				continue
			}
			i, err := a.Incident(ctx, mara, from)
			require.NoError(t, err)
			if len(i.Alerts) == 0 {
				continue
			}
			n, err := a.Split(ctx, mara, from, []string{i.Alerts[0].ID}, "another")
			if len(i.Alerts) < 2 {
				require.ErrorContains(t, err, "nothing would be left")
				continue
			}
			require.NoError(t, err)
			numbers = append(numbers, n.Number)
		}
		seen := map[string]bool{}
		for _, n := range numbers {
			i, err := a.Incident(ctx, mara, n)
			require.NoError(t, err)
			require.EqualValues(t, len(i.Alerts), i.Head.Alerts, "incident %d", n)
			for _, x := range i.Alerts {
				require.False(t, seen[x.ID])
				seen[x.ID] = true
			}
			require.GreaterOrEqual(t, i.Head.Entries, written[n])
			v, err := a.Verify(ctx, mara, n)
			require.NoError(t, err)
			require.True(t, v.Whole, v.Says)
			if i.MergedInto != nil {
				require.Equal(t, "closed", i.State)
				require.Empty(t, i.Alerts)
			}
		}
		require.Equal(t, alerts, seen)
	})
}

// What would join an incident that is part of another one joins that.
func TestWhatWouldJoinAMergedIncidentJoinsTheOther(t *testing.T) {
	a := open(t)
	_, one := raised(t, a, "north", "ramp", alert.Major)
	_, two := raised(t, a, "south", "lamp", alert.Minor)
	_, err := a.Merge(ctx, mara, one, one, "")
	assert.ErrorContains(t, err, "cannot be part of itself")
	_, err = a.Merge(ctx, mara, two, one, "one cable")
	require.NoError(t, err)
	_, n := raised(t, a, "south", "door", alert.Minor)
	assert.Equal(t, one, n)
	_, err = a.Reopen(ctx, mara, two, "no")
	assert.ErrorContains(t, err, fmt.Sprintf("it is part of incident %d", one))
	_, err = a.Merge(ctx, mara, two, one, "")
	assert.ErrorContains(t, err, "both incidents must be open")
}

func TestFiles(t *testing.T) {
	a := open(t)
	_, n := raised(t, a, "north", "ramp", alert.Major)
	body := bytes.Repeat([]byte("0123456789abcdef"), 200_000) // more than three pieces
	f, err := a.AddFile(ctx, jonas, n, "dump.bin", "", bytes.NewReader(body))
	require.NoError(t, err)
	sum := sha256.Sum256(body)
	assert.Equal(t, hex.EncodeToString(sum[:]), f.Digest)
	row, r, err := a.File(ctx, jonas, n, f.ID)
	require.NoError(t, err)
	got, err := io.ReadAll(r)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(body, got))
	assert.EqualValues(t, len(body), row.Size)
	// One that breaks off leaves nothing, and the record open to others meanwhile.
	_, err = a.AddFile(ctx, jonas, n, "half.bin", "", io.MultiReader(bytes.NewReader(body), broken{}))
	assert.ErrorContains(t, err, "broke off after")
	list, err := a.Attachments(ctx, jonas, n)
	require.NoError(t, err)
	assert.Len(t, list, 1)
	var left int
	require.NoError(t, testdb.SQL(a.Store).Raw("select count(*) from attachment").Scan(&left).Error)
	assert.Equal(t, 1, left)
	slow := &meanwhile{t: t, a: a, n: n, left: 3}
	_, err = a.AddFile(ctx, jonas, n, "slow.bin", "", slow)
	require.NoError(t, err)
	_, _, err = a.File(ctx, jonas, n+1, f.ID)
	assert.Error(t, err, "a file of another record")
}

type broken struct{}

func (broken) Read([]byte) (int, error) { return 0, fmt.Errorf("the line is cut") }

// meanwhile is a slow file, while which others write to the record.
type meanwhile struct {
	t    *testing.T
	a    *site
	n    int64
	left int
}

func (m *meanwhile) Read(b []byte) (int, error) {
	if m.left == 0 {
		return 0, io.EOF
	}
	m.left--
	soon, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	_, err := m.a.AddNote(soon, mara, m.n, "meanwhile", false)
	assert.NoError(m.t, err)
	return copy(b, "abc"), nil
}

// An exported record can be checked by who has nothing but it, and shows what was done to it.
// An export is of one moment, however much is written meanwhile, and says how many contents are missing.
func TestAnExportIsOfOneMoment(t *testing.T) {
	a := open(t)
	_, n := raised(t, a, "north", "ramp", alert.Major)
	stop, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		for i := 0; ; i++ {
			select {
			case <-stop:
				return
			default:
				_, _ = a.AddNote(ctx, jonas, n, fmt.Sprint("note ", i), false) //nolint:errcheck // it only writes
			}
		}
	}()
	var x *incident.Export
	for range 60 {
		var err error
		x, err = a.Export(ctx, jonas, n)
		require.NoError(t, err)
		require.NoError(t, x.Check())
	}
	close(stop)
	<-done
	assert.Zero(t, x.Missing())
	x.Entries[0].Content = nil
	require.NoError(t, x.Check())
	assert.Contains(t, x.Says(), "the contents of 1 of them are missing")
}

func TestExportAndReport(t *testing.T) {
	a := open(t)
	_, n := raised(t, a, "north", "ramp <b>&", alert.Major)
	_, err := a.AddNote(ctx, jonas, n, "A | pipe, `code` and <script>alert(1)</script>", true)
	require.NoError(t, err)
	_, err = a.CloseIncident(ctx, mara, n, "repaired-by-hand", "Turned it off and on.")
	require.NoError(t, err)
	x, err := a.Export(ctx, jonas, n)
	require.NoError(t, err)
	var b bytes.Buffer
	require.NoError(t, x.Write(&b))
	again, err := incident.ReadExport(bytes.NewReader(b.Bytes()))
	require.NoError(t, err)
	require.NoError(t, again.Check())
	lines := strings.Split(strings.TrimSpace(b.String()), "\n")
	for name, altered := range map[string]string{
		"a word":      strings.Replace(b.String(), "Turned it off", "Never turned it off", 1),
		"a title":     strings.Replace(b.String(), `"title":"Closed`, `"title":"Opened`, 1),
		"a line less": strings.Join(slices.Delete(slices.Clone(lines), 2, 3), "\n"),
		"the end":     strings.Join(lines[:len(lines)-1], "\n"),
		"the order":   strings.Join([]string{lines[0], lines[2], lines[1]}, "\n"),
	} {
		x, err := incident.ReadExport(strings.NewReader(altered))
		if err == nil {
			err = x.Check()
		}
		assert.Error(t, err, name)
	}
	for _, text := range []string{"", "{}", "x", lines[1], lines[0] + "\nx"} {
		_, err := incident.ReadExport(strings.NewReader(text))
		assert.Error(t, err)
	}
	r, err := a.Report(ctx, jonas, n)
	require.NoError(t, err)
	md := r.Markdown()
	for _, has := range []string{"ramp &lt;b&gt;& is major", `A \| pipe, \`, "| Outcome | repaired-by-hand: Turned it off and on. |", "## For others"} {
		assert.Contains(t, md, has)
	}
	page, err := r.HTML()
	require.NoError(t, err)
	assert.NotContains(t, page, "<script>")
	assert.Contains(t, page, "<svg")
	assert.Contains(t, page, "ramp &lt;b&gt;&amp; is major")
}
