// Package cli is the command line: urgentis NOUN VERB.
package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"urgentis/api"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/spf13/viper"
)

// Version is set when the program is built.
var Version = "0.1.0"

// Exit codes.
const (
	exitDone     = 0
	exitFailed   = 1
	exitUsage    = 2
	exitRefused  = 3
	exitNotFound = 4
	exitNoServer = 5
	exitChanges  = 6
)

// failure is an error with the exit code that belongs to it.
type failure struct {
	code    int
	err     error
	problem *api.Problem // what the service said, where it was the service
}

func (f *failure) Error() string { return f.err.Error() }
func (f *failure) Unwrap() error { return f.err }

func usage(format string, args ...any) error {
	return &failure{code: exitUsage, err: fmt.Errorf(format, args...)}
}

// app is what commands share.
type app struct {
	in       io.Reader
	out, err io.Writer
	v        *viper.Viper
	output   string
	isTTY    bool
	lastLook string // the look whose title was printed last
}

// Main runs the program and returns its exit code.
func Main(args []string, in io.Reader, out, errOut io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &app{in: in, out: out, err: errOut, v: viper.New(), isTTY: terminal(out)}
	cobra.EnableCommandSorting = false // they are listed as they are used
	root := a.root()
	a.output = wantedOutput(args)
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errOut)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return exitDone
	}
	var f *failure
	if !errors.As(err, &f) {
		f = &failure{code: exitFailed, err: err}
		if msg := err.Error(); strings.HasPrefix(msg, "unknown ") || strings.Contains(msg, "flag") ||
			strings.Contains(msg, "arg(s)") {
			f.code = exitUsage
		}
	}
	a.complain(f)
	return f.code
}

// wantedOutput is how errors are printed that come before the flags are read.
func wantedOutput(args []string) string {
	for i, arg := range args {
		name, value, joined := strings.Cut(arg, "=")
		switch {
		case (name == "-o" || name == "--output") && joined:
			return value
		case (name == "-o" || name == "--output") && i+1 < len(args):
			return args[i+1]
		}
	}
	return cmp.Or(os.Getenv("URGENTIS_OUTPUT"), "table")
}

// complain says what went wrong: in a sentence, or as a problem document (RFC 9457) where output is for programs.
func (a *app) complain(f *failure) {
	if a.output != "json" && a.output != "yaml" {
		say(a.err, "urgentis: %s\n", indented("  ", f.Error()))
		return
	}
	p := f.problem
	if p == nil {
		codes := map[int]string{
			exitFailed: "failed", exitUsage: "usage", exitRefused: "refused", exitNotFound: "not-found",
			exitNoServer: "unreachable", exitChanges: "changes",
		}
		p = &api.Problem{Type: "about:blank", Title: "The command failed", Code: codes[f.code], Detail: f.Error()}
	}
	b, err := json.Marshal(p)
	if err != nil {
		b = []byte(`{"type":"about:blank","title":"The command failed"}`)
	}
	fmt.Fprintf(a.err, "%s\n", escaped(string(b))) //nolint:errcheck // the output is gone
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use: "urgentis", Short: "Runbooks that start from alerts, ask before they touch, and write the record",
		Version: Version, SilenceUsage: true, SilenceErrors: true, DisableSuggestions: true,
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error { return a.settings(cmd) },
		Args:              noSuchCommand, RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	f := root.PersistentFlags()
	f.StringVarP(
		&a.output,
		"output",
		"o",
		cmp.Or(os.Getenv("URGENTIS_OUTPUT"), "table"),
		"how to print: `table`, json or yaml (URGENTIS_OUTPUT)",
	)
	f.String("config", "", "a YAML `FILE` with settings")
	f.String("server", "", "the service's `ADDRESS` (default: where you logged in)")
	f.String("token", "", "a `TOKEN` to use instead of the login")
	f.String("as", "", "the `NAME` of one of several who are signed in here (default: who signed in last)")
	complete(root, "output", "table", "json", "yaml")
	for _, t := range tasks {
		root.AddGroup(&cobra.Group{ID: t.id, Title: t.title})
	}
	for task, list := range map[string][]*cobra.Command{
		toRespond: {a.incident(), a.gate(), a.question(), a.run(), a.live(), a.followUp(), a.report(),
			a.who(), a.halt(), a.resume()},
		toLook: {a.status(), a.alert(), a.unparsed(), a.listener(), a.deployment(), a.reading(), a.objectives(),
			a.objective(), a.search(), a.message(),
			a.audit()},
		toWrite: {a.runbook(), a.library(), a.trigger(), a.push(), a.pull(), a.document()},
		toSetUp: {
			a.login(), a.logout(), a.source(), a.service(), a.target(), a.secret(), a.files(), a.connection(),
			a.team(), a.contact(), a.person(), a.token(),
		},
		toRun: {a.serve(), a.admin(), a.instance(), a.demo(), a.example(), a.version()},
	} {
		for _, c := range list {
			c.GroupID = task
			root.AddCommand(c)
		}
	}
	root.SetHelpCommandGroupID(toRun)
	root.SetCompletionCommandGroupID(toSetUp)
	root.SetHelpFunc(a.help)
	// Wrong use ends with 2, and with a line that says how it is right.
	root.SetFlagErrorFunc(wrongFlag)
	return root
}

