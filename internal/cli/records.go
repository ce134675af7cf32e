package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"urgentis/api"
	"urgentis/core/incident"
)

func (a *app) incidentOpen() *cobra.Command {
	ask := api.NewIncident{Severity: api.NewIncidentSeverityMajor}
	var severity string
	c := doer(a, "open TITLE", "Open an incident by hand; alerts of its service join it",
		`urgentis incident open "Smoke on deck 2" --service deck --severity critical`, cobra.MinimumNArgs(1),
		func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
			ask.Title, ask.Severity = strings.Join(args, " "), api.NewIncidentSeverity(severity)
			r, err := check(cl.OpenIncidentWithResponse(once(cmd.Context()), ask))
			if err != nil {
				return nil, "", err
			}
			return r.JSON201, fmt.Sprintf("Incident %d is open, and yours.", r.JSON201.Number), nil
		})
	c.Flags().StringVar(&ask.Service, "service", "", "the `SERVICE` that it is about")
	c.Flags().StringVar(&severity, "severity", "major", "how bad it is: `critical`, major, minor or warning")
	a.offersFlag(c, "service", serviceNames)
	complete(c, "severity", "critical", "major", "minor", "warning")
	return c
}

// saysIncident prints an incident that was altered.
func (a *app) saysIncident(i *api.Incident, format string, args ...any) error {
	return a.print(i, func() { a.say(format+"\n", args...) })
}

func (a *app) incidentTake() *cobra.Command {
	return a.onIncident(
		"take NUMBER",
		"Look after an incident from here on",
		"urgentis incident take 12",
		cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, n int64, _ []string) error {
			r, err := check(cl.HoldIncidentWithResponse(cmd.Context(), n, api.NewHolder{}))
			if err != nil {
				return err
			}
			return a.saysIncident(r.JSON200, "Incident %d is yours.", n)
		},
	)
}

func (a *app) incidentReassign() *cobra.Command {
	var because string
	c := a.onIncident("reassign NUMBER [PERSON]", "Assign an incident to somebody else, or without a name to nobody",
		`urgentis incident reassign 12 mara --because "end of my watch"`, cobra.RangeArgs(1, 2),
		func(cmd *cobra.Command, cl *client, n int64, args []string) error {
			ask := api.NewHolder{Because: because, GiveBack: len(args) == 1}
			if len(args) == 2 {
				ask.To = args[1]
			}
			r, err := check(cl.HoldIncidentWithResponse(cmd.Context(), n, ask))
			if err != nil {
				return err
			}
			if len(args) == 1 {
				return a.saysIncident(r.JSON200, "Nobody holds incident %d any more.", n)
			}
			return a.saysIncident(
				r.JSON200,
				"%s has incident %d, and is called until they take it.",
				args[1],
				n,
			)
		})
	c.Flags().StringVar(&because, "because", "", "`WHY`, for the record")
	return c
}

func (a *app) incidentEdit() *cobra.Command {
	var title, severity, cause, harm string
	c := a.onIncident("edit NUMBER", "Set title or severity by hand, or state the cause or the harm",
		`urgentis incident edit 12 --title "Both ramps are dark" --severity critical`+"\n"+
			`urgentis incident edit 12 --cause "A message that no consumer can read"`+"\n"+
			"urgentis incident edit 12 --severity auto", cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, n int64, _ []string) error {
			stated, err := a.states(cmd, cl, n, []api.Statement{
				{Field: api.Cause, Text: cause}, {Field: api.Harm, Text: harm},
			})
			if err != nil || stated && title == "" && severity == "" {
				return err
			}
			r, err := check(cl.EditIncidentWithResponse(cmd.Context(), n,
				api.NewHead{Title: title, Severity: api.NewHeadSeverity(severity)}))
			if err != nil {
				return err
			}
			return a.saysIncident(r.JSON200, "Incident %d is %s now: %s", n, r.JSON200.Severity, r.JSON200.Title)
		})
	c.Flags().StringVar(&title, "title", "", "the `TITLE`; it follows the worst alert no more")
	c.Flags().StringVar(&cause, "cause", "", "what `CAUSED` it, in your words")
	c.Flags().StringVar(&harm, "harm", "", "`WHOM` it harms, in your words")
	c.Flags().StringVar(&severity, "severity", "", "the `SEVERITY`; auto follows the worst alert again")
	complete(c, "severity", "critical", "major", "minor", "warning", "auto")
	return c
}

// states writes down in a person's words what was given by flags; it tells whether anything was.
func (a *app) states(cmd *cobra.Command, cl *client, n int64, list []api.Statement) (stated bool, err error) {
	for _, s := range list {
		if !cmd.Flags().Changed(string(s.Field)) {
			continue
		}
		r, err := check(cl.StateOfIncidentWithResponse(cmd.Context(), n, s))
		if err != nil {
			return stated, err
		}
		stated = true
		if err := a.saysIncident(r.JSON200, "Incident %d: the %s is stated.", n, s.Field); err != nil {
			return stated, err
		}
	}
	return stated, nil
}

