package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/spf13/cobra"

	"urgentis/api"
)

func (a *app) sourceAdd() *cobra.Command {
	var ask api.NewSource
	var signing, user bool
	var auth, priv string
	var keep time.Duration
	c := doer(
		a,
		"add NAME",
		"Add a source of alerts, or give one a new key",
		"urgentis source add harbour-watch\nurgentis source add harbour-watch --keep 24h",
		cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
			ask.Name, ask.KeepMinutes = args[0], int(keep.Minutes())
			switch {
			case signing:
				ask.Key = api.NewSourceKeySigning
			case user:
				ask.Key, ask.Auth, ask.Priv = api.NewSourceKeyUser, api.NewSourceAuth(auth), api.NewSourcePriv(priv)
			}
			r, err := check(cl.AddSourceWithResponse(cmd.Context(), ask))
			if err != nil {
				return nil, "", err
			}
			says, err := howToReport(cmd.Context(), cl, ask, r.JSON201)
			return r.JSON201, says, err
		},
	)
	f := c.Flags()
	f.StringVar(
		&ask.CallBack,
		"call-back",
		"",
		"the `URL` where the source is told that an alert is acknowledged or closed",
	)
	f.BoolVar(&signing, "signing", false, "a key to sign with; its document must say proof: [signed]")
	f.BoolVar(&user, "snmp-user", false, "a user of SNMP v3; its document must say takes: trap and proof: [user]")
	f.StringVar(&auth, "auth", "sha256", "how a user's messages are proven: `sha256`, sha512, sha or md5")
	f.StringVar(&priv, "priv", "aes", "how a user's messages are encrypted: `aes`, aes256 or des")
	c.MarkFlagsMutuallyExclusive("signing", "snmp-user")
	f.DurationVar(
		&keep,
		"keep",
		0,
		"how `LONG` the old key goes on beside the new one, such as 24h (otherwise it ends now)",
	)
	return a.offers(c, sourceNames)
}

// howToReport says how a source reports with a new key, by what it takes.
func howToReport(ctx context.Context, cl *client, ask api.NewSource, k *api.TokenShown) (string, error) {
	const once = ", which is shown once:\n"
	switch ask.Key {
	case api.NewSourceKeySigning:
		return fmt.Sprintf("POST alerts to %s/in/%s, signed by Standard Webhooks with this key%s%s",
			cl.kept.Server, ask.Name, once, k.Token), nil
	case api.NewSourceKeyUser:
		return fmt.Sprintf(
			"Send traps or informs of SNMP v3 as user %s, with these pass phrases, which are shown once:\n"+
				"authentication (%s) %s\nprivacy (%s) %s",
			k.User,
			ask.Auth,
			k.Token,
			ask.Priv,
			k.Priv,
		), nil
	}
	list, err := check(cl.ListSourcesWithResponse(ctx))
	if err != nil {
		return "", err
	}
	says := fmt.Sprintf("POST alerts to %s/in/%s with this token", cl.kept.Server, ask.Name)
	for _, s := range *list.JSON200 {
		if s.Name != ask.Name {
			continue
		}
		switch s.Takes {
		case api.Trap:
			says = "Send traps or informs of SNMP v2c with this community"
		case api.Mail:
			says = "Send mail to " + ask.Name + "+TOKEN@… with this token, or with SMTP's AUTH and this as the password"
		case api.Syslog:
			says = "Its document says that messages are known by their network: this token proves nothing there. It is"
		case api.Http:
		}
	}
	return says + once + k.Token, nil
}

func (a *app) sourceKeys() *cobra.Command {
	c := verb("keys NAME", "List the keys of a source, newest first; never their values",
		"urgentis source keys harbour-watch", cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			r, err := check(cl.ListSourceKeysWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.print(listOf(*r.JSON200), func() {
				var rows [][]string
				for _, k := range *r.JSON200 {
					ends := "-"
					if !k.EndsAt.IsZero() {
						ends = until(k.EndsAt)
					}
					rows = append(
						rows,
						[]string{k.Id, string(k.Kind), ago(k.AddedAt), k.AddedBy, ago(k.LastUsedAt), ends},
					)
				}
				a.table("No keys: nothing can be reported. Add one with: urgentis source add "+args[0],
					[]string{"id", "kind", "added", "by", "used", "ends"}, rows)
			})
		}))
	return a.offers(c, sourceNames)
}

