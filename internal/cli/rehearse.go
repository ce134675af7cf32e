package cli

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"urgentis/api"
	"urgentis/core/flow"
	"urgentis/core/runbook"
)

func (a *app) runbookFormat() *cobra.Command {
	var only bool
	c := verb(
		"format FILE…",
		"Write runbooks in the canonical form; comments are kept",
		"urgentis runbook format examples/ferry/runbooks --only-check",
		cobra.MinimumNArgs(1),
		func(_ *cobra.Command, args []string) error {
			list, err := files(args)
			if err != nil {
				return err
			}
			other := 0
			for _, f := range list {
				src, err := os.ReadFile(f)
				if err != nil {
					return err
				}
				out, err := runbook.Format(src)
				var found runbook.Findings
				if errors.As(err, &found) {
					say(a.err, "%s", whole(found.Format(f, src)))
					return fmt.Errorf("%s is not well-formed; it was left as it is", f)
				}
				if err != nil {
					return fmt.Errorf("%s was left as it is: %w", f, err)
				}
				if bytes.Equal(src, out) {
					continue
				}
				other++
				a.say("%s\n", f)
				if only {
					continue
				}
				if err := os.WriteFile(f, out, 0o644); err != nil { //nolint:gosec // a runbook is no secret
					return err
				}
			}
			if only && other > 0 {
				return fmt.Errorf("%d of %d runbooks are not in the canonical form", other, len(list))
			}
			return nil
		},
	)
	c.Flags().BoolVar(&only, "only-check", false, "write nothing; fail where a file would change")
	return c
}

// text reads a file that must be a sound runbook.
func (a *app) text(file string) (*runbook.Book, string, error) {
	src, err := a.readFile(file)
	if err != nil {
		return nil, "", usage("%s", err)
	}
	b, found := runbook.Parse(src)
	if b == nil {
		say(a.err, "%s", whole(found.Format(file, src)))
		return nil, "", fmt.Errorf("%s has errors", file)
	}
	return b, string(src), nil
}

func (a *app) runbookGraph() *cobra.Command {
	var svg bool
	c := verb(
		"graph FILE",
		"Draw the flow of a runbook, without a service",
		"urgentis runbook graph berth-queue-backlog.yaml --svg >flow.svg",
		cobra.ExactArgs(1),
		func(_ *cobra.Command, args []string) error {
			b, _, err := a.text(args[0])
			if err != nil {
				return err
			}
			g := api.GraphOf(b, nil)
			return a.print(g, func() { a.showGraph(g, svg) })
		},
	)
	c.Flags().BoolVar(&svg, "svg", false, "as a picture (SVG)")
	return c
}

func (a *app) runbookSchema() *cobra.Command {
	return verb(
		"schema",
		"Print the JSON Schema of the language, for editors",
		"urgentis runbook schema >runbook.schema.json",
		cobra.NoArgs,
		func(*cobra.Command, []string) error {
			_, err := a.out.Write(runbook.Schema())
			return err
		},
	)
}

func anyMap(m map[string]string) map[string]any {
	out := map[string]any{}
	for k, v := range m {
		out[k] = v
	}
	return out
}

func (a *app) runbookTry() *cobra.Command {
	var inputs, readings map[string]string
	var alert string
	var run bool
	c := verb(
		"try FILE STEP",
		"Try one step alone: render it with values given by hand, or carry a look out",
		"urgentis runbook try berth-queue-backlog.yaml park --input queue=quay-north --reading stuck=m-7",
		cobra.ExactArgs(2),
		func(cmd *cobra.Command, args []string) error {
			_, text, err := a.text(args[0])
			if err != nil {
				return err
			}
			cl, err := a.client()
			if err != nil {
				return err
			}
			r, err := check(
				cl.TryStepWithResponse(
					cmd.Context(),
					api.NewTry{
						Text:     text,
						Step:     args[1],
						Inputs:   anyMap(inputs),
						Readings: byTarget(readings),
						Alert:    alert,
						Run:      run,
					},
				),
			)
			if err != nil {
				return err
			}
			return a.print(r.JSON200, func() { a.rehearsed(r.JSON200) })
		},
	)
	c.Flags().StringToStringVar(&inputs, "input", nil, "NAME=VALUE, repeatable")
	c.Flags().StringToStringVar(&readings, "reading", nil, "`NAME=VALUE` for every target, or NAME/TARGET=VALUE")
	c.Flags().StringVar(&alert, "alert", "", "the `ID` of a recorded alert")
	c.Flags().BoolVar(&run, "run", false, "carry the look out; a change never is")
	return c
}

