package cli

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"urgentis/api"
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
		return nil, "", fmt.Errorf("%s has mistakes", file)
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
			g := b.Graph(nil)
			return a.print(g, func() { a.showGraph(g.SVG(), b.Text(nil), svg) })
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
	c.Flags().StringToStringVar(&inputs, "input", nil, "NAME=VALUE, as often as wanted")
	c.Flags().StringToStringVar(&readings, "reading", nil, "NAME=VALUE for every target, or NAME/TARGET=VALUE")
	c.Flags().StringVar(&alert, "alert", "", "the id of a recorded alert")
	c.Flags().BoolVar(&run, "run", false, "carry the look out; a change never is")
	return c
}

// byTarget reads NAME and NAME/TARGET.
func byTarget(given map[string]string) map[string]any {
	out := map[string]any{}
	for k, v := range given {
		name, target, ok := strings.Cut(k, "/")
		if !ok {
			out[name] = v
			continue
		}
		m, _ := out[name].(map[string]any)
		if m == nil {
			m = map[string]any{}
		}
		m[target] = v
		out[name] = m
	}
	return out
}

func (a *app) runbookRehearse() *cobra.Command {
	var inputs map[string]string
	var alert, how string
	var past int
	c := verb(
		"rehearse FILE",
		"Play a runbook without changing anything",
		"urgentis runbook rehearse berth-queue-backlog.yaml --how against-the-past",
		cobra.ExactArgs(1),
		func(cmd *cobra.Command, args []string) error {
			_, text, err := a.text(args[0])
			if err != nil {
				return err
			}
			cl, err := a.client()
			if err != nil {
				return err
			}
			body := api.NewRehearsal{
				Text:   text,
				How:    api.NewRehearsalHow(how),
				Inputs: anyMap(inputs),
				Alert:  alert,
				Past:   past,
			}
			r, err := check(cl.RehearseWithResponse(cmd.Context(), body))
			if err != nil {
				return err
			}
			return a.print(r.JSON200, func() { a.rehearsed(r.JSON200) })
		},
	)
	c.Flags().
		StringVar(&how, "how", "without-effects", "without-effects (all is rendered, nothing runs), looks-only "+
			"(looks run, changes are assumed) or against-the-past (recorded runs)")
	c.Flags().StringToStringVar(&inputs, "input", nil, "NAME=VALUE, as often as wanted")
	c.Flags().
		StringVar(&alert, "alert", "", "the id of a recorded alert; its inputs are those of the start that it fits")
	c.Flags().IntVar(&past, "past", 10, "how many recorded runs to play again")
	return c
}

func (a *app) rehearsed(r *api.Rehearsal) {
	last := ""
	for _, l := range r.Lines {
		if head := l.Path + l.Title; head != last {
			a.say("%-10s %s %s\n", l.Path, a.paint(bold, l.Verb+":"), l.Title)
			last = head
		}
		if l.Target != "" || l.Shown != "" {
			a.say("           on %s: %s\n", orHere(l.Target), block(deep, l.Shown))
		}
		if l.Says != "" {
			a.say("           %s\n", block(deep, l.Says))
		}
	}
	if r.Outcome != "" {
		a.say("\n%s\n", a.paint(bold, strings.TrimSuffix(r.Outcome+"; "+r.Because, "; ")))
	}
	if r.Past == nil {
		return
	}
	var rows [][]string
	for _, p := range r.Past {
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
	a.table("No recorded runs of this runbook.", []string{"run", "begun", "then", "now", "asked", "path"}, rows)
}

func orHere(target string) string {
	if target == "" {
		return "this host"
	}
	return target
}

// deep is where the lines below the first stand.
const deep = "             "

func (a *app) instance() *cobra.Command {
	list := verb(
		"list",
		"List the instances that were seen lately",
		"urgentis instance list",
		cobra.NoArgs,
		func(cmd *cobra.Command, _ []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			r, err := check(cl.ListInstancesWithResponse(cmd.Context()))
			if err != nil {
				return err
			}
			return a.print(listOf(*r.JSON200), func() {
				var rows [][]string
				for _, i := range *r.JSON200 {
					rows = append(
						rows,
						[]string{
							i.Id,
							i.Host,
							fmt.Sprint(i.Pid),
							i.Version,
							string(i.State),
							ago(i.BegunAt),
							ago(i.BeatAt),
						},
					)
				}
				a.table("No instances.", []string{"id", "host", "pid", "version", "state", "begun", "last beat"}, rows)
			})
		},
	)
	gone := verb(
		"gone ID",
		"Say that an instance is gone, once you have made sure that it is stopped",
		"urgentis instance gone n4f…",
		cobra.ExactArgs(1),
		func(cmd *cobra.Command, args []string) error {
			cl, err := a.client()
			if err != nil {
				return err
			}
			if _, err := check(cl.BuryInstanceWithResponse(cmd.Context(), args[0])); err != nil {
				return err
			}
			return a.done("Noted.")
		},
	)
	return noun("instance", "Instances of the service on this database", list, a.offers(gone, instanceIDs))
}
