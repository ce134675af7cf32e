package runbook

import (
	"net/textproto"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/doc"
	"urgentis/core/expr"
	"urgentis/core/task"
)

// doKeys are the keys of a way of doing.
func (d *decoder) doKeys(do *Do, known map[string]func(ast.Node)) {
	known["run"] = func(n ast.Node) { do.Run = d.words(n) }
	known["dialogue"] = func(n ast.Node) { do.Dialogue, do.Plain = d.dialogue(n), true }
	known["script"] = func(n ast.Node) {
		if do.Script == nil {
			do.Script = &Script{Interpreter: "sh"}
		}
		do.Script.Text = d.Word(n, "script")
		// Braces for other programs, such as '{{.Names}}', stand as they are.
		if filledIn.MatchString(do.Script.Text) {
			d.Fail(
				n,
				"a script is never filled in: hand values over as its arguments, as in args: [\"{{ inputs.queue "+
					"}}\"], where the script has $1",
			)
		}
	}
	known["args"] = func(n ast.Node) {
		if do.Script == nil {
			do.Script = &Script{Interpreter: "sh"}
		}
		for _, x := range d.List(n, "args") {
			do.Script.Args = append(do.Script.Args, d.template(x, expr.InTarget, "an argument"))
		}
		if len(do.Script.Args) > MaxWords {
			d.Fail(n, "args may have %d words", MaxWords)
		}
	}
	known["interpreter"] = func(n ast.Node) {
		if do.Script == nil {
			do.Script = &Script{}
		}
		names := keys(task.Interpreters)
		if do.Script.Interpreter = d.Word(n, "interpreter"); !slices.Contains(names, do.Script.Interpreter) {
			d.At(
				doc.Position(n),
				0,
				false,
				"interpreter must be one of "+strings.Join(names, ", "),
				doc.Nearest(do.Script.Interpreter, names),
			)
		}
	}
	known["as_data"] = func(n ast.Node) {
		if do.AsData = strings.TrimSpace(d.Word(n, "as_data")); len(do.AsData) < 10 {
			d.Fail(n, "as_data says in words why the program cannot read the value as program text")
		}
	}
	known["job"] = func(n ast.Node) { do.Job = d.job(n) }
	known["http"] = func(n ast.Node) { do.HTTP = d.http(n) }
	known["sql"] = func(n ast.Node) { do.SQL = d.sql(n) }
	known["port"] = func(n ast.Node) { do.Port = d.value(n, expr.InTarget) }
	known["name"] = func(n ast.Node) { do.Name = d.lookup(n) }
	known["echo"] = func(n ast.Node) {
		do.Echo = &Echo{Count: 3}
		d.Fields(n, "echo", map[string]func(ast.Node){"count": func(n ast.Node) {
			if do.Echo.Count = d.Integer(n, "count"); do.Echo.Count < 1 || do.Echo.Count > 20 {
				d.Fail(n, "count must be from 1 to 20")
			}
		}})
	}
	known["send"] = func(n ast.Node) { do.Send = d.send(n) }
	known["attach"] = func(n ast.Node) { do.Attach = d.Boolean(n, "attach") }
	known["fetch"] = func(n ast.Node) { do.Fetch = d.template(n, expr.InTarget, "fetch") }
	known["env"] = func(n ast.Node) {
		do.Env = map[string]*expr.Template{}
		for _, e := range d.Mapping(n, "env") {
			if !envPattern.MatchString(e.Key) {
				d.Fail(e.Node, "a name in env must be capital letters, digits and _")
			}
			do.Env[e.Key] = d.template(e.Value, expr.InTarget.Secrets(), "a value of env")
		}
	}
	known["stdin"] = func(n ast.Node) { do.Stdin = d.template(n, expr.InTarget, "stdin") }
	known["from"] = func(n ast.Node) {
		if w := d.Word(n, "from"); w != "here" {
			d.Fail(n, "from can only be here: commands run on their targets, or on this host")
		}
		do.FromHere = true
	}
	known["words"] = func(n ast.Node) {
		if w := d.Word(n, "words"); w != "plain" {
			d.Fail(n, "words can only be plain; leave it out where the target has a POSIX shell")
		}
		do.Plain = true
	}
	known["as"] = func(n ast.Node) {
		if do.As = d.Word(n, "as"); !accountPattern.MatchString(do.As) {
			d.Fail(n, "as must be the name of an account")
		}
	}
	known["accept"] = func(n ast.Node) {
		for _, x := range d.List(n, "accept") {
			if _, text := x.(*ast.StringNode); text {
				if w := d.Word(x, "an end to accept"); w != "connection-lost" {
					d.Fail(x, "accept lists exits or statuses, or connection-lost")
				}
				do.AcceptLost = true
				continue
			}
			do.Accept = append(do.Accept, d.Integer(x, "an exit to accept"))
		}
	}
}