// byTarget reads NAME and NAME/TARGET.
func byTarget(pairs map[string]string) map[string]any {
	out := map[string]any{}
	for k, v := range pairs {
		put(out, k, v)
	}
	return out
}

// put sets NAME, or one target of it where the key is NAME/TARGET.
func put(out map[string]any, key, value string) {
	name, target, ok := strings.Cut(key, "/")
	if !ok {
		out[name] = value
		return
	}
	m, _ := out[name].(map[string]any)
	if m == nil {
		m = map[string]any{}
	}
	m[target] = value
	out[name] = m
}

// assumptions reads what a rehearsal takes for true: a file, and CHANGE.READING=VALUE over it.
func assumptions(file string, list []string) (map[string]map[string]any, error) {
	out := map[string]map[string]any{}
	if file != "" {
		src, err := os.ReadFile(file)
		if err != nil {
			return nil, usage("%s", err)
		}
		if err := yaml.Unmarshal(src, &out); err != nil {
			return nil, usage("%s: it must say, by change, values of readings, as in park: {depth: 12}: %s", file, err)
		}
	}
	for _, x := range list {
		key, value, ok := strings.Cut(x, "=")
		// A path has dots of its own; the name of a reading has none, the name of a target may.
		name, target, by := strings.Cut(key, "/")
		dot := strings.LastIndexByte(name, '.')
		if !ok || dot <= 0 {
			return nil, usage("--assume %s: write CHANGE.READING=VALUE, as in park.depth=12", x)
		}
		change, reading := name[:dot], name[dot+1:]
		if by {
			reading += "/" + target
		}
		if out[change] == nil {
			out[change] = map[string]any{}
		}
		put(out[change], reading, value)
	}
	return out, nil
}

func (a *app) runbookRehearse() *cobra.Command {
	var inputs, answers map[string]string
	var alert, how, assumeFrom string
	var assume []string
	var past int
	c := verb(
		"rehearse FILE",
		"Play a runbook without changing anything",
		"urgentis runbook rehearse berth-queue-backlog.yaml --input queue=quay-north --how looks-only "+
			"--assume park.depth=12",
		cobra.ExactArgs(1),
		func(cmd *cobra.Command, args []string) error {
			_, text, err := a.text(args[0])
			if err != nil {
				return err
			}
			made, err := assumptions(assumeFrom, assume)
			if err != nil {
				return err
			}
			if how != string(api.LooksOnly) && len(made)+len(answers) > 0 {
				return usage("what is assumed or answered counts with --how looks-only alone")
			}
			cl, err := a.client()
			if err != nil {
				return err
			}
			body := api.NewRehearsal{
				Text:    text,
				How:     api.NewRehearsalHow(how),
				Inputs:  anyMap(inputs),
				Alert:   alert,
				Past:    past,
				Assume:  made,
				Answers: answers,
			}
			r, err := check(cl.RehearseWithResponse(cmd.Context(), body))
			if err != nil {
				return err
			}
			if err := a.print(r.JSON200, func() { a.rehearsed(r.JSON200) }); err != nil {
				return err
			}
			switch s := r.JSON200.State; {
			case how == string(api.AgainstThePast):
				return parted(r.JSON200.Past)
			case how != string(api.LooksOnly) || s == flow.Done:
				return nil
			case s == "":
				return errors.New("the rehearsal came to no end")
			default:
				return fmt.Errorf("played so, the runbook ends %s", s)
			}
		},
	)
	f := c.Flags()
	f.StringVar(&how, "how", "without-effects", "`HOW`: without-effects (all is rendered, nothing runs), looks-only "+
		"(looks run, changes are assumed) or against-the-past (recorded runs)")
	f.StringToStringVar(&inputs, "input", nil, "NAME=VALUE, repeatable")
	f.StringVar(&alert, "alert", "", "the `ID` of a recorded alert; its inputs are those of the start that it fits")
	f.StringArrayVar(&assume, "assume", nil, "`CHANGE.READING=VALUE`: what holds once a change is assumed to have "+
		"happened; CHANGE.READING/TARGET=VALUE for one target")
	f.StringVar(&assumeFrom, "assume-from", "", "a `FILE` that says the same, as in park: {depth: 12}")
	f.StringToStringVar(&answers, "answer", nil, "`QUESTION=CHOICE`: what a question is answered with")
	f.IntVar(&past, "past", 10, "the newest `N` recorded runs are played again")
	return c
}

