package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"urgentis/api"
	"urgentis/internal/demo"
	"urgentis/internal/server"
	"urgentis/internal/service"
)

// defaultListen is where the service answers unless told otherwise.
const defaultListen = "127.0.0.1:8470"

func (a *app) serveFlags(c *cobra.Command) {
	f := c.Flags()
	f.String("listen", defaultListen, "the `ADDRESS` to answer on")
	f.String(
		"data-dir",
		"",
		"the `FOLDER` where data is kept "+dataDirs,
	)
	f.String("link", "", "the `ADDRESS` under which people reach the service (default: http:// and --listen)")
	f.String("log-level", "info", "`LEVEL`: debug, info, warn or error")
}

func (a *app) config(name string) (service.Config, error) {
	c := service.Config{
		Database: a.v.GetString("database"),
		DataDir:  a.v.GetString("data-dir"),
		Listen:   a.v.GetString("listen"),
		Link:     a.v.GetString("link"),
		AllowNet: a.v.GetStringSlice(
			"allow-net",
		),
		AllowLocal:     a.v.GetBool("allow-local"),
		LocalAccount:   a.v.GetString("local-account"),
		Metrics:        a.v.GetString("metrics"),
		TrustedProxies: a.v.GetStringSlice("trusted-proxy"),
		KeyFile:        a.v.GetString("key-file"),
		Version:        Version,
		Hear: service.Hear{
			SyslogUDP: a.v.GetString("syslog-udp"), SyslogTCP: a.v.GetString("syslog-tcp"),
			SyslogTLS: a.v.GetString("syslog-tls"), Traps: a.v.GetString("traps"), Mail: a.v.GetString("mail"),
			TLSCert: a.v.GetString(
				"tls-cert",
			), TLSKey: a.v.GetString("tls-key"), TLSClients: a.v.GetString("tls-clients"),
			SpoolMB: a.v.GetInt("spool"),
		},
	}
	if c.Hear.SpoolMB < 0 || c.Hear.SpoolMB > maxSpoolMB {
		return c, usage("--spool must be from 1 to %d megabytes", maxSpoolMB)
	}
	var level slog.Level
	if err := level.UnmarshalText([]byte(cmp.Or(a.v.GetString("log-level"), "info"))); err != nil {
		return c, usage("--log-level must be debug, info, warn or error")
	}
	c.Log = slog.New(slog.NewTextHandler(a.err, &slog.HandlerOptions{Level: level}))
	if c.DataDir == "" {
		var err error
		if c.DataDir, err = service.DefaultDataDir(name); err != nil {
			return c, usage("%s", err)
		}
	}
	return c, nil
}

// dataDirs tells where data is kept without --data-dir; see service.DefaultDataDir.
const dataDirs = "(default: ~/.local/share/urgentis, of root /var/lib/urgentis)"

func (a *app) serve() *cobra.Command {
	c := verb(
		"serve",
		"Run the service",
		"urgentis serve --database postgres://urgentis@db.example/urgentis --listen 0.0.0.0:8470",
		cobra.NoArgs,
		func(cmd *cobra.Command, _ []string) error {
			c, err := a.config("urgentis")
			if err != nil {
				return err
			}
			service.Tune()
			i, err := service.Start(cmd.Context(), c)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.err, "Urgentis %s answers on %s\n", Version, i.Link)
			code, err := i.App.SetupCode(cmd.Context())
			if err != nil {
				return errors.Join(err, i.Stop())
			}
			if code != "" {
				fmt.Fprintf(
					a.err,
					"Nobody can sign in yet. Make the first administrator here, once:\n  %s/setup?code=%s\n",
					i.Link,
					code,
				)
			}
			err = i.Serve(cmd.Context())
			fmt.Fprintln(a.err, "Stopping…")
			return errors.Join(err, i.Stop())
		},
	)
	a.serveFlags(c)
	f := c.Flags()
	f.String("database", "", "a PostgreSQL `ADDRESS` (default: a private server under --data-dir)")
	f.String("key-file", "", "the key `FILE` that seals secrets (default: seal.key under --data-dir)")
	f.StringSlice(
		"trusted-proxy",
		nil,
		"`NETWORK` of proxies in front of the service, whose X-Forwarded-For is believed; repeatable",
	)
	f.StringSlice(
		"allow-net",
		nil,
		"`NETWORK` that HTTP calls and messages may go to, such as 10.1.0.0/16; repeatable",
	)
	f.Bool(
		"allow-local",
		false,
		"let runbooks run commands on this host; without --local-account this gives whoever pushes runbooks all "+
			"that the service's own account can read, its key file too",
	)
	f.String("local-account", "", "the `ACCOUNT` that such commands run as; the service must run as root for it")
	hearFlags(f)
	f.String("metrics", server.MetricsOpen, "who may read /metrics: `WHO` is open, signed-in or off")
	return c
}

