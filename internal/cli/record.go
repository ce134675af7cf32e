package cli

import (
	"fmt"
	"sort"
	"strings"

	"urgentis/api"
	"urgentis/core/incident"
	"urgentis/core/plain"
)

// entry prints one line of a record, and lines below it for what belongs to it.
func (a *app) entry(e api.Entry) {
	about := incident.Kind(e.Kind).About()
	if key := e.Run + e.Step + about.Word; about.Word == "look" && key == a.lastLook {
		// The same look on the next target: its title stands above.
		a.below(e.Says)
		return
	} else if a.lastLook = ""; about.Word == "look" {
		a.lastLook = key
	}
	a.say("%s  %s  %s\n", e.At.UTC().Format("15:04:05"), a.paint(tone(about, e.Word), fmt.Sprintf("%-10s", e.Word)),
		e.Title)
	a.below(e.Says)
}

func (a *app) below(lines []api.Text) {
	for _, l := range lines {
		a.say("%22s%s\n", "", a.paint(dim, plain.Line(api.Plain(l))))
	}
}

// tone is the colour of an entry's word.
func tone(about incident.About, word string) string {
	switch k := about.Kind; {
	case word == "failed" || word == "undo fails":
		return red
	case k == incident.ChangeEnded || k == incident.UndoDone || k == incident.CheckPasses || k == incident.Closed:
		return green
	case k == incident.CheckUnsure || k == incident.StepTroubled || k == incident.LockAwaited || about.Wanted:
		return amber
	case plainKinds[k]:
		return "0"
	}
	return bold
}

// plainKinds are what happens without anybody having to look up.
var plainKinds = map[incident.Kind]bool{
	incident.LookTaken: true, incident.LookIncomplete: true, incident.ChangeCleared: true, incident.WaitBegun: true,
	incident.WaitEnded: true, incident.Told: true, incident.Note: true, incident.StepSkipped: true,
	incident.ItemPassed: true, incident.TargetPassed: true, incident.CallEnded: true,
	incident.LockTaken: true, incident.LockGivenBack: true, incident.UndoPlanned: true, incident.UndoEnded: true,
}

func labels(m map[string]string) string {
	var out []string
	for k, v := range m {
		out = append(out, k+"="+clip(v, 60))
	}
	sort.Strings(out)
	if len(out) == 0 {
		return ""
	}
	return ", " + strings.Join(out, " ")
}

func orDash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}