// rehearsed tells a rehearsal step by step; what stands in a step is indented.
func (a *app) rehearsed(r *api.Rehearsal) {
	last := ""
	for i := 0; i < len(r.Lines); i++ {
		l := r.Lines[i]
		indent := strings.Repeat("  ", min(l.Depth, deepest))
		if l.Branch != "" {
			a.say("%s%s\n", ours(indent), a.paint(dim, l.Branch+" →"))
		}
		if head := l.Path + l.Title; head != last {
			a.say(
				"%s%s %s %s\n",
				ours(indent),
				l.Path,
				a.paint(bold, strings.ReplaceAll(l.Verb, "_", " ")+":"),
				l.Title,
			)
			last = head
		}
		indent += "    "
		if l.Shown == "" && l.Says != "" {
			a.say("%s%s\n", ours(indent), indented(indent+"  ", l.Says))
		}
		for _, n := range l.Notes {
			a.say("%s%s\n", ours(indent), a.paint(dim, n))
		}
		targets := []string{whom(l)}
		for i+1 < len(r.Lines) && alike(l, r.Lines[i+1]) {
			i++
			targets = append(targets, whom(r.Lines[i]))
		}
		if l.Shown != "" || l.Target != "" {
			a.say("%son %s: %s\n", ours(indent), strings.Join(targets, ", "), indented(indent+"  ", l.Shown))
		}
		if l.Undo != "" {
			a.say("%sundo: %s\n", ours(indent), indented(indent+"  ", l.Undo))
		}
		if l.Shown != "" && l.Says != "" {
			a.say("%s%s\n", ours(indent), indented(indent+"  ", l.Says))
		}
	}
	a.rehearsalEnd(r)
}

// deepest bounds how far steps in steps are indented.
const deepest = 8

// alike reports whether a line says of another target what the one before says of its own.
func alike(l, next api.RehearsedLine) bool {
	return l.Target != "" && next.Target != "" && l.Path == next.Path && l.Shown == next.Shown && l.Says == next.Says &&
		l.Undo == next.Undo && len(next.Notes) == 0 && next.Branch == ""
}

func whom(l api.RehearsedLine) string {
	switch {
	case l.Target != "":
		return l.Target
	case l.On != "":
		return l.On
	}
	return "the service's own host"
}

// rehearsalEnd tells how a rehearsal came out, and what it would have taken in all.
func (a *app) rehearsalEnd(r *api.Rehearsal) {
	if r.Outcome != "" {
		a.say("\n%s\n", a.paint(bold, strings.TrimSuffix(r.Outcome+"; "+r.Because, "; ")))
	}
	if t := r.Totals; t.Targets != nil {
		on := "no target"
		if len(t.Targets) > 0 {
			on = strings.Join(t.Targets, ", ")
		}
		a.say("In all: %s, %s, %s, %s; on %s.\n", many(t.Looks, "look"), many(t.Changes, "change"),
			many(t.Gates, "gate"), many(t.Questions, "question"), on)
		if t.Gates > 0 {
			who := "nobody but you, and you cannot approve what you ask for"
			if len(r.Approvers) > 0 {
				who = strings.Join(r.Approvers, ", ")
			}
			a.say("May approve: %s.\n", who)
		}
	}
	if len(r.Past) > 0 {
		a.rehearsedPast(r.Past)
	}
}

func many(n int, what string) string {
	switch n {
	case 0:
		return "no " + what
	case 1:
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// parted is an error where a text does otherwise than recorded runs did.
func parted(past []api.RehearsedRun) error {
	n := 0
	for _, p := range past {
		if !p.Same {
			n++
		}
	}
	if n == 0 {
		return nil
	}
	return fmt.Errorf("%d of %s would go otherwise than then", n, many(len(past), "run"))
}

func (a *app) rehearsedPast(past []api.RehearsedRun) {
	var rows [][]string
	for _, p := range past {
		same := "the same"
		if !p.Same {
			same = "parts at " + orDash(p.PartsAt)
		}
		rows = append(
			rows,
			[]string{
				p.Run,
				ago(p.BegunAt),
				p.Then,
				p.Now,
				fmt.Sprintf("%d → %d", p.AskedThen, p.AskedNow),
				clip(same, 60),
			},
		)
	}
	a.table("", []string{"run", "started", "then", "now", "asked", "path"}, rows)
}
