package runbook

import (
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"urgentis/core/doc"
	"urgentis/core/expr"
	"urgentis/core/reading"

	"github.com/goccy/go-yaml/ast"
)

var accountPattern = regexp.MustCompile(`^[a-z_][a-z0-9_-]{0,31}$`)

// complete finds what one step lacks, and titles that are words with a meaning of their own.
func (d *decoder) complete(s *Step, n ast.Node, got map[string]ast.Node) {
	if s.Do != nil {
		d.completeDo(s, n, got)
	}
	switch s.Verb {
	case Look:
		d.completeLook(s, got)
	case Check:
		d.completeCheck(s, n, got)
	case Wait:
		d.completeWait(s, n, got)
	case Ask:
		if len(s.Ask.Choices) == 0 && len(s.Ask.Fields) == 0 {
			d.Fail(n, "an ask needs choices or fields")
		}
		for k := range s.Ask.Suggest {
			if !slices.ContainsFunc(s.Ask.Fields, func(in Input) bool { return in.Name == k }) {
				d.Fail(got["suggest"], "suggest names the field %s, which is not there", k)
			}
		}
	case Call:
		if s.Callee = s.Title; !namePattern.MatchString(s.Callee) {
			d.Fail(got["call"], "call names a part or a runbook: small letters, digits and hyphens")
		}
		d.calls[d.caller()] = append(d.calls[d.caller()], callAt{s, n})
	case Each:
		switch it := s.Each; {
		case (it.Over != nil) == (it.Where != nil):
			d.Fail(n, "an each needs over: LIST, or where: {LABEL: VALUE} for targets")
		case it.Peers != nil && it.Where == nil:
			d.Fail(n, "peers go with where: each target with each of its peers")
		case len(s.Steps) == 0:
			d.Fail(n, "an each needs steps")
		}
	case UndoChange:
		if s.UndoOf == "" {
			d.Fail(n, "an undo_change needs of: the id of a change, or of a block, before it")
		}
	case Together:
		if len(s.Branches) < 2 {
			d.Fail(n, "a together needs at least two branches")
		}
	case Tell:
		if s.Text == nil && (s.Source == "" || len(s.Tells) > 0) {
			s.Text = titleText(d, s.Title)
		}
	case Note:
		if s.Text == nil {
			d.Fail(n, "a note needs text")
		}
	case Close:
		s.Outcome = s.Title
		if !slices.Contains(Outcomes, s.Outcome) {
			d.At(
				doc.Position(got["close"]),
				0,
				false,
				"close needs an outcome: "+strings.Join(Outcomes, ", "),
				doc.Nearest(s.Outcome, Outcomes),
			)
		}
		if s.Because == nil {
			d.Fail(n, "close needs because: the record says why")
		}
	case HandOver:
		s.To = d.people(got["hand_over"], "hand_over")
		if s.Because == nil {
			d.Fail(n, "hand_over needs because: whoever takes it must know why")
		}
	}
}

func (d *decoder) caller() string {
	if d.part {
		return d.book.Name
	}
	return ""
}

// altering are programs that a reader would not take for a look.
var altering = []string{
	"rm",
	"rmdir",
	"mv",
	"cp",
	"dd",
	"kill",
	"killall",
	"pkill",
	"reboot",
	"shutdown",
	"halt",
	"poweroff",
	"mkfs",
	"mount",
	"umount",
	"truncate",
	"tee",
	"chmod",
	"chown",
	"useradd",
	"userdel",
	"apt",
	"apt-get",
	"dnf",
	"yum",
	"sed",
}

// readingSQL begins the statements that only read.
var readingSQL = []string{"select", "show", "with", "explain", "table", "values", "describe"}

// writesAllTheSame finds what a read-only transaction of MySQL and MariaDB lets through.
var writesAllTheSame = regexp.MustCompile(`(?i)\binto\s+(outfile|dumpfile)\b|/\*!`)

