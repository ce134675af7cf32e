package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"urgentis/api"
	"urgentis/core/plain"
)

// lister makes a list command from a call and a row.
func lister[T any](
	a *app,
	short, example, empty string,
	heads []string,
	call func(cmd *cobra.Command, cl *client) (*[]T, error),
	row func(T) []string,
) *cobra.Command {
	return verb("list", short, example, cobra.NoArgs, a.asking(func(cmd *cobra.Command, cl *client, _ []string) error {
		items, err := call(cmd, cl)
		if err != nil {
			return err
		}
		return a.print(listOf(*items), func() {
			var rows [][]string
			for _, x := range *items {
				rows = append(rows, row(x))
			}
			a.table(empty, heads, rows)
		})
	}))
}

// doer makes a command that calls the service and says a sentence.
func doer(
	a *app,
	use, short, example string,
	args cobra.PositionalArgs,
	call func(cmd *cobra.Command, cl *client, args []string) (any, string, error),
) *cobra.Command {
	return verb(use, short, example, args, a.asking(func(cmd *cobra.Command, cl *client, got []string) error {
		v, said, err := call(cmd, cl, got)
		if err != nil {
			return err
		}
		if v == nil {
			v = map[string]string{"says": said}
		}
		return a.print(v, func() { a.say("%s\n", indented("", said)) })
	}))
}

// remover makes a remove command from the call that removes; said may name what was removed with %s.
func remover[R answered](
	a *app,
	short, example, said string,
	call func(cl *client, ctx context.Context, name string, _ ...api.RequestEditorFn) (R, error),
) *cobra.Command {
	return doer(a, "remove NAME", short, example, cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
			_, err := check(call(cl, cmd.Context(), args[0]))
			return nil, strings.ReplaceAll(said, "%s", args[0]), err
		})
}

// trier makes a try command: it says what came of it, and fails with why where it did not work.
func (a *app) trier(
	short, example, failed string,
	call func(ctx context.Context, cl *client, name string) (*api.Tried, error),
) *cobra.Command {
	return verb("try NAME", short, example, cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			r, err := call(cmd.Context(), cl, args[0])
			if err != nil {
				return err
			}
			if err := a.print(r, func() { a.say("%s: %s\n", args[0], r.Says) }); err != nil {
				return err
			}
			if !r.Ok {
				return fmt.Errorf(failed, args[0])
			}
			return nil
		}))
}

func (a *app) source() *cobra.Command {
	list := lister(
		a,
		"List sources",
		"urgentis source list",
		"No sources. Add one with: urgentis source add NAME",
		[]string{"name", "takes", "last alert", "call-back"},
		func(cmd *cobra.Command, cl *client) (*[]api.Source, error) {
			r, err := check(cl.ListSourcesWithResponse(cmd.Context()))
			return r.JSON200, err
		},
		func(x api.Source) []string {
			return []string{x.Name, string(x.Takes), ago(x.LastAlertAt), orDash(x.CallBack)}
		},
	)
	remove := remover(a, "Remove a source; its alerts stay",
		"urgentis source remove harbour-watch", "Removed.", (*client).RemoveSourceWithResponse)
	return noun(
		"source",
		"Where alerts come from",
		a.sourceAdd(),
		list,
		a.sourceTry(),
		a.sourceKeys(),
		a.sourceEndKey(),
		a.offers(remove, sourceNames),
	)
}

// given collects what was given of a thing that is changed by merging; what was given empty is taken away.
type given struct {
	flags *pflag.FlagSet
	body  map[string]any
	match string
}

func newGiven(cmd *cobra.Command) *given {
	g := &given{flags: cmd.Flags(), body: map[string]any{}}
	g.flags.StringVar(&g.match, "if-version", "", "change it only if this is its `VERSION`, as the JSON of list tells")
	return g
}

