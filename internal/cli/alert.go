package cli

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"urgentis/api"
)

func (a *app) alert() *cobra.Command {
	return noun(
		"alert",
		"Alerts, and sending one by hand",
		a.alertSend(),
		a.alertList(),
		a.offers(a.alertShow(), alertIDs),
		a.offers(a.alertSuggest(), alertIDs),
	)
}

func (a *app) alertSend() *cobra.Command {
	var source, file, key, severity, summary, service string
	var labels map[string]string
	c := verb("send", "Send an alert as a source would",
		`urgentis alert send --source harbour-watch --source-token urs_… --severity major \
    --summary "Depth is 800" --service berth-queue --label signal=queue_depth --label queue=quay-north`, cobra.NoArgs,
		func(cmd *cobra.Command, _ []string) error {
			k, err := a.loginOf()
			if err != nil {
				return err
			}
			token := a.v.GetString("source-token")
			if k.Server == "" || source == "" || token == "" {
				return usage("give --source and --source-token, and --server unless you are logged in")
			}
			body, err := a.alertBody(
				file,
				api.Report{
					Key:      key,
					Severity: api.ReportSeverity(severity),
					Summary:  summary,
					Service:  service,
					Labels:   labels,
				},
			)
			if err != nil {
				return err
			}
			req, err := http.NewRequestWithContext(
				cmd.Context(),
				http.MethodPost,
				strings.TrimRight(k.Server, "/")+"/in/"+source,
				bytes.NewReader(body),
			)
			if err != nil {
				return err
			}
			req.Header.Set("Authorization", "Bearer "+token)
			req.Header.Set("Content-Type", "application/json")
			res, err := http.DefaultClient.Do(req)
			if err != nil {
				return unreachable(err)
			}
			defer res.Body.Close()
			said, err := io.ReadAll(io.LimitReader(res.Body, 1<<20))
			if err != nil {
				return unreachable(err)
			}
			if res.StatusCode != http.StatusAccepted {
				return refusal(res.StatusCode, said)
			}
			var list []api.Taken
			if !bytes.HasPrefix(said, []byte("[")) {
				said = append(append([]byte("["), said...), ']')
			}
			if err := json.Unmarshal(said, &list); err != nil {
				return err
			}
			var shown any = list
			if len(list) == 1 {
				shown = list[0]
			}
			err = a.print(shown, func() {
				for _, t := range list {
					if t.Unparsed != "" {
						continue
					}
					a.say("Taken as %s (%s)", orDash(t.Alert), t.Change)
					if t.Incident != 0 {
						a.say(", incident %d", t.Incident)
					}
					a.say(".\n")
				}
			})
			return cmp.Or(err, unparsedAmong(list))
		})
	defer complete(c, "severity", "critical", "major", "minor", "warning", "cleared")
	f := c.Flags()
	f.StringVar(&source, "source", "", "the `SOURCE` it comes from")
	f.String("source-token", "", "the source's `TOKEN` (URGENTIS_SOURCE_TOKEN)")
	f.StringVarP(
		&file,
		"file",
		"f",
		"",
		"the body as a JSON `FILE`, one report or a list of them; - for standard input",
	)
	f.StringVar(&key, "key", "", "the `CONDITION`'s name within the source")
	f.StringVar(&severity, "severity", "major", "`SEVERITY`: critical, major, minor, warning or cleared")
	f.StringVar(&summary, "summary", "", "what is the matter")
	f.StringVar(&service, "service", "", "the `SERVICE` it is about")
	f.StringToStringVar(&labels, "label", nil, "`NAME=VALUE`, repeatable")
	return c
}

// unparsedAmong makes what was sent and could not be read the end of the command.
func unparsedAmong(list []api.Taken) error {
	for _, t := range list {
		if t.Unparsed != "" {
			err := fmt.Errorf("it is kept as %s, but cannot be read: %s", t.Unparsed, t.Says)
			return &failure{code: exitFailed, err: err}
		}
	}
	return nil
}

func (a *app) alertBody(file string, r api.Report) ([]byte, error) {
	if file == "" {
		return json.Marshal(r)
	}
	return a.fileOrInput(file)
}