// noSuchCommand refuses what is no command of a noun, or of the program.
func noSuchCommand(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	return unknownCommand(cmd, args[0])
}

// settings brings flags, variables and the file together, in that order.
func (a *app) settings(cmd *cobra.Command) error {
	a.v.SetEnvPrefix("urgentis")
	a.v.SetEnvKeyReplacer(strings.NewReplacer("-", "_"))
	a.v.AutomaticEnv()
	var err error
	cmd.Flags().VisitAll(func(f *pflag.Flag) {
		if e := a.v.BindPFlag(f.Name, f); e != nil && err == nil {
			err = e
		}
	})
	if err != nil {
		return err
	}
	if file := a.v.GetString("config"); file != "" {
		a.v.SetConfigFile(file)
		a.v.SetConfigType("yaml")
		if err := a.v.ReadInConfig(); err != nil {
			return usage("the file %s cannot be read: %s", file, err)
		}
	}
	a.output = a.v.GetString("output")
	if a.output != "table" && a.output != "json" && a.output != "yaml" {
		return usage("-o must be table, json or yaml, not %q", a.output)
	}
	return nil
}

// noun makes a command that only groups others.
func noun(name, short string, verbs ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{
		Use: name, Short: short, Args: noSuchCommand,
		RunE: func(cmd *cobra.Command, args []string) error { return cmd.Help() },
	}
	c.AddCommand(verbs...)
	return c
}

// verb makes a command that does something. example is one line, or several.
func verb(
	use, short, example string, args cobra.PositionalArgs, run func(cmd *cobra.Command, args []string) error,
) *cobra.Command {
	checked := func(cmd *cobra.Command, got []string) error {
		if err := args(cmd, got); err != nil {
			return usage("%s\nUsage: %s %s", plainArgs(err, len(got)), cmd.Parent().CommandPath(), cmd.Use)
		}
		return nil
	}
	return &cobra.Command{
		Use: use, Short: short, Example: "  " + strings.ReplaceAll(example, "\n", "\n  "), Args: checked, RunE: run,
		DisableFlagsInUseLine: true,
	}
}

// plainArgs says in words that there are too many or too few arguments.
func plainArgs(err error, got int) string {
	if strings.HasPrefix(err.Error(), "unknown command") || strings.Contains(err.Error(), "arg(s)") {
		if got == 0 {
			return "something is missing"
		}
		return "this takes other arguments"
	}
	return err.Error()
}

func (a *app) version() *cobra.Command {
	return verb("version", "Tell the version", "urgentis version", cobra.NoArgs, func(*cobra.Command, []string) error {
		return a.print(map[string]string{"version": Version}, func() { a.say("%s\n", "urgentis "+Version) })
	})
}
