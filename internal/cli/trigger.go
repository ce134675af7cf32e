package cli

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"urgentis/api"
)

// inPath is the name of a trigger as it stands in a path.
func inPath(trigger string) string { return strings.Replace(trigger, "/", ".", 1) }

func (a *app) trigger() *cobra.Command {
	return noun("trigger", "The occasions on which runbooks start by themselves", a.triggerList(), a.triggerShow(),
		a.triggerFired(),
		a.triggerOff(), a.triggerOn(), a.triggerAddress(), a.triggerKeys(), a.triggerEndKey(), a.triggerValues())
}

func (a *app) triggerList() *cobra.Command {
	return lister(a, "List triggers, and what came of them within a day", "urgentis trigger list",
		"No triggers. A runbook's starts are some; others are documents: see docs/triggers.md.",
		[]string{"name", "runbook", "on", "next", "last", "started", "not", "starts when"},
		func(cmd *cobra.Command, cl *client) (*[]api.Trigger, error) {
			r, err := check(cl.ListTriggersWithResponse(cmd.Context()))
			return r.JSON200, err
		},
		func(t api.Trigger) []string {
			on, next := "yes", "-"
			if t.Off.By != "" {
				on = "off, by " + t.Off.By
			}
			if !t.NextAt.IsZero() {
				next = until(t.NextAt)
			}
			return []string{t.Name, t.Runbook, on, next, ago(t.LastAt), fmt.Sprint(t.Lately["started"]),
				fmt.Sprint(t.Lately["back"] + t.Lately["refused"] + t.Lately["already"]), strings.Join(t.Says, "; ")}
		})
}

// resultWords are what came of an occasion.
var resultWords = map[api.FiringResult]string{
	"started": "started", "held": "waits", "dropped": "waited in vain", "back": "suppressed",
	"refused": "could not start", "already": "under way already",
}

func (a *app) triggerShow() *cobra.Command {
	var most int
	c := verb("show NAME", "Show a trigger, and each time it fired or was suppressed",
		"urgentis trigger show backlog-at-night\nurgentis trigger show berth-queue-backlog/backlog", cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			t, err := check(cl.GetTriggerWithResponse(cmd.Context(), inPath(args[0])))
			if err != nil {
				return err
			}
			f, err := check(
				cl.ListFiringsWithResponse(cmd.Context(), inPath(args[0]), &api.ListFiringsParams{Limit: most}),
			)
			if err != nil {
				return err
			}
			return a.print(map[string]any{"trigger": t.JSON200, "firings": f.JSON200}, func() {
				a.aboutTrigger(t.JSON200)
				rows := make([][]string, len(f.JSON200.Items))
				for i, x := range f.JSON200.Items {
					incident := "-"
					if x.Incident > 0 {
						incident = fmt.Sprint(x.Incident)
					}
					rows[i] = []string{
						fmt.Sprint(x.Id),
						ago(x.At),
						a.result(x),
						incident,
						orDash(x.Alert),
						orDash(x.Run),
						x.Why,
					}
				}
				a.table(
					"It has not fired yet.",
					[]string{"id", "at", "outcome", "incident", "alert", "run", "why"},
					rows,
				)
				if f.JSON200.More {
					a.say("There are more; --most shows more of them.\n")
				}
			})
		}))
	c.Flags().IntVar(&most, "most", 20, "how `MANY` firings")
	return a.offers(c, triggerNames)
}

func (a *app) triggerFired() *cobra.Command {
	c := verb("fired NAME ID", "Show one time that a trigger fired or was suppressed, with what was sent",
		"urgentis trigger fired clocks-by-call 17", cobra.ExactArgs(2),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			id, err := strconv.ParseInt(args[1], 10, 64)
			if err != nil {
				return usage("%q is no number; urgentis trigger show %s lists them", args[1], args[0])
			}
			r, err := check(cl.GetFiringWithResponse(cmd.Context(), inPath(args[0]), id))
			if err != nil {
				return err
			}
			f := r.JSON200
			return a.print(f, func() {
				a.say("%s  %s  %s\n", f.At.UTC().Format("2006-01-02 15:04:05 MST"), a.result(*f), f.Why)
				for _, x := range []struct{ what, is string }{{"alert", f.Alert}, {"run", f.Run}} {
					if x.is != "" {
						a.say("%s %s\n", x.what, x.is)
					}
				}
				if f.Incident > 0 {
					a.say("incident %d\n", f.Incident)
				}
				a.sent(f.Payload)
			})
		}))
	return a.offers(c, triggerNames)
}

// sent shows what was sent, where that is kept.
func (a *app) sent(p api.Payload) {
	if p.ContentType == "" && p.Body == "" {
		a.say("\nNothing was sent but what its alert says, if it has one, or it is no longer kept.\n")
		return
	}
	a.say(
		"\nWhat was sent at %s, as %s:\n%s\n",
		p.At.UTC().Format("15:04:05 MST"),
		orDash(p.ContentType),
		whole(p.Body),
	)
}