func (a *app) incidentMerge() *cobra.Command {
	var because string
	var into int64
	c := a.onIncident("merge NUMBER --into NUMBER", "Make an incident part of another one",
		`urgentis incident merge 13 --into 12 --because "one cable feeds both"`, cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, n int64, _ []string) error {
			if into == 0 {
				return usage("say of which incident it is part: --into 12")
			}
			r, err := check(cl.MergeIncidentWithResponse(cmd.Context(), n, api.NewMerge{Into: into, Because: because}))
			if err != nil {
				return err
			}
			return a.saysIncident(r.JSON200, "Incident %d is part of incident %d, which has %d alerts now.", n, into,
				r.JSON200.Alerts)
		})
	c.Flags().Int64Var(&into, "into", 0, "the `NUMBER` of the other one")
	c.Flags().StringVar(&because, "because", "", "`WHY`, for the record")
	return c
}

func (a *app) incidentSplit() *cobra.Command {
	var because string
	c := a.onIncident("split NUMBER ALERT…", "Take alerts out of an incident into one of their own",
		`urgentis incident split 12 aq7c… --because "that lamp is another matter"`, cobra.MinimumNArgs(2),
		func(cmd *cobra.Command, cl *client, n int64, args []string) error {
			r, err := check(
				cl.SplitIncidentWithResponse(cmd.Context(), n, api.NewSplit{Alerts: args[1:], Because: because}),
			)
			if err != nil {
				return err
			}
			return a.saysIncident(r.JSON201, "They are incident %d now.", r.JSON201.Number)
		})
	c.Flags().StringVar(&because, "because", "", "`WHY`, for the record")
	return c
}

func (a *app) incidentReopen() *cobra.Command {
	var because string
	c := a.onIncident(
		"reopen NUMBER",
		"Open an incident again",
		`urgentis incident reopen 12 --because "it smokes again"`,
		cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, n int64, _ []string) error {
			if because == "" {
				return usage("the record says why: give --because")
			}
			r, err := check(cl.ReopenIncidentWithResponse(cmd.Context(), n, api.Because{Because: because}))
			if err != nil {
				return err
			}
			return a.saysIncident(r.JSON200, "Incident %d is open again.", n)
		},
	)
	c.Flags().StringVar(&because, "because", "", "`WHY`, for the record")
	return c
}

func (a *app) incidentFiles() *cobra.Command {
	return a.onIncident("files NUMBER", "List files and links of the record", "urgentis incident files 12",
		cobra.ExactArgs(1), func(cmd *cobra.Command, cl *client, n int64, _ []string) error {
			r, err := check(cl.ListAttachmentsWithResponse(cmd.Context(), n))
			if err != nil {
				return err
			}
			return a.print(listOf(*r.JSON200), func() {
				rows := make([][]string, len(*r.JSON200))
				for i, f := range *r.JSON200 {
					what := f.Url
					if f.Kind == api.File {
						what = fmt.Sprintf("%d bytes, SHA-256 %.12s…", f.Size, f.Digest)
					}
					rows[i] = []string{f.Id, f.Name, what, f.AddedBy, ago(f.AddedAt)}
				}
				a.table("No files and no links.", []string{"id", "name", "what", "by", "put"}, rows)
			})
		})
}

func (a *app) incidentAttach() *cobra.Command {
	return a.onIncident("attach NUMBER FILE", "Put a file to the record, up to 256 MB",
		"urgentis incident attach 12 core-dump.gz", cobra.ExactArgs(2),
		func(cmd *cobra.Command, cl *client, n int64, args []string) error {
			f, err := os.Open(args[1])
			if err != nil {
				return usage("%s", err)
			}
			defer f.Close() //nolint:errcheck // it was only read
			r, err := check(cl.AddFileWithBodyWithResponse(cmd.Context(), n,
				&api.AddFileParams{Name: filepath.Base(args[1])}, "application/octet-stream", f))
			if err != nil {
				return err
			}
			return a.print(r.JSON201, func() {
				a.say("%s is in the record: %d bytes, SHA-256 %s\n", r.JSON201.Name, r.JSON201.Size, r.JSON201.Digest)
			})
		})
}

func (a *app) incidentFile() *cobra.Command {
	var into string
	c := a.onIncident(
		"file NUMBER ID",
		"Fetch a file of the record",
		"urgentis incident file 12 f3k… --to core-dump.gz",
		cobra.ExactArgs(2),
		func(cmd *cobra.Command, cl *client, n int64, args []string) error {
			return a.fetch(cmd.Context(), cl, fmt.Sprintf("/api/v1/incidents/%d/files/%s", n, args[1]), into)
		},
	)
	c.Flags().StringVar(&into, "to", "-", "the `FILE` to write; - for standard output")
	return c
}

