package cli

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"
	"time"

	"urgentis/api"
	"urgentis/core/expr"
	"urgentis/core/incident"
	"urgentis/core/reading"
)

// content is what the record's printer reads of an entry.
type content struct {
	Differences []reading.Difference `json:"differences"`
	Items       []string             `json:"items"`
	Key         string               `json:"key"`
	Holder      string               `json:"holder"`
	Fields      map[string]any       `json:"fields"`
	Target      string               `json:"target"`
	Shown       string               `json:"shown"`
	Undo        string               `json:"undo"`
	State       string               `json:"state"`
	Exit        *int                 `json:"exit"`
	Error       string               `json:"error"`
	TookMS      int64                `json:"took_ms"`
	Text        string               `json:"text"`
	Because     string               `json:"because"`
	Comment     string               `json:"comment"`
	Result      string               `json:"result"`
	Unsure      string               `json:"unsure"`
	Outcome     string               `json:"outcome"`
	Source      any                  `json:"source"`
	Ask         string               `json:"ask"`
	Until       time.Time            `json:"until"`
	Reasons     []string             `json:"reasons"`
	Severity    string               `json:"severity"`
	Labels      map[string]string    `json:"labels"`
	StartedBy   string               `json:"started_by"`
	Inputs      map[string]any       `json:"inputs"`
	Missing     notHad               `json:"missing"`
	Rounds      int                  `json:"rounds"`
	Values      []struct{ Part, Text string }
	Requests    []struct{ Target, Shown, Undo string }
	Readings    map[string]struct {
		Value any
		Unit  string
	}
	Output, Stderr struct{ Head string }
	NotTold        string `json:"not_told"`
}

// notHad says what could not be had: readings of a look, by their names, or what a look back has in its own words.
type notHad []string

func (n *notHad) UnmarshalJSON(b []byte) error {
	var inWords []string
	if json.Unmarshal(b, &inWords) == nil {
		*n = inWords
		return nil
	}
	var byName map[string]string
	if err := json.Unmarshal(b, &byName); err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(byName)) {
		*n = append(*n, name+" is missing: "+byName[name])
	}
	return nil
}

func readContent(e api.Entry) content {
	var c content
	b, err := json.Marshal(e.Content)
	if err == nil {
		_ = json.Unmarshal(b, &c) // what does not fit is not shown
	}
	return c
}

// entry prints one line of a record, and lines below it for what belongs to it.
func (a *app) entry(e api.Entry) {
	c := readContent(e)
	about := incident.Kind(e.Kind).About()
	if key := e.Run + e.Step + about.Word; about.Word == "look" && key == a.lastLook {
		// The same look on the next target: its title stands above.
		a.below(tell(e, c))
		return
	} else if a.lastLook = ""; about.Word == "look" {
		a.lastLook = key
	}
	a.say(
		"%s  %s  %s\n",
		e.At.UTC().Format("15:04:05"),
		a.paint(tone(about, c), fmt.Sprintf("%-10s", about.Word)),
		e.Title,
	)
	a.below(tell(e, c))
}

func (a *app) below(lines []string) {
	for _, l := range lines {
		for _, part := range strings.Split(strings.ReplaceAll(l, "\t", "    "), "\n") {
			a.say("%22s%s\n", "", a.paint(dim, part))
		}
	}
}