// take reads the flags that were given into the body.
func (g *given) take(name string, values map[string]any) (contentType string, body io.Reader, err error) {
	g.body["name"] = name
	for flag, v := range values {
		if g.flags.Changed(flag) {
			switch x := v.(type) {
			case *string:
				v = *x
			case *int:
				v = *x
			case *[]string:
				if v = *x; len(*x) == 0 || (*x)[0] == "" {
					v = nil
				}
			case map[string]string:
				labels := map[string]any{}
				for name, text := range x {
					if labels[name] = text; text == "" {
						labels[name] = nil
					}
				}
				v = labels
			}
			if list, is := v.([]string); is && flag == "link" {
				v = linksOf(list)
			}
			if v == "" || v == 0 {
				v = nil
			}
			g.body[keyOf.Replace(flag)] = v
		}
	}
	b, err := json.Marshal(g.body)
	return "application/json", bytes.NewReader(b), err
}

// keyOf gives the key of a body that a flag is about.
var keyOf = strings.NewReplacer("-", "_", "quiet", "quiet_minutes", "label", "labels", "link", "links")

// linksOf reads pages outside: TITLE=ADDRESS each.
func linksOf(list []string) []api.PageLink {
	out := make([]api.PageLink, len(list))
	for i, x := range list {
		out[i].Title, out[i].Address, _ = strings.Cut(x, "=")
	}
	return out
}

// changes says what a merge changed.
func changes(changed []string) string {
	if len(changed) == 0 {
		return "Nothing changed."
	}
	return "Changed: " + plain.Line(strings.Join(changed, ", ")) + "."
}

func (a *app) service() *cobra.Command {
	var owner, title, stance, harm, firstLook string
	var quiet int
	var depends, pages []string
	var g *given
	set := doer(
		a,
		"set NAME",
		"Add a service, or change what is given of one",
		"urgentis service set berth-queue --owner quayside --stance ask",
		cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
			kind, body, err := g.take(
				args[0],
				map[string]any{"owner": &owner, "title": &title, "stance": &stance, "quiet": &quiet,
					"depends-on": &depends, "harm": &harm, "first-look": &firstLook, "link": &pages},
			)
			if err != nil {
				return nil, "", err
			}
			r, err := check(
				cl.SetServiceWithBodyWithResponse(cmd.Context(), &api.SetServiceParams{IfMatch: g.match}, kind, body),
			)
			if err != nil {
				return nil, "", err
			}
			return r.JSON200, fmt.Sprintf(
				"%s\n%s belongs to %s; its stance is %s.",
				changes(r.JSON200.Changed),
				args[0],
				r.JSON200.Owner,
				r.JSON200.Stance,
			), nil
		},
	)
	g = newGiven(set)
	set.Flags().StringVar(&owner, "owner", "", "the `TEAM` that owns it")
	set.Flags().StringVar(&title, "title", "", "its name for people; '' takes it away")
	set.Flags().
		StringVar(&stance, "stance", "", "how free runbooks are there: `STANCE` suggest, ask or act (ask for a new "+
			"service)")
	set.Flags().
		StringSliceVar(&depends, "depends-on", nil, "all `SERVICES` that it needs, with commas between; '' for none")
	set.Flags().
		StringVar(&harm, "harm", "", "who suffers when it is in trouble, and how, in `WORDS`: it stands above each "+
			"gate; '' takes it away")
	set.Flags().
		StringVar(&firstLook, "first-look", "", "a `RUNBOOK` of the service that only looks, begun for incidents on "+
			"which nothing starts; '' takes it away")
	set.Flags().
		StringArrayVar(&pages, "link", nil, "all pages outside that tell more of it, each `TITLE=ADDRESS`, which may "+
			"have holes: {{ service }}, {{ incident }}, {{ from }}, {{ until }}; '' for none")
	set.Flags().
		IntVar(&quiet, "quiet", 0, "for how many minutes an alert may go on after its incident was closed (15 "+
			"unless said)")
	list := lister(
		a,
		"List services",
		"urgentis service list",
		"No services. Add one with: urgentis service set NAME --owner TEAM",
		[]string{"name", "owner", "stance", "depends on", "title"},
		func(cmd *cobra.Command, cl *client) (*[]api.Service, error) {
			r, err := check(cl.ListServicesWithResponse(cmd.Context()))
			return r.JSON200, err
		},
		func(x api.Service) []string {
			return []string{x.Name, x.Owner, string(x.Stance), orDash(strings.Join(x.DependsOn, ", ")), x.Title}
		},
	)
	remove := remover(a, "Remove a service; its runbooks and targets stay",
		"urgentis service remove berth-queue", "Removed.", (*client).RemoveServiceWithResponse)
	a.offersFlag(set, "first-look", runbookNames)
	complete(set, "stance", "suggest", "ask", "act")
	a.offers(set, serviceNames)
	return noun(
		"service",
		"Services, their owners and stances",
		set,
		list,
		a.offers(
			a.serviceShow(),
			serviceNames,
		),
		a.offers(a.serviceSuggest(), serviceNames),
		a.offers(remove, serviceNames),
	)
}

