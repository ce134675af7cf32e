package alert

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var now = time.Date(2031, 3, 1, 2, 0, 0, 0, time.UTC)

// What is the same name is one name, whatever form it came in.
func TestNamesAreWrittenOneWay(t *testing.T) {
	a := Report{Key: " north\u00e9 ", Severity: Major, Summary: "deep\x00", Service: "pier\u00e9\t",
		Labels: map[string]string{" host": "caf\u00e9"}}
	b := Report{Key: "northe\u0301", Severity: Major, Summary: "deep\ufffd", Service: "piere\u0301",
		Labels: map[string]string{"host": "cafe\u0301"}}
	require.NoError(t, a.Complete(now))
	require.NoError(t, b.Complete(now))
	assert.Equal(t, a, b)
	c := Report{Severity: Major, Summary: "x", Labels: map[string]string{"a": "1", "a ": "2"}}
	assert.ErrorContains(t, c.Complete(now), "label a is given twice")
}

func TestReportsThatCannotBeKept(t *testing.T) {
	many := map[string]string{}
	for i := range MaxLabels + 1 {
		many[fmt.Sprint("l", i)] = "x"
	}
	long := strings.Repeat("x", MaxText+1)
	for want, r := range map[string]Report{
		"severity is \"bad\"":                {Severity: "bad", Summary: "x"},
		"the summary is missing":             {Severity: Major, Summary: " "},
		"there are 65 labels":                {Severity: Major, Summary: "x", Labels: many},
		"the summary has":                    {Severity: Major, Summary: long},
		"key and service may have":           {Severity: Major, Summary: "x", Key: long},
		"label l is too long":                {Severity: Major, Summary: "x", Labels: map[string]string{"l": long}},
		"link must begin with":               {Severity: Major, Summary: "x", Link: "javascript:alert(1)"},
		"at is in the year 1066; it must be": {Severity: Major, Summary: "x", At: SaidAt(time.Date(1066, 1, 1, 0, 0, 0, 0, time.UTC))},
	} {
		assert.ErrorContains(t, r.Complete(now), want)
	}
	r := Report{Severity: Cleared, At: SaidAt(now.Add(time.Hour))}
	require.NoError(t, r.Complete(now), "what is over needs no words")
	assert.Equal(t, now, r.At.Time, "what lies ahead is taken for now")
}

func TestIdentityIsDerivedFromLabels(t *testing.T) {
	key := func(severity Severity, summary string, labels map[string]string) string {
		r := Report{Severity: severity, Summary: summary, Labels: labels}
		require.NoError(t, r.Complete(now))
		return r.Key
	}
	a := key(Major, "one", map[string]string{"a": "1", "b": "2"})
	assert.Equal(t, a, key(Minor, "two", map[string]string{"b": "2", "a": "1"}))
	assert.NotEqual(t, a, key(Minor, "two", map[string]string{"b": "2\"=\"", "a": "1"}))
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