var (
	envPattern   = regexp.MustCompile(`^[A-Z_][A-Z0-9_]{0,63}$`)
	tablePattern = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]{0,62}(\.[A-Za-z_][A-Za-z0-9_]{0,62})?$`)
	// FileName is what a file of the store may be named.
	FileName    = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$`)
	modePattern = regexp.MustCompile(`^0?[0-7]{3}$`)
	namesInSQL  = regexp.MustCompile(`\[\[([a-z][a-z0-9_]*)\]\]`)
)

// filledIn finds what its author took for a value that is filled in.
var filledIn = regexp.MustCompile(
	`\{\{\s*(?:[a-z]+\()*(?:inputs|readings|alert|alert_now|answers|checks|calls|` +
		`incident|service|target|run|secrets)\.`,
)

// Words gives the command that runs the script, with its arguments: they are data to it, whatever they begin with.
func (s *Script) Words(args []string) []string {
	words := []string{s.Interpreter, task.Interpreters[s.Interpreter], s.Text}
	if len(args) == 0 {
		return words
	}
	switch s.Interpreter {
	case "sh", "bash", "dash":
		words = append(words, s.Interpreter) // $0
	case "perl", "ruby", "node":
		words = append(words, "--")
	}
	return append(words, args...)
}

// ways counts the ways of doing that are given.
func (do *Do) ways() int {
	n := 0
	for _, is := range []bool{len(do.Run) > 0, do.Script != nil && do.Script.Text != "", do.HTTP != nil,
		do.SQL != nil, do.Port != nil, do.Name != nil,
		do.Echo != nil, do.Send != nil, do.Fetch != nil, len(do.Dialogue) > 0,
		do.Job != nil} {
		if is {
			n++
		}
	}
	return n
}

// Kind names the way of doing for the hands: ssh, local, http, job, sql or probe.
func (do *Do) Kind() string {
	switch {
	case do.HTTP != nil:
		return "http"
	case do.Job != nil:
		return "job"
	case do.SQL != nil:
		return "sql"
	case do.Port != nil || do.Name != nil || do.Echo != nil:
		return "probe"
	case do.FromHere:
		return "local"
	}
	return "ssh"
}

// FirstWord is the first word of a statement of SQL, in small letters, after the remarks and brackets before it; ""
// where there is none.
func FirstWord(statement string) string {
	for {
		statement = strings.TrimLeft(statement, " \t\r\n(")
		end := ""
		switch {
		case strings.HasPrefix(statement, "--"), strings.HasPrefix(statement, "#"):
			end = "\n"
		case strings.HasPrefix(statement, "/*"):
			end = "*/"
		default:
			word := statement
			if i := strings.IndexFunc(word, func(r rune) bool { return !unicode.IsLetter(r) }); i >= 0 {
				word = word[:i]
			}
			return strings.ToLower(word)
		}
		_, statement, _ = strings.Cut(statement, end)
	}
}

