package runbook

import (
	"fmt"
	"slices"

	"urgentis/core/expr"
	"urgentis/core/reading"
)

// bounded refuses values from outside in the words of a command unless it is known beforehand that they hold nothing
// but harmless characters. No list of programs that read a word as program text can be whole: many start others.
func (w *whole) bounded(s *Step) {
	for n, do := range []*Do{s.Do, s.Undo} {
		key := []string{"run", "undo"}[n]
		if w.old || do == nil || do.AsData != "" {
			continue
		}
		if do.Dialogue != nil && n == 0 {
			key = "dialogue"
		}
		for _, line := range append([][]*expr.Template{do.Run}, do.Dialogue...) {
			w.boundedWords(s, key, line)
		}
	}
}

// boundedWords refuses them in the words of one command.
func (w *whole) boundedWords(s *Step, key string, words []*expr.Template) {
	after := false // -- : what follows are no options
	for i, word := range words {
		if word == nil {
			continue
		}
		for _, h := range word.Holes() {
			switch safety := h.Safe(w.origin, w.targetNames()); {
			case safety == expr.Unbounded:
				w.key(
					s,
					key,
					"",
					"{{ %s }} comes from outside and could be any text, and some program might read it as "+
						"program text: %s, or hand it over by env or stdin, or say as_data: \"why this program "+
						"cannot read it as program text\"",
					h.Source,
					w.howToBound(h),
				)
			case safety == expr.Hyphen && i > 0 && !after && word.LeadingHole() == h:
				w.key(
					s,
					key,
					"",
					"{{ %s }} may begin with a hyphen, and be read as an option: put -- before it, or %s",
					h.Source,
					w.howToSign(h),
				)
			}
		}
		after = after || word.Source == "--"
	}
}

// howToBound says what would bound the value.
func (w *whole) howToBound(h *expr.Program) string {
	if in := h.Refers("inputs"); len(in) > 0 {
		return fmt.Sprintf(
			"give the input %s choices, or a pattern such as ^[a-z0-9-]{1,40}$ (harmless are letters, digits and %s)",
			in[0],
			expr.HarmlessChars,
		)
	}
	if r := h.Refers("readings"); len(r) > 0 {
		return fmt.Sprintf(
			"give the reading %s matches: [a-z0-9-]+ (harmless are letters, digits and %s)",
			r[0],
			expr.HarmlessChars,
		)
	}
	return fmt.Sprintf(
		"bound it, as in within(…, '[a-z0-9-]+') (harmless are letters, digits and %s)",
		expr.HarmlessChars,
	)
}

// howToSign says what would keep a value from beginning with a hyphen.
func (w *whole) howToSign(h *expr.Program) string {
	switch in := h.Refers("inputs"); {
	case !h.Numeric():
		return "let its pattern begin with something else"
	case len(in) > 0:
		return fmt.Sprintf("give the input %s a min of 0 or more", in[0])
	}
	return fmt.Sprintf("bound it, as in within(%s, 0, 100)", h.Source)
}

// targetNames are the names that an each gives to targets.
func (w *whole) targetNames() map[string]bool {
	out := map[string]bool{"peer": true}
	for _, s := range w.book.All() {
		if s.Each != nil && s.Each.Over == nil {
			out[s.Each.Named] = true
		}
	}
	for _, s := range w.book.All() {
		if s.Each != nil && s.Each.Over != nil {
			delete(out, s.Each.Named) // elsewhere the same name is any value
		}
	}
	return out
}

// origin is an expr.Origins.
func (w *whole) origin(object, name, field string) expr.Safety {
	switch object {
	case "inputs":
		return safetyOf(w.book.Inputs, name)
	case "readings":
		if l := w.book.Takes(name); l != nil {
			i := slices.IndexFunc(l.Read, func(r reading.Spec) bool { return r.Name == name })
			return l.Read[i].Safety()
		}
	case "answers":
		if q := w.book.byID[name]; q != nil && q.Ask != nil {
			if field == "choice" {
				return expr.Harmless // the runbook's own words
			}
			return safetyOf(q.Ask.Fields, field)
		}
	}
	return expr.Unbounded
}

func safetyOf(list []Input, name string) expr.Safety {
	for _, in := range list {
		switch {
		case in.Name != name:
		case in.Type == expr.Integer || in.Type == expr.Number:
			if in.Min != nil && *in.Min >= 0 {
				return expr.Harmless
			}
			return expr.Hyphen
		case in.Type == expr.Boolean, len(in.Choices) > 0:
			return expr.Harmless
		case in.Type == expr.Text && in.Pattern != nil:
			return expr.HarmlessPattern(in.Pattern.String(), false)
		}
	}
	return expr.Unbounded
}
