package cli

import (
	"encoding/json"
	"fmt"
	"sort"
	"strings"
	"time"

	"urgentis/api"
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
	Missing     map[string]string    `json:"missing"`
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
	word, color, lines := a.tell(e, c)
	if key := e.Run + e.Step + word; word == "look" && key == a.lastLook {
		// The same look on the next target: its title stands above.
		a.below(lines)
		return
	} else if a.lastLook = ""; word == "look" {
		a.lastLook = key
	}
	a.say("%s  %s  %s\n", e.At.UTC().Format("15:04:05"), a.paint(color, fmt.Sprintf("%-8s", word)), e.Title)
	a.below(lines)
}

func (a *app) below(lines []string) {
	for _, l := range lines {
		for _, part := range strings.Split(strings.ReplaceAll(l, "\t", "    "), "\n") {
			a.say("%20s%s\n", "", a.paint(dim, part))
		}
	}
}

// tell chooses the word for an entry, and what is said below it.
func (a *app) tell(e api.Entry, c content) (word, color string, lines []string) {
	by := func() { lines = append(lines, "by "+e.Actor) }
	comment := func() {
		if c.Comment != "" {
			lines = append(lines, "“"+c.Comment+"”")
		}
	}
	because := func() {
		if c.Because != "" {
			lines = append(lines, c.Because)
		}
	}
	switch e.Kind {
	case "alert.raised", "alert.worse", "alert.better", "alert.cleared":
		return "alert", bold, []string{c.Severity + " from " + strings.TrimPrefix(e.Actor, "source:") + labels(c.Labels)}
	case "run.begun":
		return "run", bold, []string{"by " + c.StartedBy + inputs(c.Inputs)}
	case "run.refused", "run.failed", "run.set-aside", "run.handed-over", "delivery.failed":
		because()
		if c.Error != "" {
			lines = append(lines, c.Error)
		}
		return "person", amber, lines
	case "run.held":
		return "wait", bold, nil
	case "run.dropped":
		because()
		return "run", bold, lines
	case "nothing.started":
		return "person", amber, nil
	case "run.ended":
		return "run", bold, nil
	case "run.cancelled", "run.released", "halt.lifted":
		by()
		because()
		return map[string]string{"run.cancelled": "cancel", "run.released": "run", "halt.lifted": "go on"}[e.Kind], bold, lines
	case "gate.turned-away":
		by()
		because()
		return "not taken", amber, lines
	case "change.cleared":
		return "allowed", "0", []string{strings.Join(c.Reasons, "; ")}
	case "wait.ended":
		return "wait", "0", nil
	case "look.taken", "look.incomplete":
		return "look", "0", look(c)
	case "check.passes", "check.fails", "check.unsure":
		for _, v := range c.Values {
			lines = append(lines, v.Part+" is "+v.Text)
		}
		if c.Unsure != "" {
			lines = append(lines, c.Unsure)
		}
		for _, d := range c.Differences {
			lines = append(lines, d.Target+" "+d.At+" "+d.Says)
		}
		if c.Rounds > 1 {
			lines = append(lines, fmt.Sprintf("after %d times", c.Rounds))
		}
		return c.Result, map[string]string{"passes": green, "fails": bold, "unsure": amber}[c.Result], lines
	case "gate.raised":
		for _, r := range c.Requests {
			lines = append(lines, "on "+r.Target+": "+r.Shown)
			if r.Undo != "" {
				lines = append(lines, "undo: "+r.Undo)
			}
		}
		lines = append(lines, "asks "+c.Ask+" until "+c.Until.UTC().Format("15:04:05 MST")+", because "+strings.Join(c.Reasons, "; "))
		return "gate", amber, lines
	case "gate.approved", "gate.refused":
		by()
		comment()
		return strings.TrimPrefix(e.Kind, "gate."), bold, lines
	case "undo.begun":
		return "undo", bold, []string{"on " + c.Target + ": " + c.Shown}
	case "undo.done":
		return "undo", map[string]string{"ok": green, "failed": red, "unknown": amber}[c.State], append(look(c), printed(c)...)
	case "step.troubled":
		because()
		return "trouble", amber, lines
	case "each.begun":
		return "each", bold, []string{strings.Join(c.Items, ", ")}
	case "wait.begun":
		return "wait", "0", nil
	case "lock.awaited":
		return "waits", amber, []string{c.Key + " is held by run " + c.Holder}
	case "call.begun":
		return "call", bold, []string{strings.TrimSpace(inputs(c.Inputs))}
	case "change.begun":
		return "change", bold, []string{"on " + c.Target + ": " + c.Shown}
	case "change.ended":
		return "change", map[string]string{"ok": green, "failed": red, "unknown": amber}[c.State], append(look(c), printed(c)...)
	case "change.still":
		for _, v := range c.Values {
			lines = append(lines, v.Part+" is "+v.Text+" on "+c.Target)
		}
		if c.Unsure != "" {
			lines = append(lines, c.Unsure)
		}
		return c.Result, map[string]string{"passes": green, "fails": bold, "unsure": amber}[c.Result], lines
	case "question.raised":
		return "question", amber, []string{c.Text}
	case "question.answered":
		by()
		comment()
		if len(c.Fields) > 0 {
			lines = append(lines, strings.TrimSpace(inputs(c.Fields)))
		}
		for _, v := range c.Values {
			lines = append(lines, v.Part+" is "+v.Text)
		}
		return "answer", bold, lines
	case "told", "note":
		if c.Text != "" && c.Text != e.Title {
			lines = append(lines, c.Text)
		}
		if s, ok := c.Source.(string); ok && s != "" && e.Kind == "told" {
			if c.NotTold != "" {
				lines = append(lines, "the alert's source is not told to "+s+": "+c.NotTold)
			} else {
				lines = append(lines, "the alert's source is told to "+s)
			}
		}
		return strings.Replace(e.Kind, "told", "tell", 1), "0", lines
	case "incident.closed":
		if !strings.HasPrefix(e.Actor, "runbook:") {
			by()
		}
		because()
		return "closed", green, lines
	}
	because()
	return strings.SplitN(e.Kind, ".", 2)[0], "0", lines
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
		v := strings.TrimSpace(fmt.Sprint(c.Readings[n].Value) + " " + c.Readings[n].Unit)
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
		end = fmt.Sprintf("%s %d", map[bool]string{true: "status", false: "exit"}[*c.Exit >= 100], *c.Exit)
	}
	line += fmt.Sprintf("   (%s, %s)", end, span(time.Duration(c.TookMS)*time.Millisecond))
	out := []string{line}
	if c.Error != "" {
		out = append(out, c.Error)
	}
	for _, m := range c.Missing {
		out = append(out, m)
	}
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
		s[k] = fmt.Sprint(v)
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