func (a *app) target() *cobra.Command {
	list := lister(
		a,
		"List targets",
		"urgentis target list",
		"No targets. Add one with: urgentis target set NAME",
		[]string{"name", "service", "address", "account", "device", "labels"},
		func(cmd *cobra.Command, cl *client) (*[]api.Target, error) {
			r, err := check(cl.ListTargetsWithResponse(cmd.Context()))
			return r.JSON200, err
		},
		func(x api.Target) []string {
			return []string{
				x.Name,
				x.Service,
				fmt.Sprintf("%s:%d", x.Address, x.Port),
				x.Account,
				x.Device,
				strings.TrimPrefix(labels(x.Labels), ", "),
			}
		},
	)
	try := a.trier(
		"Sign in to a target and run true there, or see its prompt",
		"urgentis target try berth-consumer-1",
		"%s cannot be used",
		func(ctx context.Context, cl *client, name string) (*api.Tried, error) {
			r, err := check(cl.TryTargetWithResponse(ctx, name))
			return r.JSON200, err
		},
	)
	remove := remover(a, "Remove a target",
		"urgentis target remove berth-consumer-1", "Removed.", (*client).RemoveTargetWithResponse)
	return noun(
		"target",
		"Hosts that runbooks act on",
		a.targetSet(),
		list,
		a.offers(try, targetNames),
		a.offers(a.targetSuggest(), targetNames),
		a.offers(remove, targetNames),
	)
}