// maxSpoolMB bounds the bound on the spool of one source.
const maxSpoolMB = 1 << 20

// hearFlags are the listeners that may be switched on beside HTTP.
func hearFlags(f *pflag.FlagSet) {
	f.String("syslog-udp", "", "hear syslog over UDP on this `ADDRESS`, such as 0.0.0.0:514")
	f.String("syslog-tcp", "", "hear syslog over TCP on this `ADDRESS`")
	f.String("syslog-tls", "", "hear syslog over TLS on this `ADDRESS`, such as 0.0.0.0:6514")
	f.String("traps", "", "hear SNMP traps and informs on this `ADDRESS`, such as 0.0.0.0:162")
	f.String("mail", "", "hear mail over SMTP on this `ADDRESS`, such as 0.0.0.0:25")
	f.String("tls-cert", "", "the certificate `FILE` for syslog over TLS and STARTTLS of mail")
	f.String("tls-key", "", "the `FILE` of its key")
	f.String(
		"tls-clients",
		"",
		"a `FILE` of authorities; senders of syslog over TLS must then show a certificate of one",
	)
	f.Int("spool", service.DefaultSpoolMB, "how many `MEGABYTES` of what was heard wait on disk, of each source")
}

func (a *app) demo() *cobra.Command {
	var every time.Duration
	c := verb(
		"demo",
		"Start the service with a simulated ferry operator around it, and play troubles",
		"urgentis demo --every 5m",
		cobra.NoArgs,
		func(cmd *cobra.Command, _ []string) error {
			c, err := a.config("urgentis-demo")
			if err != nil {
				return err
			}
			ctx, cancel := context.WithCancel(cmd.Context())
			defer cancel()
			service.Tune()
			w, err := demo.Start(ctx, c, time.Second, func(s string) { fmt.Fprintln(a.err, "· "+s) })
			if err != nil {
				return err
			}
			a.welcome(w)
			a.troubles(ctx, w, every)
			fmt.Fprintln(a.err, "Stopping…")
			return w.Stop()
		},
	)
	a.serveFlags(c)
	c.Flags().DurationVar(&every, "every", 4*time.Minute, "how long all is well between two troubles")
	return c
}

func (a *app) welcome(w *demo.World) {
	a.say("\nThe Merrow Line's night begins. Sign in at\n  %s\n", a.paint(bold, w.Link))
	names := make([]string, 0, len(w.SignIn))
	for n := range w.SignIn {
		names = append(names, n)
	}
	sort.Strings(names)
	may := map[string]string{
		"iva":   "administers",
		"mara":  "approves changes, starts runbooks",
		"jonas": "looks, answers and notes",
	}
	for _, n := range names {
		a.say("  name %-6s password %-18s (%s)\n", n, w.SignIn[n], may[n])
	}
	a.say("Or here:\n  urgentis login %s --name mara --password %s\n", w.Link, w.SignIn["mara"])
	a.say(
		"The world around it:\n  %s   the quayside room\n  %s   the harbour watch, a monitor\n"+
			"  %s   text messages\n  %s   mail\n  %s   the harbour's ticket desk\n  %s   the line's requests\n"+
			"  %s   the office's calendar\n  %s  what was, as a store has it\n\n"+
			"In a few seconds the berth queue breaks. Ctrl-C ends everything.\n\n",
		w.Room.URL, w.Monitor.URL, w.Texts.URL, w.Mail.URL, w.Desk.URL, w.Requests.URL, w.Office.URL,
		w.Past.URL,
	)
}