func (d *decoder) completeLook(s *Step, got map[string]ast.Node) {
	for _, r := range s.Read {
		if old := d.book.takes[r.Name]; old != nil {
			d.Fail(got["read"], "reading %s is taken by two looks", r.Name)
		}
		d.book.takes[r.Name] = s
	}
	if s.Do.Attach && slices.ContainsFunc(s.Read, func(r reading.Spec) bool { return r.Sealed }) {
		d.Fail(got["attach"], "the whole of what is printed holds a sealed reading, and cannot be put to the record")
	}
	if s.OnlyReads != "" {
		return
	}
	const way = "; if it only reads, say so: only_reads: \"why\""
	switch do := s.Do; {
	case do.HTTP != nil && do.HTTP.Method != "GET" && do.HTTP.Method != "HEAD":
		d.Fail(got["http"], "a look only reads: use GET or HEAD, or make it a change"+way)
	case do.Job != nil:
		d.Fail(got["job"], "a look only reads: a job that is begun elsewhere is a change")
	case do.Send != nil:
		d.Fail(got["send"], "a look only reads: sending a file is a change")
	case do.SQL != nil && do.SQL.Statement != "":
		if first := FirstWord(do.SQL.Statement); !slices.Contains(readingSQL, first) {
			d.Fail(got["sql"], "a look only reads: %s does more than that%s", strings.ToUpper(first), way)
		}
		if do.SQL.Dialect == MySQL && writesAllTheSame.MatchString(do.SQL.Statement) {
			d.Fail(got["sql"], "a look only reads: into outfile, into dumpfile and /*! do more, and no read-only "+
				"transaction holds them back")
		}
	case len(do.Run) > 0 && do.Run[0] != nil && slices.Contains(altering, path.Base(do.Run[0].Source)):
		d.Fail(got["run"], "a reader would not call %s a look: make it a change%s", path.Base(do.Run[0].Source), way)
	}
}

func (d *decoder) completeCheck(s *Step, n ast.Node, got map[string]ast.Node) {
	forms := 0
	for _, k := range []string{"that", "agrees", "fits"} {
		if got[k] != nil {
			forms++
		}
	}
	if forms != 1 {
		d.Fail(n, "a check needs that: CONDITION, or agrees, or fits")
	}
	if s.Again != nil && s.Retake == "" && s.waitsForAlert() {
		return
	}
	if s.Again != nil && s.Retake == "" {
		d.Fail(got["again"], "again needs retake: without a new look the answer stays the same")
	}
}

// waitsForAlert reports whether the condition rests on the alert as it is now, which changes by itself.
func (s *Step) waitsForAlert() bool { return s.That != nil && len(s.That.Refers("alert_now")) > 0 }

func (d *decoder) completeWait(s *Step, n ast.Node, got map[string]ast.Node) {
	switch {
	case (s.WaitFor > 0) == (s.That != nil):
		d.Fail(n, "a wait needs for: TIME, or until: CONDITION")
	case s.WaitFor > 7*24*time.Hour:
		d.Fail(got["for"], "a wait may last 7 days at most")
	case s.WaitFor > 0 && (s.Again != nil || s.Retake != ""):
		d.Fail(n, "a wait for a time takes nothing anew; use until for a condition")
	case s.That != nil && s.Again == nil:
		d.Fail(n, "this wait has no end: give again, as in again: {every: 10s, for: 5m}")
	case s.That != nil && s.Retake == "" && !s.waitsForAlert():
		d.Fail(n, "until needs retake: without a new look the answer stays the same")
	}
}

func titleText(d *decoder, s string) *expr.Template {
	t, err := d.cel.CompileTemplate(s, expr.InStep)
	if err != nil {
		return nil
	}
	return t
}

// waysOfDoing are the keys that say how something is done.
var waysOfDoing = []string{"run", "script", "http", "sql", "port", "name", "echo", "send", "fetch", "dialogue", "job"}

// oneWay says that a step has no way of doing, or which two.
func (d *decoder) oneWay(s *Step, n ast.Node, got map[string]ast.Node) {
	var given []string
	var last ast.Node
	for _, k := range waysOfDoing {
		if got[k] == nil {
			continue
		}
		given = append(given, k)
		if last == nil || doc.Position(got[k]).Offset > doc.Position(last).Offset {
			last = got[k]
		}
	}
	if len(given) < 2 {
		d.Fail(n, "a %s needs one way of doing: run, script, http, sql, port, name, echo, send, fetch, job or "+
			"dialogue", s.Verb)
		return
	}
	d.Fail(last, "%s are two ways of doing: a step has one", strings.Join(given[:2], " and "))
}

