package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/goccy/go-yaml"
	"golang.org/x/term"
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

func (a *app) paint(code, text string) string {
	if !a.isTTY || os.Getenv("NO_COLOR") != "" {
		return text
	}
	return "\x1b[" + code + "m" + text + "\x1b[0m"
}

// print writes a value: as a program wants it, or by table.
func (a *app) print(v any, table func()) error {
	switch a.output {
	case "json":
		e := json.NewEncoder(a.out)
		e.SetIndent("", "  ")
		e.SetEscapeHTML(false)
		return e.Encode(v)
	case "yaml":
		b, err := json.Marshal(v)
		if err != nil {
			return err
		}
		if b, err = yaml.JSONToYAML(b); err != nil {
			return err
		}
		_, err = a.out.Write(b)
		return err
	}
	table()
	return nil
}

// table writes rows under heads; an empty table says what to do next.
func (a *app) table(empty string, heads []string, rows [][]string) {
	if len(rows) == 0 {
		fmt.Fprintln(a.out, empty)
		return
	}
	w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, strings.ToUpper(strings.Join(heads, "\t")))
	for _, r := range rows {
		for i := range r {
			r[i] = printable(r[i])
		}
		fmt.Fprintln(w, strings.TrimRight(strings.Join(r, "\t"), "\t"))
	}
	w.Flush() //nolint:errcheck // the output is gone
}

// printable keeps what comes from outside from steering the terminal.
func printable(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' && r != '\n' && r != '\t' || r == 0x7f || r >= 0x80 && r < 0xa0 || r == 0x202e || r == 0x2066 || r == 0x2067 {
			return '·'
		}
		return r
	}, s)
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

func span(d time.Duration) string {
	if d < time.Second {
		return fmt.Sprintf("%d ms", d.Milliseconds())
	}
	return d.Round(time.Second / 10).String()
}
