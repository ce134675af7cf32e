// Package cli is the command line: urgentis NOUN VERB.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"

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
)

// failure is an error with the exit code that belongs to it.
type failure struct {
	code int
	err  error
}

func (f *failure) Error() string { return f.err.Error() }
func (f *failure) Unwrap() error { return f.err }

func usage(format string, args ...any) error {
	return &failure{exitUsage, fmt.Errorf(format, args...)}
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
	root := a.root()
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
		f = &failure{exitFailed, err}
		if msg := err.Error(); strings.HasPrefix(msg, "unknown ") || strings.Contains(msg, "flag") ||
			strings.Contains(msg, "arg(s)") {
			f.code = exitUsage
		}
	}
	say(errOut, "urgentis: %s\n", block("  ", f.Error()))
	return f.code
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "urgentis",
		Short: "Runbooks that start from alerts, gather evidence, ask before they touch, and write the record",
		Long: `Urgentis runs an SRE's runbooks: they start from alerts, gather evidence, wait for
approval before they change anything, prove what the change did, and write the incident's record.

Try it without anything else:   urgentis example
Settings come from flags, then URGENTIS_* variables, then the file given with --config.`,
		Version: Version, SilenceUsage: true, SilenceErrors: true,
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error { return a.settings(cmd) },
	}
	root.PersistentFlags().StringVarP(&a.output, "output", "o", "table", "how to print: table, json or yaml")
	root.PersistentFlags().String("config", "", "a YAML file with settings")
	root.PersistentFlags().String("server", "", "the service's address (default: where you logged in)")
	root.PersistentFlags().String("token", "", "a token to use instead of the login")
	for _, c := range []*cobra.Command{a.serve(), a.demo(), a.example(), a.login(), a.logout(), a.status(), a.halt(),
		a.resume(), a.version(),
		a.alert(), a.source(), a.incident(), a.runbook(), a.run(), a.gate(), a.question(), a.instance(),
		a.service(), a.target(), a.secret(), a.connection(), a.person(), a.token(), a.audit()} {
		root.AddCommand(c)
	}
	// Wrong use ends with 2, and with a line that says how it is right.
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		return usage("%s\nTry: %s --help", err, cmd.CommandPath())
	})
	return root
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
	if a.output != "table" && a.output != "json" && a.output != "yaml" {
		return usage("-o must be table, json or yaml, not %q", a.output)
	}
	return nil
}

// noun makes a command that only groups others.
func noun(name, short string, verbs ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: name, Short: short, Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, args []string) error { return cmd.Help() }}
	c.AddCommand(verbs...)
	return c
}

// verb makes a command that does something. example is one line.
func verb(
	use, short, example string,
	args cobra.PositionalArgs,
	run func(cmd *cobra.Command, args []string) error,
) *cobra.Command {
	checked := func(cmd *cobra.Command, got []string) error {
		if err := args(cmd, got); err != nil {
			return usage("%s\nIt goes so: %s", err, cmd.UseLine())
		}
		return nil
	}
	return &cobra.Command{
		Use:     use,
		Short:   short,
		Example: "  " + strings.ReplaceAll(example, "\n", "\n  "),
		Args:    checked,
		RunE:    run,
	}
}

func (a *app) version() *cobra.Command {
	return verb("version", "Tell the version", "urgentis version", cobra.NoArgs, func(*cobra.Command, []string) error {
		a.say("%s\n", "urgentis "+Version)
		return nil
	})
}
