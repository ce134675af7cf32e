package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"urgentis/api"
)

const cookieName = "urgentis_session"

// client speaks to the service with the login, or with what flags and variables say.
func (a *app) client() (*client, error) {
	k, err := a.loginOf()
	if err != nil {
		return nil, err
	}
	if t := a.v.GetString("token"); t != "" {
		k.Token = t
	}
	if k.Server == "" {
		return nil, &failure{
			code: exitRefused, err: errors.New("not logged in; begin with: urgentis login http://ADDRESS"),
		}
	}
	return a.newClient(k)
}

// asking is what a command does that speaks to the service.
func (a *app) asking(
	do func(cmd *cobra.Command, cl *client, args []string) error,
) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		cl, err := a.client()
		if err != nil {
			return err
		}
		return do(cmd, cl, args)
	}
}

type client struct {
	*api.ClientWithResponses
	kept kept
	raw  *http.Client
}

func (a *app) newClient(k kept) (*client, error) {
	k.Server = strings.TrimRight(k.Server, "/")
	c := &client{kept: k, raw: &http.Client{Transport: &asker{http.DefaultTransport, func(format string, args ...any) {
		fmt.Fprintf(a.err, format, args...)
	}}}}
	var err error
	c.ClientWithResponses, err = api.NewClientWithResponses(
		k.Server,
		api.WithHTTPClient(c.raw),
		api.WithRequestEditorFn(api.OnlyWhatIsSet),
		api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			c.authorize(r)
			return nil
		}),
	)
	return c, err
}

func (c *client) authorize(r *http.Request) {
	if c.kept.Token != "" {
		r.Header.Set("Authorization", "Bearer "+c.kept.Token)
	} else if c.kept.Session != "" {
		r.AddCookie(&http.Cookie{Name: cookieName, Value: c.kept.Session})
	}
}

// answered is what every generated response has.
type answered interface {
	StatusCode() int
	GetBody() []byte
}

// check turns an answer that is no success into an error with its exit code.
func check[R answered](r R, err error) (R, error) {
	if err != nil {
		return r, unreachable(err)
	}
	if s := r.StatusCode(); s >= 400 {
		return r, refusal(s, r.GetBody())
	}
	return r, nil
}

func unreachable(err error) error {
	if errors.Is(err, errDropped) {
		return &failure{code: exitNoServer, err: errDropped}
	}
	if errors.Is(err, context.Canceled) {
		return &failure{code: exitFailed, err: errors.New("interrupted")}
	}
	return &failure{code: exitNoServer, err: fmt.Errorf("the service cannot be reached: %w", err)}
}

func refusal(status int, body []byte) error {
	var p api.Problem
	if json.Unmarshal(body, &p) != nil || p.Detail == "" {
		p.Detail = fmt.Sprintf("the service answered %d", status)
		p.Type, p.Title, p.Status = "about:blank", http.StatusText(status), status
	}
	code := exitFailed
	switch status {
	case http.StatusUnauthorized, http.StatusForbidden, http.StatusConflict:
		code = exitRefused
	case http.StatusNotFound:
		code = exitNotFound
	case http.StatusBadRequest:
		code = exitUsage
	case http.StatusServiceUnavailable:
		code = exitNoServer
	}
	if status == http.StatusUnauthorized && p.Code == "sign-in" && p.Detail == "sign in first" {
		p.Detail = "the login is over or was never made; urgentis login http://ADDRESS"
	}
	return &failure{code: code, err: errors.New(p.Detail), problem: &p}
}

func (a *app) login() *cobra.Command {
	var name, password string
	c := verb(
		"login ADDRESS",
		"Sign in to a service and keep that for later commands",
		"urgentis login http://127.0.0.1:8470 --name mara\nurgentis login https://urgentis.example --token urg_…\n"+
			"urgentis gate list --as mara",
		cobra.ExactArgs(1),
		func(cmd *cobra.Command, args []string) error {
			k := kept{Server: strings.TrimRight(args[0], "/"), Token: a.v.GetString("token")}
			if !strings.HasPrefix(k.Server, "http") {
				return usage("the address must begin with http:// or https://")
			}
			if k.Token == "" {
				var err error
				if k.Session, err = a.signIn(cmd.Context(), k, &name, password); err != nil {
					return err
				}
			}
			cl, err := a.newClient(k)
			if err != nil {
				return err
			}
			me, err := check(cl.GetSessionWithResponse(cmd.Context()))
			if err != nil {
				return err
			}
			k.Name = me.JSON200.Name
			if err := keepLogin(k); err != nil {
				return fmt.Errorf("keep the login: %w", err)
			}
			return a.print(me.JSON200, func() {
				a.say("Signed in to %s as %s (%s).\n", k.Server, k.Name, joined(me.JSON200.Roles))
			})
		},
	)
	c.Long = "Several people can be signed in at once, from one account: the newest login counts, and --as NAME " +
		"takes\n" +
		"another one."
	c.Flags().StringVar(&name, "name", "", "your `NAME`")
	c.Flags().StringVar(&password, "password", "", "your `PASSWORD` (asked for without it; URGENTIS_PASSWORD)")
	return c
}

func joined[T ~string](list []T) string {
	out := make([]string, len(list))
	for i, x := range list {
		out[i] = string(x)
	}
	return strings.Join(out, ", ")
}

func (a *app) signIn(ctx context.Context, k kept, name *string, password string) (string, error) {
	if *name == "" {
		fmt.Fprint(a.err, "Name: ")
		if _, err := fmt.Fscanln(a.in, name); err != nil {
			return "", usage("give --name")
		}
	}
	password, err := a.password(password, "Password: ")
	if err != nil {
		return "", err
	}
	cl, err := a.newClient(kept{Server: k.Server})
	if err != nil {
		return "", err
	}
	r, err := check(cl.SignInWithResponse(ctx, api.SignIn{Name: *name, Password: password}))
	if err != nil {
		return "", err
	}
	for _, c := range (&http.Response{Header: r.HTTPResponse.Header}).Cookies() {
		if c.Name == cookieName {
			return c.Value, nil
		}
	}
	return "", errors.New("the service gave no session")
}

// password is what was given, by a flag or by URGENTIS_PASSWORD, or what is asked for.
func (a *app) password(given, prompt string) (string, error) {
	if given == "" {
		given = a.v.GetString("password")
	}
	if given != "" {
		return given, nil
	}
	return a.ask(prompt)
}

// newPassword is a password for somebody, long enough.
func (a *app) newPassword(given, name string) (string, error) {
	given, err := a.password(given, "Password for "+name+": ")
	if err == nil && len(given) < 10 {
		err = usage("a password has at least 10 characters")
	}
	return given, err
}

// ask reads a line that is not shown.
func (a *app) ask(prompt string) (string, error) {
	f, ok := a.in.(*os.File)
	if ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprint(a.err, prompt)
		b, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(a.err)
		return string(b), err
	}
	b, err := io.ReadAll(io.LimitReader(a.in, 64<<10))
	return strings.TrimRight(string(b), "\r\n"), err
}

func (a *app) logout() *cobra.Command {
	return verb(
		"logout",
		"Sign out and forget the login",
		"urgentis logout",
		cobra.NoArgs,
		func(cmd *cobra.Command, _ []string) error {
			if cl, err := a.client(); err == nil && cl.kept.Session != "" {
				cl.SignOutWithResponse(cmd.Context()) //nolint:errcheck // the login is forgotten either way
			}
			k, err := a.loginOf()
			if err != nil {
				return err
			}
			if err := forgetLogin(k); err != nil {
				return err
			}
			return a.done("Signed out.")
		},
	)
}