func (a *app) sourceEndKey() *cobra.Command {
	c := doer(a, "end-key NAME ID", "End a key of a source now", "urgentis source end-key harbour-watch k3…",
		cobra.ExactArgs(2),
		func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
			_, err := check(cl.EndSourceKeyWithResponse(cmd.Context(), args[0], args[1]))
			return nil, "Ended.", err
		})
	return a.offers(c, sourceNames)
}

// sourceTry tells what a payload would become, and what that would start.
func (a *app) sourceTry() *cobra.Command {
	var ask api.NewSourceTry
	var file, mapFile, at string
	var why, real bool
	c := verb(
		"try NAME",
		"Tell what a payload would become and start, without any effect",
		"urgentis source try harbour-watch --file sample.json\n"+
			"curl -s monitor.example/sample | urgentis source try harbour-watch --map harbour-watch.yaml --file -\n"+
			"urgentis source try harbour-watch --file sample.json --for-real",
		cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			body, err := a.fileOrInput(file)
			if err != nil {
				return err
			}
			ask.Body = string(body)
			if ask.At, err = ahead("at", at); err != nil {
				return err
			}
			if mapFile != "" {
				text, err := os.ReadFile(mapFile)
				if err != nil {
					return usage("%s", err)
				}
				if err := a.sound([]api.PushFile{{Name: mapFile, Text: string(text)}}); err != nil {
					return err
				}
				ask.Text = string(text)
			}
			if real {
				return a.takeSample(cmd.Context(), cl, args[0], ask)
			}
			r, err := check(cl.TrySourceWithResponse(cmd.Context(), args[0], ask))
			if err != nil {
				return err
			}
			if err := a.print(r.JSON200, func() { a.tried(r.JSON200, why) }); err != nil {
				return err
			}
			return unparsedOf(r.JSON200)
		}),
	)
	f := c.Flags()
	f.StringVarP(&file, "file", "f", "-", "the payload's `FILE`; - for standard input")
	f.StringVar(
		&mapFile,
		"map",
		"",
		"the `FILE` with the source's document to try, in the place of the one that is there",
	)
	f.BoolVar(&why, "why", false, "what decided of each runbook that does not start")
	f.BoolVar(&real, "for-real", false, "take it as if the source had sent it now, with all that follows")
	f.StringVar(&at, "at", "", "as if it came at this `TIME`, in 8h or 2026-12-24T23:00:00Z: hours and planned work "+
		"are judged by it")
	c.MarkFlagsMutuallyExclusive("for-real", "map")
	c.MarkFlagsMutuallyExclusive("for-real", "at")
	f.StringVar(&ask.ContentType, "content-type", "application/json", "the payload's `TYPE`")
	f.StringToStringVar(&ask.Headers, "header", nil, "`NAME=VALUE`, repeatable")
	f.StringToStringVar(&ask.Query, "query", nil, "`NAME=VALUE` of the address, repeatable")
	return a.offers(c, sourceNames)
}

// takeSample takes a payload for real and says what became of it.
func (a *app) takeSample(ctx context.Context, cl *client, source string, ask api.NewSourceTry) error {
	r, err := check(cl.TakeSampleWithResponse(ctx, source, ask))
	if err != nil {
		return err
	}
	return a.print(listOf(*r.JSON202), func() {
		rows := make([][]string, len(*r.JSON202))
		for i, t := range *r.JSON202 {
			incident := "-"
			if t.Incident > 0 {
				incident = fmt.Sprint(t.Incident)
			}
			rows[i] = []string{string(t.Change), orDash(cmp.Or(t.Alert, t.Unparsed)), incident, t.Says}
		}
		a.table("It reports nothing.", []string{"change", "id", "incident", ""}, rows)
	})
}

// maxPayload bounds what is read of a payload, in bytes.
const maxPayload = 1 << 20

func (a *app) fileOrInput(name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(io.LimitReader(a.in, maxPayload))
	}
	b, err := os.ReadFile(name)
	if err != nil {
		return nil, usage("%s", err)
	}
	return b, nil
}