func (a *app) targetSet() *cobra.Command {
	t := api.Target{}
	var known []string
	var g *given
	set := doer(
		a,
		"set NAME",
		"Add a target, or change what is given of one",
		"urgentis target set berth-consumer-1 --service berth-queue --address 10.0.4.11 --account ops --secret "+
			"fleet-key \\\n    --host-key 'ssh-ed25519 AAAA…' --label role=consumer",
		cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
			facts := map[string]any{}
			for _, k := range known {
				name, text, _ := strings.Cut(k, "=")
				var v any
				if err := json.Unmarshal([]byte(text), &v); err != nil || name == "" {
					return nil, "", usage("--known must be KEY=JSON, such as settings='{\"servers\": [\"a\", \"b\"]}'")
				}
				facts[name] = v
			}
			kind, body, err := g.take(
				args[0],
				map[string]any{
					"service":      &t.Service,
					"address":      &t.Address,
					"port":         &t.Port,
					"account":      &t.Account,
					"secret":       &t.Secret,
					"host-key":     &t.HostKey,
					"look-account": &t.LookAccount, "look-cannot-write": t.LookCannotWrite,
					"device":      &t.Device,
					"look-secret": &t.LookSecret,
					"label":       t.Labels,
					"known":       facts,
				},
			)
			if err != nil {
				return nil, "", err
			}
			r, err := check(
				cl.SetTargetWithBodyWithResponse(cmd.Context(), &api.SetTargetParams{IfMatch: g.match}, kind, body),
			)
			if err != nil {
				return nil, "", err
			}
			return r.JSON200, changes(r.JSON200.Changed) + "\nTry it with: urgentis target try " + args[0], nil
		},
	)
	g = newGiven(set)
	f := set.Flags()
	f.StringArrayVar(
		&known,
		"known",
		nil,
		"`KEY=JSON`, a fact that runbooks compare with; repeatable; others stay, KEY=null takes one away",
	)
	f.StringVar(
		&t.LookAccount,
		"look-account",
		"",
		"an `ACCOUNT` for looking only, without rights to write; '' takes it away",
	)
	f.BoolVar(&t.LookCannotWrite, "look-cannot-write", false, "say of the account that it is looked at with that it "+
		"cannot write there: looks of which nothing is known are taken with it; =false takes it back")
	f.StringVar(&t.LookSecret, "look-secret", "", "the `SECRET` of that account")
	f.StringVar(&t.Device, "device", "", "the `KIND` of device that it is, for a dialogue; '' is a host with a shell")
	f.StringVar(&t.Service, "service", "", "the `SERVICE` it belongs to")
	f.StringVar(&t.Address, "address", "", "name or number of the `HOST`")
	f.IntVar(&t.Port, "port", 0, "its SSH `PORT` (22 for a new target)")
	f.StringVar(&t.Account, "account", "", "the `ACCOUNT` to sign in with")
	f.StringVar(&t.Secret, "secret", "", "the `SECRET` that holds its key or password")
	f.StringVar(&t.HostKey, "host-key", "", "its public host `KEY`; only this one is believed; '' takes it away")
	f.StringToStringVar(&t.Labels, "label", nil, "NAME=VALUE, repeatable; others stay, NAME= takes one away")
	a.offersFlag(set, "service", serviceNames)
	a.offersFlag(set, "secret", secretNames)
	return a.offers(set, targetNames)
}

func (a *app) secret() *cobra.Command {
	var kind, file string
	set := doer(
		a,
		"set NAME",
		"Seal a key or password; it can be used and never read again",
		"urgentis secret set fleet-key --kind ssh-key --file ~/.ssh/fleet",
		cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
			var value string
			var err error
			if file != "" && file != "-" {
				var b []byte
				b, err = os.ReadFile(file)
				value = string(b)
			} else if kind == "ssh-key" {
				var b []byte
				b, err = io.ReadAll(io.LimitReader(a.in, 64<<10))
				value = string(b)
			} else {
				value, err = a.ask("Value: ")
			}
			if err != nil {
				return nil, "", usage("%s", err)
			}
			r, err := check(
				cl.SetSecretWithResponse(
					cmd.Context(),
					api.NewSecret{Name: args[0], Kind: api.NewSecretKind(kind), Value: value},
				),
			)
			if err != nil {
				return nil, "", err
			}
			return r.JSON201, fmt.Sprintf("Sealed as version %d.", r.JSON201.Version), nil
		},
	)
	set.Flags().StringVar(&kind, "kind", "password", "`KIND`: ssh-key or password")
	set.Flags().StringVarP(&file, "file", "f", "", "the `FILE` that holds it, - for standard input")
	list := lister(
		a,
		"List secrets, without their values",
		"urgentis secret list",
		"No secrets. Seal one with: urgentis secret set NAME",
		[]string{"name", "kind", "version", "set"},
		func(cmd *cobra.Command, cl *client) (*[]api.Secret, error) {
			r, err := check(cl.ListSecretsWithResponse(cmd.Context()))
			return r.JSON200, err
		},
		func(x api.Secret) []string {
			return []string{x.Name, string(x.Kind), fmt.Sprint(x.Version), ago(x.SetAt)}
		},
	)
	remove := remover(a, "Take a secret's value away for good; one that opens a target stays",
		"urgentis secret remove fleet-key", "Removed.", (*client).RemoveSecretWithResponse)
	return noun("secret", "Sealed keys and passwords", set, list, a.offers(remove, secretNames))
}