func (a *app) alertList() *cobra.Command {
	var p api.ListAlertsParams
	var state string
	var limit int
	c := doerList(a, "List alerts, the newest first", "urgentis alert list --state open --service berth-queue", &limit,
		func(ctx context.Context, cl *client, cursor string, n int) ([]api.Alert, string, error) {
			p.Cursor, p.Limit, p.State = cursor, n, api.ListAlertsParamsState(state)
			r, err := check(cl.ListAlertsWithResponse(ctx, &p))
			if err != nil {
				return nil, "", err
			}
			return r.JSON200.Items, r.JSON200.Next, nil
		}, func(items []api.Alert) {
			var rows [][]string
			for _, x := range items {
				rows = append(rows, []string{
					x.Id, x.Severity, string(x.State), fmt.Sprint(x.Count), ago(x.LastAt), fmt.Sprint(x.Incident),
					clip(x.Summary, 60),
				})
			}
			a.table("No alerts. Add a source with: urgentis source add NAME",
				[]string{"id", "severity", "state", "times", "last", "incident", "summary"}, rows)
		})
	c.Flags().StringVar(&state, "state", "", "only `open` or cleared ones")
	c.Flags().StringVar(&p.Service, "service", "", "only those about this `SERVICE`")
	c.Flags().StringVar(&p.Source, "source", "", "only those of this `SOURCE`")
	complete(c, "state", "open", "cleared")
	a.offersFlag(c, "service", serviceNames)
	a.offersFlag(c, "source", sourceNames)
	return c
}

func (a *app) alertShow() *cobra.Command {
	limit := 0
	c := verb(
		"show ID",
		"Show an alert, what it started, and why not the others",
		"urgentis alert show a3k…",
		cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			r, err := check(cl.GetAlertWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			x := r.JSON200
			for x.Next != "" && len(x.Verdicts) < limit {
				more, err := check(cl.ListAlertTriggersWithResponse(cmd.Context(), args[0],
					&api.ListAlertTriggersParams{Cursor: x.Next, Limit: mostOnPage}))
				if err != nil {
					return err
				}
				x.Verdicts, x.Next = append(x.Verdicts, more.JSON200.Items...), more.JSON200.Next
			}
			return a.print(x, func() { a.showAlert(x) })
		}),
	)
	c.Flags().IntVar(&limit, "limit", mostOnPage, "tell of at most `N` triggers, in pages of 200")
	return c
}

const clockTime = "15:04:05 MST"

// says is what an alert's sender says of when it was, where that is not when it was heard.
func says(x *api.AlertDetail) string {
	const near = time.Minute
	if x.FirstSaid.IsZero() || x.FirstAt.Sub(x.FirstSaid).Abs() < near && x.LastAt.Sub(x.LastSaid).Abs() < near {
		return ""
	}
	return fmt.Sprintf("; its source says first %s, last %s", x.FirstSaid.UTC().Format(time.DateTime+" MST"),
		x.LastSaid.UTC().Format(time.DateTime+" MST"))
}

func (a *app) showAlert(x *api.AlertDetail) {
	a.say("%s\n%s from %s, %s, %d times, first %s, last %s%s\nincident %d%s\n\n", a.paint(bold, x.Summary), x.Severity,
		x.Source, x.State, x.Count, x.FirstAt.UTC().Format(clockTime), x.LastAt.UTC().Format(clockTime), says(x),
		x.Incident, labels(x.Labels))
	if x.Meant != "" {
		a.say("%s: %s\n\n", x.Service, a.paint(amber, otherCase(x.Meant)))
	}
	rows := make([][]string, len(x.Verdicts))
	for i, v := range x.Verdicts {
		rows[i] = verdictRow(v)
	}
	a.table("No runbook has a start that could match.", []string{"start", "what", "why"}, rows)
	a.more(x.Next)
	if x.Payload.ContentType != "" || x.Payload.Body != "" {
		a.sent(x.Payload)
	}
}

// verdictRow tells what became of one trigger, and why.
func verdictRow(v api.Verdict) []string {
	what := "not started"
	if v.Started {
		what = strings.TrimSpace("started " + v.Run)
	}
	if !v.HoursAt.IsZero() {
		what = "judged again " + v.HoursAt.UTC().Format("2006-01-02 15:04 MST")
	}
	if !v.StartsAt.IsZero() {
		what = "starts " + v.StartsAt.UTC().Format("15:04:05 MST") + " if still so"
	}
	var why []string
	for _, p := range v.Values {
		why = append(why, p.Part+" is "+p.Text)
	}
	if v.Error != "" {
		why = append(why, v.Error)
	}
	return []string{v.Runbook + "/" + v.Name, what, strings.Join(why, ", ")}
}