// tone is the colour of an entry's word.
func tone(about incident.About, c content) string {
	states := map[string]string{"ok": green, "failed": red, "unknown": amber}
	switch k := about.Kind; {
	case k == incident.ChangeEnded || k == incident.UndoDone:
		return states[c.State]
	case k == incident.ChangeStill || k == incident.UndoJudged:
		return map[string]string{"passes": green, "fails": bold, "unsure": amber}[c.Result]
	case k == incident.CheckPasses || k == incident.Closed:
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

// tell gives what is said below an entry.
func tell(e api.Entry, c content) (lines []string) {
	add := func(text ...string) {
		for _, t := range text {
			if t = strings.TrimRight(t, " "); t != "" {
				lines = append(lines, t)
			}
		}
	}
	kind := incident.Kind(e.Kind)
	if kind.About().Said && !strings.HasPrefix(e.Actor, "runbook:") && kind != incident.Note {
		add("by " + e.Actor)
	}
	switch kind {
	case incident.AlertRaised, incident.AlertWorse, incident.AlertBetter, incident.AlertCleared:
		add(c.Severity + " from " + strings.TrimPrefix(e.Actor, "source:") + labels(c.Labels))
	case incident.RunBegun:
		add("by " + c.StartedBy + inputs(c.Inputs))
	case incident.RunEnded:
		add(strings.TrimPrefix(c.Outcome+": "+c.Because, ": "))
	case incident.RunHeld, incident.NothingStarted, incident.WaitBegun, incident.WaitEnded:
	case incident.ChangeCleared:
		add(strings.Join(c.Reasons, "; "))
	case incident.LookTaken, incident.LookIncomplete:
		add(look(c)...)
	case incident.CheckPasses, incident.CheckFails, incident.CheckUnsure:
		add(judged(c)...)
	case incident.GateRaised:
		add(asked(c)...)
	case incident.GateApproved, incident.GateRefused:
		add(quoted(c.Comment))
	case incident.ChangeBegun, incident.UndoBegun:
		add("on " + c.Target + ": " + c.Shown)
	case incident.ChangeEnded, incident.UndoDone:
		add(append(look(c), printed(c)...)...)
	case incident.ChangeStill, incident.UndoJudged:
		add(c.Result)
		for _, v := range c.Values {
			add(v.Part + " is " + v.Text + " on " + c.Target)
		}
		add(c.Unsure)
	case incident.EachBegun:
		add(strings.Join(c.Items, ", "))
	case incident.LockAwaited:
		add(c.Key + " is held by run " + c.Holder)
	case incident.CallBegun:
		add(strings.TrimSpace(inputs(c.Inputs)))
	case incident.QuestionRaised:
		add(c.Text)
	case incident.QuestionAnswered:
		add(quoted(c.Comment), strings.TrimSpace(inputs(c.Fields)))
		for _, v := range c.Values {
			add(v.Part + " is " + v.Text)
		}
	case incident.LookedBack:
		add(c.Missing...)
	case incident.Told, incident.Note, incident.LookedAgain:
		add(told(e, c)...)
	default:
		add(c.Because, c.Error)
	}
	return lines
}

func quoted(comment string) string {
	if comment == "" {
		return ""
	}
	return "“" + comment + "”"
}

// judged tells what a check rests on.
func judged(c content) (lines []string) {
	for _, v := range c.Values {
		lines = append(lines, v.Part+" is "+v.Text)
	}
	lines = append(lines, c.Unsure)
	for _, d := range c.Differences {
		lines = append(lines, d.Target+" "+d.At+" "+d.Says)
	}
	if c.Rounds > 1 {
		lines = append(lines, fmt.Sprintf("after %d times", c.Rounds))
	}
	return lines
}

// asked tells what a gate asks for.
func asked(c content) (lines []string) {
	for _, r := range c.Requests {
		lines = append(lines, "on "+r.Target+": "+r.Shown)
		if r.Undo != "" {
			lines = append(lines, "undo: "+r.Undo)
		}
	}
	until := c.Until.UTC().Format("15:04:05 MST")
	return append(lines, "asks "+c.Ask+" until "+until+", because "+strings.Join(c.Reasons, "; "))
}

// told tells what a message or a note says, and whether the alert's source hears of it.
func told(e api.Entry, c content) (lines []string) {
	if c.Text != e.Title {
		lines = append(lines, c.Text)
	}
	s, ok := c.Source.(string)
	switch {
	case !ok || s == "" || incident.Kind(e.Kind) != incident.Told:
	case c.NotTold != "":
		lines = append(lines, "the alert's source is not told to "+s+": "+c.NotTold)
	default:
		lines = append(lines, "the alert's source is told to "+s)
	}
	return lines
}

// printed gives the first lines of what a change printed.
func printed(c content) []string {
	const most = 3
	text := strings.TrimSpace(c.Output.Head)
	if text == "" {
		return nil
	}
	lines := strings.Split(text, "\n")
	if len(lines) > most {
		lines = append(lines[:most], "…")
	}
	for i := range lines {
		lines[i] = "  " + clip(lines[i], 160)
	}
	return lines
}

func look(c content) []string {
	var parts []string
	where := c.Target
	if where == "" {
		where = "here"
	}
	names := make([]string, 0, len(c.Readings))
	for n := range c.Readings {
		names = append(names, n)
	}
	sort.Strings(names)
	for _, n := range names {
		v := strings.TrimSpace(expr.Say(c.Readings[n].Value) + " " + c.Readings[n].Unit)
		if v == "" {
			v = "(empty)"
		}
		parts = append(parts, n+" "+v)
	}
	line := where + ": " + strings.Join(parts, ", ")
	if len(parts) == 0 {
		line = where + ": " + strings.SplitN(c.Shown, "\n", 2)[0]
	}
	end := c.State
	if c.Exit != nil {
		end = fmt.Sprintf("%s %d", map[bool]string{true: "status", false: "exit"}[*c.Exit >= 200], *c.Exit)
	}
	line += fmt.Sprintf("   (%s, %s)", end, span(time.Duration(c.TookMS)*time.Millisecond))
	out := []string{line}
	if c.Error != "" {
		out = append(out, c.Error)
	}
	out = append(out, c.Missing...)
	if c.Exit != nil && *c.Exit != 0 && c.Stderr.Head != "" {
		out = append(out, strings.TrimSpace(clip(c.Stderr.Head, 200)))
	}
	return out
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

func inputs(m map[string]any) string {
	s := map[string]string{}
	for k, v := range m {
		s[k] = expr.Say(v)
	}
	return strings.Replace(labels(s), ", ", " with ", 1)
}

// head prints what an incident is.
func (a *app) head(i api.Incident) {
	state := string(i.State)
	if i.WaitingOn != "" && i.WaitingOn != "nobody" {
		state += ", waiting on " + string(i.WaitingOn)
	}
	took := "since " + i.OpenedAt.UTC().Format("2006-01-02 15:04:05 MST")
	if !i.ResolvedAt.IsZero() {
		took = "took " + span(i.ResolvedAt.Sub(i.OpenedAt))
	}
	a.say("%s  %s\n", a.paint(bold, fmt.Sprintf("Incident %d", i.Number)), a.paint(bold, i.Title))
	a.say("%s · %s · %s · %s\n", i.Severity, orDash(i.Service), state, took)
	if i.Outcome != "" {
		a.say("%s: %s\n", i.Outcome, i.Because)
	}
	a.say("\n")
}

func orDash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}