func (d *decoder) sql(n ast.Node) *SQL {
	q := &SQL{Dialect: PostgreSQL, Names: map[string]Identifier{}}
	text := func(to **expr.Template, where expr.Where, what string) func(ast.Node) {
		return func(n ast.Node) { *to = d.template(n, where, what) }
	}
	got := d.Fields(n, "sql", map[string]func(ast.Node){
		"statement": func(n ast.Node) {
			if q.Statement = strings.TrimSpace(d.Word(n, "statement")); strings.Contains(q.Statement, "{{") {
				d.Fail(n, "a statement is never filled in: write $1 and give with: [\"{{ … }}\"]")
			}
		},
		"dialect": func(n ast.Node) {
			q.Dialect = d.Word(n, "dialect")
			if known := []string{PostgreSQL, MySQL, SQLite}; !slices.Contains(known, q.Dialect) {
				d.At(doc.Position(n), 0, false, "dialect must be one of "+strings.Join(known, ", ")+
					"; MariaDB speaks mysql", doc.Nearest(q.Dialect, known))
			}
		},
		"with": func(n ast.Node) {
			for _, x := range d.List(n, "with") {
				q.With = append(q.With, d.value(x, expr.InTarget))
			}
		},
		"names": func(n ast.Node) {
			for _, e := range d.Mapping(n, "names") {
				q.Names[e.Key] = d.identifier(e)
			}
		},
		"database":  text(&q.Database, expr.InTarget, "database"),
		"user":      text(&q.User, expr.InTarget, "user"),
		"password":  text(&q.Secret, expr.InTarget.Secrets(), "password"),
		"authority": text(&q.Authority, expr.InTarget, "authority"),
		"tls": func(n ast.Node) {
			q.TLS = d.template(n, expr.InTarget, "tls")
			if w := d.Word(n, "tls"); !strings.Contains(w, "{{") && !slices.Contains(task.TLSWords, w) {
				d.At(doc.Position(n), 0, false, "tls must be one of "+strings.Join(task.TLSWords, ", "),
					doc.Nearest(w, task.TLSWords))
			}
		},
		"port": func(n ast.Node) {
			if _, text := n.(*ast.StringNode); !text {
				if p := d.Integer(n, "port"); p < 1 || p > 65535 {
					d.Fail(n, "port must be from 1 to 65535")
				}
			}
			q.Port = d.value(n, expr.InTarget)
		},
	})
	needs := []string{"statement", "database", "user"}
	if q.Dialect == SQLite {
		needs = needs[:2]
		for _, k := range []string{"user", "password", "port", "tls", "authority"} {
			if got[k] != nil {
				d.Fail(got[k], "SQLite is a file and has no %s: database is its path", k)
			}
		}
	}
	for _, k := range needs {
		if got[k] == nil {
			d.Fail(n, "sql needs %s", k)
		}
	}
	for _, m := range namesInSQL.FindAllStringSubmatch(q.Statement, -1) {
		if _, ok := q.Names[m[1]]; !ok {
			d.At(
				doc.Position(got["statement"]),
				0,
				false,
				"the statement has [["+m[1]+"]], which names does not give",
				doc.Nearest(m[1], keys(q.Names)),
			)
		}
	}
	return q
}

func (d *decoder) identifier(e doc.Entry) Identifier {
	var id Identifier
	got := d.Fields(e.Value, "name "+e.Key, map[string]func(ast.Node){
		"of": func(n ast.Node) {
			for _, x := range d.List(n, "of") {
				w := d.Word(x, "a name")
				if !tablePattern.MatchString(w) {
					d.Fail(x, "%s is no name of a table or column", w)
				}
				id.Of = append(id.Of, w)
			}
		},
		"is": func(n ast.Node) { id.Is = d.template(n, expr.InTarget, "is") },
	})
	if got["of"] == nil || got["is"] == nil {
		d.Fail(e.Node, "name %s needs of, the list of what it may be, and is", e.Key)
	}
	return id
}

// Render puts an allowed name in the place of each [[NAME]].
func (q *SQL) Render(s *expr.Scope) (string, error) {
	var failed error
	out := namesInSQL.ReplaceAllStringFunc(q.Statement, func(m string) string {
		id := q.Names[namesInSQL.FindStringSubmatch(m)[1]]
		is, err := id.Is.Text(s)
		if err == nil && !slices.Contains(id.Of, is) {
			err = &notAllowed{is, id.Of}
		}
		if err != nil && failed == nil {
			failed = err
		}
		quote := `"`
		if q.Dialect == MySQL {
			quote = "`"
		}
		return quote + strings.ReplaceAll(is, ".", quote+"."+quote) + quote
	})
	return out, failed
}