// tried prints each item, field by field, and what it would start.
func (a *app) tried(t *api.SourceTry, why bool) {
	for i, x := range t.Items {
		if len(t.Items) > 1 {
			a.say("%s\n", a.paint(bold, fmt.Sprintf("Item %d", i+1)))
		}
		switch {
		case x.Ignored:
			a.say("  nothing is made of it, as the source says\n")
		case x.Unparsed != "":
			a.say("  %s\n", a.paint(amber, "cannot be read: "+x.Unparsed))
		}
		rows := make([][]string, len(x.Made))
		for i, m := range x.Made {
			rows[i] = []string{"  " + m.Field, m.Value, m.From}
		}
		if len(rows) > 0 {
			a.table("", []string{"  field", "becomes", "made by"}, rows)
		}
		if x.Meant != "" {
			a.say("  %s\n", a.paint(amber, otherCase(x.Meant)))
		}
		a.wouldStart(x, why)
	}
	if len(t.Items) == 0 && t.Finding == "" {
		a.say("It reports nothing.\n")
	}
}

// otherCase says that a service is called otherwise here.
func otherCase(meant string) string {
	return fmt.Sprintf("There is no such service; did you mean %s? Names differ by capitals.", meant)
}

// wouldStart says what an item would start, and with why also what decided that the others do not.
func (a *app) wouldStart(x api.SourceTryItem, why bool) {
	raises := x.Reports == api.SourceTryItemReportsAlerts && x.Report.Severity != "cleared"
	if !raises && x.Reports != api.SourceTryItemReportsDeployments {
		return
	}
	starts, others := 0, 0
	for _, v := range x.Verdicts {
		word := "would start"
		if v.Started {
			starts++
		} else if others++; !why {
			continue
		} else {
			word = "would not start"
		}
		a.say("  %s %s (%s)", word, a.paint(bold, v.Runbook), v.Name)
		for i, p := range v.Values {
			a.say("%s %s is %s", []string{":", ","}[min(i, 1)], p.Part, p.Text)
		}
		if v.Error != "" {
			a.say("; %s", v.Error)
		}
		a.say("\n")
	}
	if starts == 0 {
		a.say("  No runbook would start by itself.")
		if others > 0 && !why {
			a.say(" With --why it says what decided that.")
		}
		a.say("\n")
	}
}

// unparsedOf makes what could not be read the end of the command.
func unparsedOf(t *api.SourceTry) error {
	if t.Finding != "" {
		return &failure{code: exitFailed, err: fmt.Errorf("it cannot be read: %s", t.Finding)}
	}
	n := 0
	for _, x := range t.Items {
		if x.Unparsed != "" {
			n++
		}
	}
	if n > 0 {
		return &failure{code: exitFailed, err: fmt.Errorf("%d of %d items cannot be read", n, len(t.Items))}
	}
	return nil
}

func (a *app) unparsed() *cobra.Command {
	return noun("unparsed", "What sources sent and could not be read, kept until it is", a.unparsedList(),
		a.unparsedShow(),
		a.unparsedAgain())
}

func (a *app) unparsedList() *cobra.Command {
	var p api.ListUnparsedParams
	c := lister(a, "List payloads that could not be read, newest first",
		"urgentis unparsed list --source harbour-watch",
		"Nothing is unparsed.", []string{"id", "source", "at", "why"},
		func(cmd *cobra.Command, cl *client) (*[]api.Unparsed, error) {
			r, err := check(cl.ListUnparsedWithResponse(cmd.Context(), &p))
			return r.JSON200, err
		},
		func(u api.Unparsed) []string { return []string{u.Id, u.Source, ago(u.At), u.Finding} })
	c.Flags().StringVar(&p.Source, "source", "", "only those of a `SOURCE`")
	a.offersFlag(c, "source", sourceNames)
	return c
}

func (a *app) unparsedShow() *cobra.Command {
	return verb("show ID", "Show a payload as it came", "urgentis unparsed show u3k…", cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			r, err := check(cl.ListUnparsedWithResponse(cmd.Context(), &api.ListUnparsedParams{}))
			if err != nil {
				return err
			}
			for _, u := range *r.JSON200 {
				if u.Id == args[0] {
					return a.print(u, func() {
						a.say("%s from %s, %s\n%s\n\n%s\n", u.Id, u.Source, u.ContentType, u.Finding, whole(u.Body))
					})
				}
			}
			return &failure{code: exitNotFound, err: fmt.Errorf("there is no unparsed payload %s", args[0])}
		}))
}

func (a *app) unparsedAgain() *cobra.Command {
	return doer(a, "again ID", "Read a payload with the source's map as it is now, and take what it reports",
		"urgentis unparsed again u3k…", cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
			r, err := check(cl.ReadAgainWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return nil, "", err
			}
			return listOf(*r.JSON200), fmt.Sprintf("Read. Alerts taken: %d.", len(*r.JSON200)), nil
		})
}