func (d *decoder) completeDo(s *Step, n ast.Node, got map[string]ast.Node) {
	for _, k := range []string{"interpreter", "args"} {
		if got[k] != nil && got["script"] == nil {
			d.Fail(got[k], "%s goes with script", k)
		}
	}
	if s.Verb == Change && got["steps"] != nil {
		if s.Do.ways() > 0 || s.Where != nil || s.Still != nil || s.Undo != nil {
			d.Fail(n, "a change with steps is a block: what is done stands in its steps")
		}
		s.Do = nil
		return
	}
	if s.Do.ways() != 1 {
		d.oneWay(s, n, got)
		return
	}
	if q := s.Do.SQL; q != nil && (q.Dialect == SQLite) != s.Do.FromHere {
		d.Fail(got["sql"], "a database of SQLite is a file of the service's own host and goes with from: here; others "+
			"are asked where their targets are")
	}
	if s.Do.Attach && s.Do.Kind() != "ssh" && s.Do.Kind() != "local" {
		d.Fail(got["attach"], "attach keeps what a command printed, or a file that was fetched")
	}
	if s.Timeout > time.Hour && s.Do.Job == nil {
		d.Fail(got["timeout"], "a timeout may be an hour at most")
	}
	item := slices.Contains(d.names.Names(), "target")
	if kind := s.Do.Kind(); s.Where == nil && !item &&
		(kind == "ssh" || kind == "sql" && !s.Do.FromHere || s.Do.Echo != nil || s.Do.Port != nil) {
		d.Fail(n, "where does this run? give where: {LABEL: VALUE}, or from: here")
	}
	if s.Where != nil && s.Where.Name == nil && len(s.Where.Labels) == 0 {
		d.Fail(got["where"], "where selects by name or by labels")
	}
	if s.Undo != nil && s.Undo.HTTP != nil && s.Do.HTTP == nil && s.Where == nil && !item {
		d.Fail(got["undo"], "undo must act where the change acts")
	}
	if s.Again != nil && s.Again.Steady > 0 {
		d.Fail(got["again"], "steady is for a check")
	}
	if s.Where == nil && !item {
		d.noTarget(s, got)
	}
	if s.Do.Dialogue != nil && (s.Do.Env != nil || s.Do.Stdin != nil || s.Do.FromHere || s.Do.AcceptLost) {
		d.Fail(got["dialogue"], "what is typed on a device stands in its lines: env, stdin, from: here and "+
			"connection-lost do not go with it")
	}
	if s.Do.Dialogue == nil && s.Do.Plain && (s.Do.Env != nil || s.Do.Script != nil || s.Do.As != "") {
		d.Fail(got["words"], "a device with plain words has no shell: env, script and as do not go with it")
	}
}

// noTarget refuses the names that only a target gives.
func (d *decoder) noTarget(s *Step, got map[string]ast.Node) {
	for key, do := range map[string]*Do{"": s.Do, "undo": s.Undo} {
		for _, t := range do.Templates() {
			for _, h := range t.Holes() {
				if len(h.Refers("target")) > 0 {
					n := got["http"]
					if n == nil {
						n = got["run"]
					}
					if key != "" {
						n = got[key]
					}
					d.Fail(n, "there is no target here; give where: {LABEL: VALUE}")
					return
				}
			}
		}
	}
}

// Templates lists every text of a way of doing that may have holes.
func (do *Do) Templates() []*expr.Template {
	if do == nil {
		return nil
	}
	out := slices.Clone(do.Run)
	for _, l := range do.Dialogue {
		out = append(out, l...)
	}
	if do.Script != nil {
		out = append(out, do.Script.Args...)
	}
	var add func(v *Value)
	add = func(v *Value) {
		if v == nil {
			return
		}
		out = append(out, v.Text)
		for _, x := range v.List {
			add(x)
		}
		for _, k := range keys(v.Map) {
			add(v.Map[k])
		}
	}
	sorted := func(m map[string]*expr.Template) {
		for _, k := range keys(m) {
			out = append(out, m[k])
		}
	}
	sorted(do.Env)
	out = append(out, do.Stdin, do.Fetch)
	add(do.Port)
	if h := do.HTTP; h != nil {
		out = append(out, h.templates(add, sorted)...)
	}
	if do.Job != nil {
		for _, h := range do.Job.calls() {
			out = append(out, h.templates(add, sorted)...)
		}
	}
	if q := do.SQL; q != nil {
		out = append(out, q.Database, q.User, q.Secret, q.TLS, q.Authority)
		add(q.Port)
		for _, v := range q.With {
			add(v)
		}
		for _, k := range keys(q.Names) {
			out = append(out, q.Names[k].Is)
		}
	}
	if do.Name != nil {
		out = append(out, do.Name.Name)
	}
	if do.Send != nil {
		out = append(out, do.Send.To)
		add(do.Send.JSON)
	}
	return slices.DeleteFunc(out, func(t *expr.Template) bool { return t == nil })
}
