package lookback

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"urgentis/core/incident"
)

// A sample of OpenMetrics 1.0: a name, labels, a value, and a time in seconds.
var (
	sampleLine = regexp.MustCompile(`^([a-zA-Z_:][a-zA-Z0-9_:]*)(?:\{((?:[^"}]|"(?:[^"\\]|\\.)*")*)\})?` +
		`\s+(\S+)(?:\s+(\S+))?(?:\s+#.*)?$`)
	labelPair = regexp.MustCompile(`([a-zA-Z_][a-zA-Z0-9_]*)="((?:[^"\\]|\\.)*)"`)
	unescaped = strings.NewReplacer(`\\`, `\`, `\"`, `"`, `\n`, " ")
)

// samples reads the samples of one metric from a text of OpenMetrics; those without a time say nothing of the past.
func samples(text, metric, by string, add func(string, incident.PastPoint)) error {
	timeless := 0
	for line := range strings.SplitSeq(text, "\n") {
		m := sampleLine.FindStringSubmatch(strings.TrimRight(line, "\r "))
		if m == nil || m[1] != metric {
			continue
		}
		v, err := strconv.ParseFloat(m[3], 64)
		if err != nil {
			return fmt.Errorf("%s has a value that is no number: %s", metric, m[3])
		}
		if m[4] == "" {
			timeless++
			continue
		}
		at, err := strconv.ParseFloat(m[4], 64)
		if err != nil {
			return fmt.Errorf("%s has a time that is no number: %s", metric, m[4])
		}
		add(labelOf(m[2], by), incident.PastPoint{At: seconds(at), Value: v})
	}
	if timeless > 0 {
		return fmt.Errorf("%d samples of %s have no time", timeless, metric)
	}
	return nil
}

// labelOf gives the value of a label, or all labels in the order of their names where none is named.
func labelOf(labels, by string) string {
	var all []string
	for _, m := range labelPair.FindAllStringSubmatch(labels, -1) {
		if m[1] == by {
			return unescaped.Replace(m[2])
		}
		all = append(all, unescaped.Replace(m[2]))
	}
	if by != "" {
		return ""
	}
	slices.Sort(all)
	return strings.Join(all, " ")
}