// troubles breaks one thing after the other, as long as no run is under way.
func (a *app) troubles(ctx context.Context, w *demo.World, every time.Duration) {
	list := w.Troubles()
	pause := 5 * time.Second
	for next := 0; ; pause = every {
		select {
		case <-ctx.Done():
			return
		case <-time.After(pause):
		}
		open, err := w.Admin.GetStatusWithResponse(ctx)
		if err != nil || open.JSON200 == nil || open.JSON200.ActiveRuns > 0 {
			continue
		}
		says, err := list[next%len(list)].Break(ctx)
		if err != nil {
			says = err.Error()
		}
		next++
		fmt.Fprintf(a.err, "%s · %s\n", time.Now().UTC().Format("15:04:05 MST"), says)
	}
}

func (a *app) example() *cobra.Command {
	about := make([]string, len(demo.Plays))
	for i, p := range demo.Plays {
		about[i] = fmt.Sprintf("  %-12s %s", p.Name, p.Says)
	}
	c := verb(
		"example [PLAY]",
		"Play one whole incident without people, and print its record",
		"urgentis example by-night",
		cobra.MaximumNArgs(1),
		func(cmd *cobra.Command, args []string) error {
			play := demo.Plays[0]
			if len(args) > 0 {
				at := slices.Index(demo.PlayNames(), args[0])
				if at < 0 {
					return usage("there is no play %s; there are %s", args[0], strings.Join(demo.PlayNames(), ", "))
				}
				play = demo.Plays[at]
			}
			// Where the account postgres can reach it when root runs the example.
			dir, err := os.MkdirTemp("", "urgentis-example-")
			if err != nil {
				return err
			}
			defer os.RemoveAll(dir)
			if err := os.Chmod(dir, 0o755); err != nil { //nolint:gosec // what is secret in it has its own mode
				return err
			}
			c := service.Config{
				DataDir: filepath.Join(dir, "d"),
				Listen:  "127.0.0.1:0",
				Version: Version,
				Log:     slog.New(slog.NewTextHandler(a.err, &slog.HandlerOptions{Level: slog.LevelError})),
			}
			ctx, cancel := context.WithTimeout(cmd.Context(), 3*time.Minute)
			defer cancel()
			say := func(s string) { fmt.Fprintln(a.err, "· "+s) }
			w, err := demo.Start(ctx, c, 500*time.Millisecond, say)
			if err != nil {
				return err
			}
			err = a.playExample(ctx, w, play, say)
			cancel()
			return errors.Join(err, w.Stop())
		},
	)
	c.Long = c.Short + ". The plays are\n" + strings.Join(about, "\n") + "\nThe first one unless said."
	c.ValidArgs = demo.PlayNames()
	return c
}

// playExample plays a scene, and shows its record and who was told.
func (a *app) playExample(ctx context.Context, w *demo.World, play demo.Play, say func(string)) error {
	n, err := play.Run(ctx, w, say)
	if err != nil {
		return fmt.Errorf("the play %s did not end as it should: %w", play.Name, err)
	}
	r, err := check(w.Admin.GetIncidentWithResponse(ctx, n, nil))
	if err != nil {
		return err
	}
	told, err := check(w.Admin.ListMessagesWithResponse(ctx, &api.ListMessagesParams{Incident: n}))
	if err != nil {
		return err
	}
	t, err := check(w.Admin.GetStoryWithResponse(ctx, n, &api.GetStoryParams{}))
	if err != nil {
		return err
	}
	if err := a.print(r.JSON200, func() {
		a.head(r.JSON200.Incident, r.JSON200.Harm, nil)
		a.rows(t.JSON200.Rows, false)
		a.sum(t.JSON200.Sum)
		a.say("\n")
		a.showMessages("Nobody was told.", told.JSON200.Items)
		a.say("\n")
	}); err != nil {
		return err
	}
	v, err := check(w.Admin.VerifyIncidentWithResponse(ctx, n))
	if err != nil {
		return err
	}
	say(v.JSON200.Says)
	if !v.JSON200.Whole {
		return errors.New("the record is not whole")
	}
	return nil
}