// fetch writes what the service answers to a file as it comes.
func (a *app) fetch(ctx context.Context, cl *client, path, into string) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, cl.kept.Server+path, nil)
	if err != nil {
		return err
	}
	cl.authorize(req)
	res, err := cl.raw.Do(req)
	if err != nil {
		return unreachable(err)
	}
	defer res.Body.Close() //nolint:errcheck // it was only read
	if res.StatusCode != http.StatusOK {
		body, err := io.ReadAll(io.LimitReader(res.Body, 64<<10))
		if err != nil {
			return unreachable(err)
		}
		return refusal(res.StatusCode, body)
	}
	out := a.out
	if into != "-" {
		f, err := os.Create(into) //nolint:gosec // whoever runs it says where
		if err != nil {
			return usage("%s", err)
		}
		defer f.Close() //nolint:errcheck // Copy tells what could not be written
		out = f
	}
	_, err = io.Copy(out, res.Body)
	return err
}

func (a *app) incidentLink() *cobra.Command {
	return a.onIncident("link NUMBER URL NAME", "Put a link to the record",
		`urgentis incident link 12 https://plans.example/2 "Plan of deck 2"`, cobra.MinimumNArgs(3),
		func(cmd *cobra.Command, cl *client, n int64, args []string) error {
			r, err := check(cl.AddLinkWithResponse(once(cmd.Context()), n,
				api.NewLink{Url: args[1], Name: strings.Join(args[2:], " ")}))
			if err != nil {
				return err
			}
			return a.print(r.JSON201, func() { a.say("%s is in the record.\n", r.JSON201.Name) })
		})
}

func (a *app) incidentReport() *cobra.Command {
	var asHTML bool
	var into string
	c := a.onIncident("report NUMBER", "Write the record for people to read, as Markdown or HTML",
		"urgentis incident report 12\nurgentis incident report 12 --html --to incident-12.html", cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, n int64, _ []string) error {
			form := "markdown"
			if asHTML {
				form = "html"
			}
			return a.fetch(cmd.Context(), cl, fmt.Sprintf("/api/v1/incidents/%d/report?form=%s", n, form), into)
		})
	c.Flags().BoolVar(&asHTML, "html", false, "one page that stands alone, with the strip as a picture")
	c.Flags().StringVar(&into, "to", "-", "the `FILE` to write; - for standard output")
	return c
}

func (a *app) incidentExport() *cobra.Command {
	var into string
	c := a.onIncident("export NUMBER", "Write the record with its hashes, so that others can check it",
		"urgentis incident export 12 --to incident-12.jsonl\nurgentis incident verify --file incident-12.jsonl",
		cobra.ExactArgs(1), func(cmd *cobra.Command, cl *client, n int64, _ []string) error {
			return a.fetch(cmd.Context(), cl, fmt.Sprintf("/api/v1/incidents/%d/export", n), into)
		})
	c.Flags().StringVar(&into, "to", "-", "the `FILE` to write; - for standard output")
	return c
}

func (a *app) incidentVerify() *cobra.Command {
	var file string
	c := verb("verify [NUMBER]", "Check that no entry of a record was changed or taken away",
		"urgentis incident verify 12\nurgentis incident verify --file incident-12.jsonl", cobra.MaximumNArgs(1),
		func(cmd *cobra.Command, args []string) error {
			if (file == "") == (len(args) == 0) {
				return usage("give the number of an incident, or with --file an exported record")
			}
			if file != "" {
				return a.verifyFile(file)
			}
			n, err := number(args[0])
			if err != nil {
				return err
			}
			cl, err := a.client()
			if err != nil {
				return err
			}
			r, err := check(cl.VerifyIncidentWithResponse(cmd.Context(), n))
			if err != nil {
				return err
			}
			if err := a.print(r.JSON200, func() { a.say("Incident %d: %s.\n", n, r.JSON200.Says) }); err != nil {
				return err
			}
			if !r.JSON200.Whole {
				return errors.New("the record is not as it was written")
			}
			return nil
		})
	c.Flags().StringVar(&file, "file", "", "an exported record's `FILE`; no service is asked")
	return c
}

// verifyFile checks an exported record without asking anybody.
func (a *app) verifyFile(name string) error {
	f, err := os.Open(name)
	if err != nil {
		return usage("%s", err)
	}
	defer f.Close() //nolint:errcheck // it was only read
	x, err := incident.ReadExport(f)
	if err != nil {
		return &failure{code: exitFailed, err: err}
	}
	if err := x.Check(); err != nil {
		return &failure{code: exitFailed, err: fmt.Errorf("the record is not as it was written: %w", err)}
	}
	says := x.Says()
	return a.print(api.Verified{Whole: true, Says: says, Entries: x.Head.Entries}, func() {
		a.say("Incident %s, as exported on %s: %s.\nTitle, service, severity and state of its head are not sealed.\n"+
			"That the export itself is genuine, its last hash tells: %s\n",
			x.Head.Incident, x.Head.ExportedAt.Format("2006-01-02 15:04 MST"), says, x.Head.LastHash)
	})
}