type notAllowed struct {
	is string
	of []string
}

func (e *notAllowed) Error() string {
	return "the name " + clip(e.is) + " is none of " + strings.Join(e.of, ", ")
}

func (d *decoder) lookup(n ast.Node) *Lookup {
	l := &Lookup{Type: "A"}
	got := d.Fields(n, "name", map[string]func(ast.Node){
		"of": func(n ast.Node) { l.Name = d.template(n, expr.InTarget, "of") },
		"type": func(n ast.Node) {
			l.Type = d.Word(n, "type")
			if known := []string{"A", "AAAA", "CNAME", "MX", "TXT", "NS", "SRV"}; !slices.Contains(known, l.Type) {
				d.At(
					doc.Position(n),
					0,
					false,
					"type must be one of "+strings.Join(known, ", "),
					doc.Nearest(l.Type, known),
				)
			}
		},
	})
	if got["of"] == nil {
		d.Fail(n, "name needs of: the name to look up")
	}
	return l
}

func (d *decoder) send(n ast.Node) *Send {
	f := &Send{Mode: "0644"}
	forms := 0
	got := d.Fields(n, "send", map[string]func(ast.Node){
		"to": func(n ast.Node) { f.To = d.template(n, expr.InTarget, "to") },
		"text": func(n ast.Node) {
			forms++
			if f.Text = d.Word(n, "text"); strings.Contains(f.Text, "{{") {
				d.Fail(n, "the text of a file is never filled in; use json for values")
			}
		},
		"json": func(n ast.Node) { forms++; f.JSON = d.value(n, expr.InTarget) },
		"file": func(n ast.Node) {
			forms++
			if f.File = d.Word(n, "file"); !FileName.MatchString(f.File) {
				d.Fail(n, "file is the name of a file in the store: letters, digits, . _ and -; see urgentis file list")
			}
		},
		"mode": func(n ast.Node) {
			if f.Mode = d.Word(n, "mode"); !modePattern.MatchString(f.Mode) {
				d.Fail(n, "mode must be octal, such as 0755")
			}
		},
	})
	if got["to"] == nil || forms != 1 {
		d.Fail(n, "send needs to, and one of text, json and file")
	}
	return f
}

// dialogue reads the lines that are typed on a device: each a list of words, or one line in which nothing is filled in.
func (d *decoder) dialogue(n ast.Node) [][]*expr.Template {
	var out [][]*expr.Template
	items := d.List(n, "dialogue")
	if len(items) == 0 || len(items) > MaxLines {
		d.Fail(n, "dialogue is a list of 1 to %d lines, each a list of words", MaxLines)
	}
	for _, x := range items {
		if _, is := x.(*ast.StringNode); is {
			d.Fail(x, "a line is a list of words, as in - [show, clock]")
			continue
		}
		if line := d.words(x); len(line) > 0 {
			out = append(out, line)
		}
	}
	return out
}

func (d *decoder) words(n ast.Node) []*expr.Template {
	var out []*expr.Template
	if s, ok := n.(*ast.StringNode); ok {
		d.Fail(
			n,
			"run is a list of words, as in run: [%s]; a line of a shell stands in script",
			strings.Join(strings.Fields(s.Value), ", "),
		)
		return nil
	}
	items := d.List(n, "run")
	if len(items) == 0 {
		d.Fail(n, "run needs at least the name of a program")
		return nil
	}
	if len(items) > MaxWords {
		d.Fail(n, "run may have %d words", MaxWords)
		return nil
	}
	for _, x := range items {
		out = append(out, d.template(x, expr.InTarget, "a word"))
	}
	if !slices.Contains(out, nil) {
		d.dataNotCode(items, out)
	}
	return out
}

// interpreters read a word of theirs as program text. The value tells the options that say so;
// nil: any word may be program text.
var interpreters = map[string][]string{
	"sh": {"-c"}, "bash": {"-c"}, "dash": {"-c"}, "zsh": {"-c"}, "ksh": {"-c"}, "ash": {"-c"}, "busybox": nil,
	"python": {
		"-c",
	}, "python3": {"-c"}, "perl": {"-e", "-E"}, "ruby": {"-e"}, "node": {"-e", "-p", "--eval"}, "php": {"-r"},
	"awk": nil, "gawk": nil, "mawk": nil, "sed": nil, "eval": nil, "ssh": nil, "psql": {"-c", "--command"},
	"mysql": {"-e", "--execute"}, "su": {"-c"},
}