func (a *app) result(f api.Firing) string {
	return resultWords[f.Result]
}

func (a *app) aboutTrigger(t *api.Trigger) {
	a.say("%s starts %s\n", a.paint(bold, t.Name), t.Runbook)
	for _, s := range t.Says {
		a.say("  %s\n", s)
	}
	if t.Off.By != "" {
		a.say(
			"  %s\n",
			a.paint(amber, fmt.Sprintf("switched off by %s %s: %s", t.Off.By, ago(t.Off.At), t.Off.Because)),
		)
	}
	if !t.NextAt.IsZero() {
		a.say("  due next at %s\n", t.NextAt.UTC().Format("2006-01-02 15:04 MST"))
	}
	a.say("\n")
}

func (a *app) triggerOff() *cobra.Command {
	var because string
	c := doer(a, "off NAME", "Switch a trigger off without losing it",
		`urgentis trigger off backlog-at-night --because "the queue is being moved"`, cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
			_, err := check(
				cl.SwitchTriggerWithResponse(cmd.Context(), inPath(args[0]), api.NewSwitch{Because: because}),
			)
			return nil, "Switched off.", err
		})
	c.Flags().StringVar(&because, "because", "", "the `REASON`, which whoever looks for what did not start will read")
	return a.offers(c, triggerNames)
}

func (a *app) triggerOn() *cobra.Command {
	return a.offers(doer(a, "on NAME", "Switch a trigger on again", "urgentis trigger on backlog-at-night",
		cobra.ExactArgs(1), func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
			_, err := check(cl.SwitchTriggerWithResponse(cmd.Context(), inPath(args[0]), api.NewSwitch{On: true}))
			return nil, "Switched on.", err
		}), triggerNames)
}

func (a *app) triggerAddress() *cobra.Command {
	var keep time.Duration
	var days int
	c := doer(
		a,
		"address NAME",
		"Give a start address a new key; it is shown once",
		"urgentis trigger address restart-by-call\nurgentis trigger address restart-by-call --keep 24h",
		cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
			r, err := check(cl.AddStartKeyWithResponse(cmd.Context(), inPath(args[0]),
				api.NewStartKey{Days: days, KeepMinutes: int(keep.Minutes())}))
			if err != nil {
				return nil, "", err
			}
			return r.JSON201, fmt.Sprintf("POST to this address, which is shown once and ends on %s:\n%s\n"+
				"A GET of it tells what it takes.", r.JSON201.EndsAt.Format(time.DateOnly), r.JSON201.Address), nil
		},
	)
	c.Flags().IntVar(&days, "days", 365, "how many `DAYS` it is good")
	c.Flags().
		DurationVar(&keep, "keep", 0, "how `LONG` the old address goes on beside the new one (otherwise it ends now)")
	return a.offers(c, triggerNames)
}

func (a *app) triggerKeys() *cobra.Command {
	return a.offers(verb("keys NAME", "List the keys of a start address, newest first; never their values",
		"urgentis trigger keys restart-by-call", cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			r, err := check(cl.ListStartKeysWithResponse(cmd.Context(), inPath(args[0])))
			if err != nil {
				return err
			}
			return a.print(listOf(*r.JSON200), func() {
				var rows [][]string
				for _, k := range *r.JSON200 {
					rows = append(rows, []string{k.Id, ago(k.AddedAt), k.AddedBy, ago(k.LastUsedAt), until(k.EndsAt)})
				}
				a.table("No keys. Add one with: urgentis trigger address "+args[0],
					[]string{"id", "added", "by", "used", "ends"}, rows)
			})
		})), triggerNames)
}

func (a *app) triggerEndKey() *cobra.Command {
	return a.offers(doer(a, "end-key NAME ID", "End a key of a start address now",
		"urgentis trigger end-key restart-by-call k3…", cobra.ExactArgs(2),
		func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
			_, err := check(cl.EndStartKeyWithResponse(cmd.Context(), inPath(args[0]), args[1]))
			return nil, "Ended.", err
		}), triggerNames)
}

func (a *app) triggerValues() *cobra.Command {
	return verb("values [FIELD]", "List values that alerts had in a field, for whoever writes a condition",
		"urgentis trigger values labels.signal", cobra.MaximumNArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			p := &api.ListSeenParams{}
			if len(args) > 0 {
				p.Field = strings.TrimPrefix(args[0], "alert.")
			}
			r, err := check(cl.ListSeenWithResponse(cmd.Context(), p))
			if err != nil {
				return err
			}
			return a.print(listOf(*r.JSON200), func() {
				rows := make([][]string, len(*r.JSON200))
				for i, v := range *r.JSON200 {
					rows[i] = []string{"alert." + v.Field, v.Value, ago(v.At)}
				}
				a.table("Nothing was seen yet.", []string{"field", "value", "last"}, rows)
			})
		}))
}
