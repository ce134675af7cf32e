package runbook

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"urgentis/core/expr"
	"urgentis/core/reads"
)

// wayOfLooks is what an author can do about a look that nobody knows to read.
const wayOfLooks = "make it a change, say only_reads: \"why\", or let an administrator push what is known of it (a " +
	"document of the kind reader)"

// Looks tells of looks that are not known to only read: they are not taken where the account may write. targets are
// those of the service; nil where they are not known.
func (b *Book) Looks(set *reads.Set, targets []EstateTarget) Findings {
	var found Findings
	for _, st := range b.Everything() {
		if st.Verb != Look || st.OnlyReads != "" {
			continue
		}
		v, why := st.Do.reads(set)
		if v == reads.Reads {
			continue
		}
		if f := st.Do.unparsed(v, why, targets); f.Message != "" {
			f.Line, f.Column = st.Line, 1
			found = append(found, f)
		}
	}
	slices.SortStableFunc(found, func(a, b Finding) int { return a.Line - b.Line })
	return found
}

// reads tells what is known of a look as it is written. Where it is filled in, it is asked once more when it leaves.
func (d *Do) reads(set *reads.Set) (reads.Verdict, string) {
	env := slices.Sorted(maps.Keys(d.Env))
	switch {
	case d.Plain: // typed on a device, whose kind judges it
	case d.Script != nil:
		if !set.Script(d.Script.Text, env) {
			return reads.Unknown, "nothing is known of this script (" + reads.Digest(d.Script.Text) + ")"
		}
	case len(d.Run) > 0:
		words := make([]string, len(d.Run))
		for i, t := range d.Run {
			words[i] = asWritten(t)
		}
		return set.Command(words, env)
	}
	return reads.Reads, "" // what is kept to reading by other means
}

var hole = regexp.MustCompile(`\{\{.*?\}\}`)

// asWritten is a word as it is written, with holes where it is filled in.
func asWritten(t *expr.Template) string {
	if t == nil {
		return ""
	}
	return hole.ReplaceAllString(t.Source, reads.Hole)
}

// unparsed says where a look is not taken; nothing where every account is one that cannot write.
func (d *Do) unparsed(v reads.Verdict, why string, targets []EstateTarget) Finding {
	var may []string
	for _, t := range targets {
		if !t.CannotWrite {
			may = append(may, t.Name)
		}
	}
	switch {
	case d.FromHere:
		return Finding{Message: why + "; a look only reads, and on the host of the service no account holds it back: " +
			wayOfLooks}
	case d.As != "":
		return Finding{Message: why + "; a look only reads, and as " + d.As + ", by way of sudo, no account holds it " +
			"back: " + wayOfLooks}
	case v == reads.Elsewhere:
		return Finding{Message: why + "; a look only reads, and it acts on other hosts, where no account holds it " +
			"back: " + wayOfLooks}
	case targets == nil && v == reads.Alters:
		return Finding{Message: why + "; a look only reads: " + wayOfLooks}
	case len(targets) == 0:
		return Finding{Warning: true, Message: why + ": it is taken only where the account cannot write (urgentis " +
			"target set NAME --look-cannot-write)"}
	case len(may) == len(targets):
		return Finding{Message: why + "; a look only reads, and no target of the service has an account of which it " +
			"was said that it cannot write: " + wayOfLooks}
	case len(may) > 0:
		return Finding{Warning: true, Message: fmt.Sprintf(
			"%s: it is missing evidence on %s, where the account may write", why, fewOf(may))}
	}
	return Finding{}
}

// fewOf names some of a list.
func fewOf(names []string) string {
	const most = 3
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
}
