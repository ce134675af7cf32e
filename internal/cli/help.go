package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/agnivade/levenshtein"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// The tasks that commands are grouped by, in the order in which help shows them.
const (
	toRespond = "respond"
	toLook    = "look"
	toWrite   = "write"
	toSetUp   = "set up"
	toRun     = "run"
)

var tasks = []struct{ id, title string }{
	{toRespond, "Respond"},
	{toLook, "Investigate"},
	{toWrite, "Author"},
	{toSetUp, "Set up"},
	{toRun, "Operate"},
}

const about = `Urgentis: runbooks that start from alerts, gather evidence, ask before they touch,
prove what they did, and write the incident's record.
`

const settings = `Settings come from flags, then from URGENTIS_* variables (URGENTIS_SERVER, URGENTIS_TOKEN,
URGENTIS_OUTPUT …), then from the file given with --config.

Exit codes: 0 done · 1 failed, or the run was handed over · 2 usage error · 3 refused, or changed
since you looked (conflict) · 4 not found · 5 service unreachable · 6 changes pending (push --check).
With -o json, errors are problem documents (RFC 9457) on standard error.
`

// help prints what a command is for, in words and with an example.
func (a *app) help(cmd *cobra.Command, _ []string) {
	w := cmd.OutOrStdout()
	switch {
	case !cmd.HasParent():
		rootHelp(w, cmd)
	case cmd.HasAvailableSubCommands():
		nounHelp(w, cmd)
	default:
		verbHelp(w, cmd)
	}
}

func rootHelp(w io.Writer, root *cobra.Command) {
	fmt.Fprint(w, about)
	for _, t := range tasks {
		fmt.Fprintf(w, "\n%s\n", t.title)
		for _, c := range root.Commands() {
			if c.GroupID == t.id && c.IsAvailableCommand() {
				fmt.Fprintf(w, "  %-12s %s\n", c.Name(), c.Short)
			}
		}
	}
	fmt.Fprintf(w, "\nGlobal flags\n")
	flags(w, root.PersistentFlags())
	fmt.Fprintf(
		w,
		"\n%s\nEvery command has --help with examples. To try it with nothing installed:\n  urgentis example\n",
		settings,
	)
}

func nounHelp(w io.Writer, noun *cobra.Command) {
	fmt.Fprintf(w, "%s\n\n", noun.Short)
	for _, c := range noun.Commands() {
		if c.IsAvailableCommand() {
			fmt.Fprintf(w, "  %s %-34s %s\n", noun.CommandPath(), c.Use, c.Short)
		}
	}
	fmt.Fprintf(w, "\n%s VERB --help shows examples.\n", noun.CommandPath())
}

func verbHelp(w io.Writer, verb *cobra.Command) {
	fmt.Fprintf(w, "%s\n", verb.Short)
	if verb.Long != "" {
		fmt.Fprintf(w, "\n%s\n", strings.TrimSpace(verb.Long))
	}
	usage := verb.Use
	if verb.HasParent() {
		usage = verb.Parent().CommandPath() + " " + usage
	}
	fmt.Fprintf(w, "\nUsage\n  %s\n", usage)
	if verb.Example != "" {
		fmt.Fprintf(w, "\nExamples\n%s\n", verb.Example)
	}
	if own := verb.LocalNonPersistentFlags(); hasOwn(own) {
		fmt.Fprintf(w, "\nFlags\n")
		flags(w, own)
	}
	fmt.Fprintf(w, "\nGlobal flags: urgentis --help\n")
}

// placeholders say what a flag's value is, where the flag itself does not.
var placeholders = map[string]string{
	"string": "TEXT", "int": "N", "int64": "N", "duration": "TIME", "stringSlice": "NAME", "stringArray": "NAME",
	"strings": "NAME", "stringToString": "NAME=VALUE",
}

// hasOwn reports whether there is any flag to show.
func hasOwn(set *pflag.FlagSet) bool {
	own := false
	set.VisitAll(func(f *pflag.Flag) { own = own || !f.Hidden && f.Name != "help" })
	return own
}

func flags(w io.Writer, set *pflag.FlagSet) {
	set.VisitAll(func(f *pflag.Flag) {
		if f.Hidden || f.Name == "help" {
			return
		}
		value, says := pflag.UnquoteUsage(f)
		if p, ok := placeholders[value]; ok {
			value = p
		}
		name := "    --" + f.Name
		if f.Shorthand != "" {
			name = "-" + f.Shorthand + ", --" + f.Name
		}
		if f.Value.Type() == "bool" {
			value = ""
		}
		if d := f.DefValue; d != "" && d != "false" && d != "0" && d != "[]" && d != "0s" &&
			!strings.Contains(says, "default") {
			says += " (default " + strings.Trim(d, "[]") + ")"
		}
		fmt.Fprintf(w, "  %-34s %s\n", strings.TrimSpace(name+" "+value), says)
	})
}

// meant is the name that a misspelt one stands for; "" without one.
func meant(word string, names []string) string {
	best, at := "", 1+len(word)/3
	for _, n := range names {
		if d := levenshtein.ComputeDistance(word, n); d <= at {
			best, at = n, d-1
		}
	}
	return best
}

// unknownCommand says that there is no such command, and which was meant.
func unknownCommand(cmd *cobra.Command, word string) error {
	var names []string
	for _, c := range cmd.Commands() {
		if c.IsAvailableCommand() {
			names = append(names, append([]string{c.Name()}, c.Aliases...)...)
		}
	}
	says := fmt.Sprintf("there is no command %s", strings.TrimSpace(cmd.CommandPath()+" "+word))
	if m := meant(word, names); m != "" {
		says += fmt.Sprintf("; did you mean %s %s?", cmd.CommandPath(), m)
	}
	return usage("%s\nSee: %s --help", says, cmd.CommandPath())
}

// wrongFlag says what is wrong with a flag, and which was meant.
func wrongFlag(cmd *cobra.Command, err error) error {
	says := err.Error()
	if name, ok := strings.CutPrefix(says, "unknown flag: --"); ok {
		var names []string
		cmd.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, f.Name) })
		says = "there is no --" + name + " here"
		if m := meant(name, names); m != "" {
			says += "; did you mean --" + m + "?"
		}
	}
	return usage("%s\nSee: %s --help", says, cmd.CommandPath())
}