// wrappers run the command that follows them.
var wrappers = []string{
	"sudo",
	"env",
	"nice",
	"ionice",
	"nohup",
	"timeout",
	"setsid",
	"xargs",
	"doas",
	"stdbuf",
	"chroot",
	"flock",
}

// dataNotCode refuses a command in which a value from outside could become program text.
func (d *decoder) dataNotCode(nodes []ast.Node, words []*expr.Template) {
	if len(words[0].Holes()) > 0 {
		d.Fail(nodes[0], "the program must be written out: a value from outside may be an argument, never the program")
		return
	}
	i := 0
	for i < len(words)-1 && slices.Contains(wrappers, path.Base(words[i].Source)) {
		for i++; i < len(words)-1 && (strings.HasPrefix(words[i].Source, "-") || strings.Contains(words[i].Source,
			"=") || strings.Trim(words[i].Source, "0123456789.smh") == ""); i++ {
		}
		if len(words[i].Holes()) > 0 {
			d.Fail(
				nodes[i],
				"the program must be written out: a value from outside may be an argument, never the program",
			)
			return
		}
	}
	program := path.Base(words[i].Source)
	flags, known := interpreters[program]
	if !known {
		return
	}
	code := flags == nil
	for _, w := range words[i+1:] {
		for _, f := range flags {
			short := len(f) == 2 && strings.HasPrefix(w.Source, "-") && !strings.HasPrefix(w.Source, "--") &&
				strings.Contains(w.Source, f[1:])
			code = code || short || w.Source == f || strings.HasPrefix(w.Source, f+"=")
		}
	}
	for j := i + 1; j < len(words) && code; j++ {
		if len(words[j].Holes()) > 0 {
			d.Fail(
				nodes[j],
				"%s would read this as program text: a value from outside may be an argument of a program, never "+
					"text for an interpreter",
				program,
			)
		}
	}
}

func (d *decoder) http(n ast.Node) *HTTP { return d.httpWith(n, "GET") }

// httpWith decodes a request, with the method that it has where it says none.
func (d *decoder) httpWith(n ast.Node, method string) *HTTP {
	h := &HTTP{Method: method, Headers: map[string]*expr.Template{}}
	var url ast.Node
	d.Fields(n, "http", map[string]func(ast.Node){
		"method": func(n ast.Node) {
			h.Method = d.Word(n, "method")
			if !slices.Contains([]string{"GET", "HEAD", "POST", "PUT", "PATCH", "DELETE"}, h.Method) {
				d.Fail(n, "method must be GET, HEAD, POST, PUT, PATCH or DELETE")
			}
		},
		"url": func(n ast.Node) { url = n; h.URL = d.template(n, expr.InTarget, "url") },
		"headers": func(n ast.Node) {
			for _, e := range d.Mapping(n, "headers") {
				h.Headers[textproto.CanonicalMIMEHeaderKey(e.Key)] = d.template(
					e.Value,
					expr.InTarget.Secrets(),
					"a header",
				)
			}
		},
		"body": func(n ast.Node) {
			h.Body = d.value(n, expr.InTarget)
		},
	})
	switch {
	case url == nil:
		d.Fail(n, "http needs a url")
	case h.URL != nil && !strings.HasPrefix(h.URL.Source, "http://") && !strings.HasPrefix(h.URL.Source, "https://"):
		d.Fail(url, "a url begins with http:// or https://")
	case h.URL != nil:
		for _, p := range h.URL.HostHoles() {
			if len(p.Refers("target")) == 0 ||
				len(p.Refers("alert"))+len(p.Refers("inputs"))+len(p.Refers("readings")) > 0 {
				d.Fail(
					url,
					"the host of a url must be written out or come from the target, as in http://{{ target.address }}/",
				)
			}
		}
	}
	return h
}
