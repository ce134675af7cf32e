package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"text/tabwriter"
	"time"
	"unicode/utf16"

	"github.com/goccy/go-yaml"
	"golang.org/x/term"

	"urgentis/core/plain"
)

func terminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// Colours, on a terminal only. Amber: a person is waited for. Red: harm.
const (
	bold  = "1"
	dim   = "2"
	amber = "33"
	red   = "31"
	green = "32"
)

// ours is text that is ready to be printed: written by the program, what comes from outside in it made plain.
type ours string

func (a *app) paint(code, text string) ours {
	text = plain.Line(text)
	if !a.isTTY || os.Getenv("NO_COLOR") != "" {
		return ours(text)
	}
	return ours("\x1b[" + code + "m" + text + "\x1b[0m")
}

// say prints; each text that is not ours comes from outside, and stands on one line with nothing hidden in it.
func (a *app) say(format string, args ...any) { say(a.out, format, args...) }

func say(w io.Writer, format string, args ...any) {
	for i, x := range args {
		if text, ok := x.(string); ok {
			args[i] = plain.Line(text)
		} else if err, ok := x.(error); ok {
			args[i] = plain.Line(err.Error())
		}
	}
	fmt.Fprintf(w, format, args...) //nolint:errcheck // the output is gone
}

// bolded is block in bold.
func (a *app) bolded(indent, s string) ours {
	lines := strings.Split(strings.TrimRight(s, "\n"), "\n")
	for i, l := range lines {
		lines[i] = string(a.paint(bold, strings.ReplaceAll(l, "\t", "    ")))
	}
	return ours(strings.Join(lines, "\n"+indent))
}

// whole is a text of its own, such as a file.
func whole(s string) ours { return ours(plain.Text(s)) }

// indented is text of several lines from outside, those after the first indented so that none looks like one of ours.
func indented(indent, s string) ours {
	return ours(strings.ReplaceAll(plain.Text(strings.TrimRight(s, "\n")), "\n", "\n"+indent))
}

// print writes a value: as a program wants it, or by table.
func (a *app) print(v any, table func()) error {
	if a.output == "table" {
		table()
		return nil
	}
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return err
	}
	text := escaped(b.String())
	// What YAML would print as it is, but nobody would see, stays JSON, which is YAML too.
	if a.output == "yaml" && text == b.String() {
		y, err := yaml.JSONToYAML(b.Bytes())
		if err != nil {
			return err
		}
		if text = string(y); plain.Text(text) != text {
			text = b.String()
		}
	}
	_, err := io.WriteString(a.out, text)
	return err
}

// done says that something was done that has nothing to show.
func (a *app) done(says string) error {
	return a.print(map[string]string{"says": says}, func() { a.say("%s\n", says) })
}

// escaped writes as JSON escapes what is hidden in JSON text.
func escaped(s string) string {
	if plain.Text(s) == s {
		return s
	}
	var b strings.Builder
	for _, c := range s {
		if c == '\n' || plain.Line(string(c)) == string(c) {
			b.WriteRune(c)
		} else if c > 0xffff {
			hi, lo := utf16.EncodeRune(c)
			fmt.Fprintf(&b, `\u%04x\u%04x`, hi, lo)
		} else {
			fmt.Fprintf(&b, `\u%04x`, c)
		}
	}
	return b.String()
}

// table writes rows under heads; an empty table says what to do next.
func (a *app) table(empty string, heads []string, rows [][]string) {
	if len(rows) == 0 {
		a.say("%s\n", ours(empty))
		return
	}
	w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, strings.ToUpper(strings.Join(heads, "\t")))
	for _, r := range rows {
		for i := range r {
			r[i] = plain.Line(r[i])
		}
		fmt.Fprintln(w, strings.TrimRight(strings.Join(r, "\t"), "\t"))
	}
	w.Flush() //nolint:errcheck // the output is gone
}

func ago(t time.Time) string {
	if t.IsZero() {
		return "-"
	}
	d := time.Since(t)
	switch {
	case d < 2*time.Second:
		return "now"
	case d < time.Minute:
		return fmt.Sprintf("%ds ago", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%dm ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%dh ago", int(d.Hours()))
	}
	return t.UTC().Format("2006-01-02")
}

func until(t time.Time) string {
	d := time.Until(t).Round(time.Second)
	if d <= 0 {
		return "over"
	}
	return "in " + d.String()
}

func clip(s string, n int) string {
	s = strings.ReplaceAll(s, "\n", " ")
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}
