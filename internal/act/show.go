package act

import (
	"fmt"
	"sort"
	"strings"
	"unicode"

	"urgentis/core/expr"
	"urgentis/core/plain"
	"urgentis/core/task"
)

// Show writes a request as a person reads it: words that need it in quotes, and invisible characters made visible.
func Show(r task.Request) string {
	var b strings.Builder
	if r.Kind == "http" {
		b.WriteString(r.Method + " " + visible(r.URL))
		names := make([]string, 0, len(r.Headers))
		for k := range r.Headers {
			names = append(names, k)
		}
		sort.Strings(names)
		for _, k := range names {
			b.WriteString("\n" + k + ": " + visible(r.Headers[k]))
		}
		if r.Body != "" {
			b.WriteString("\n\n" + visible(r.Body))
		}
		return b.String()
	}
	switch {
	case r.Job != nil:
		return showJob(r.Job)
	case r.SQL != nil:
		b.WriteString(visibleText(r.SQL.Text))
		for i, v := range r.SQL.With {
			fmt.Fprintf(&b, "\n$%d = %s", i+1, visible(v))
		}
		if r.SQL.User == "" {
			fmt.Fprintf(&b, "\n(in the file %s of the service's own host)", visible(r.SQL.Database))
			return b.String()
		}
		fmt.Fprintf(&b, "\n(in %s, as %s%s)", visible(r.SQL.Database), visible(r.SQL.User), showTLS(r.SQL.TLS))
		return b.String()
	case r.Probe != nil && r.Probe.Port > 0:
		return fmt.Sprintf("connect to port %d", r.Probe.Port)
	case r.Probe != nil && r.Probe.Name != "":
		return "look up " + r.Probe.Type + " of " + visible(r.Probe.Name)
	case r.Probe != nil:
		return fmt.Sprintf("%d echo requests", r.Probe.Echos)
	case r.File != nil && r.File.Name != "":
		size := "not in the store now"
		if r.File.Digest != "" {
			size = fmt.Sprintf("%d bytes, SHA-256 %s", r.File.Size, r.File.Digest)
		}
		return fmt.Sprintf("put the file %s of the store at %s (mode %s)\n(%s)", r.File.Name, visible(r.File.To),
			r.File.Mode, size)
	case r.File != nil:
		return fmt.Sprintf(
			"put a file at %s (mode %s)\n\n%s",
			visible(r.File.To),
			r.File.Mode,
			visibleText(r.File.Text),
		)
	}
	if len(r.Lines) > 0 {
		for i, l := range r.Lines {
			if i > 0 {
				b.WriteByte('\n')
			}
			b.WriteString(visible(l))
		}
		if r.As != "" {
			b.WriteString("\n(typed on the device, in the mode " + r.As + ")")
		} else {
			b.WriteString("\n(typed on the device)")
		}
		return b.String()
	}
	names := make([]string, 0, len(r.Env))
	for k := range r.Env {
		names = append(names, k)
	}
	sort.Strings(names)
	for _, k := range names {
		b.WriteString(k + "=" + word(r.Env[k]) + " ")
	}
	for i, w := range r.Words {
		if i > 0 {
			b.WriteByte(' ')
		}
		if i == 2 && (r.Words[1] == "-c" || r.Words[1] == "-e") {
			// Program text of the runbook itself: nothing from outside can stand in it.
			b.WriteString("'" + visibleText(w) + "'")
			continue
		}
		b.WriteString(word(w))
	}
	if r.Stdin != "" {
		b.WriteString("\n\n" + visibleText(r.Stdin))
	}
	if r.As != "" {
		b.WriteString("   (as " + r.As + ")")
	}
	return b.String()
}

// showJob writes the requests of a job elsewhere, each with what it is for.
// showTLS says how a connection is kept from others, where that is not as usual.
func showTLS(word string) string {
	switch word {
	case "", task.TLSVerify:
		return ""
	case task.TLSOn:
		return ", over TLS with whoever answers"
	case task.TLSNever:
		return ", without TLS"
	}
	return ", TLS " + visible(word)
}

func showJob(j *task.Job) string {
	var b strings.Builder
	say := func(what string, c *task.Call) {
		if c == nil {
			return
		}
		call := task.Request{Kind: "http", Method: c.Method, URL: c.URL, Headers: c.Headers, Body: c.Body}
		if b.Len() > 0 {
			b.WriteString("\n")
		}
		b.WriteString(what + ": " + strings.ReplaceAll(Show(call), "\n\n", "\n"))
	}
	if j.Known != "" {
		fmt.Fprintf(&b, "follow the job %s on, and start none", visible(j.Known))
	} else {
		say("start a job", &j.Start)
	}
	say("follow it", &j.Follow)
	fmt.Fprintf(&b, "\nuntil %s is %s", visible(j.State), visible(strings.Join(j.Good, " or ")))
	if len(j.Bad) > 0 {
		fmt.Fprintf(&b, ", or %s, which is a failure", visible(strings.Join(j.Bad, " or ")))
	}
	say("its log", j.Log)
	say("stop it", j.Stop)
	return b.String()
}

func word(w string) string {
	plain := w != ""
	for _, c := range w {
		plain = plain && (unicode.IsLetter(c) || unicode.IsDigit(c) || strings.ContainsRune("-_./:=,@%+", c)) &&
			c < 0x250
	}
	if plain {
		return w
	}
	return "'" + strings.ReplaceAll(visible(w), "'", `'\''`) + "'"
}

// Visible shows a value as Show does.
func Visible(s string) string { return visible(s) }

// visible is plain.Line, with secrets and bounds written as people read them.
func visible(s string) string { return plain.Line(expr.ShowSecrets(expr.ShowBounds(s))) }

// visibleText is visible for text of several lines.
func visibleText(s string) string { return plain.Text(expr.ShowSecrets(expr.ShowBounds(s))) }
