package estate

import (
	"encoding/pem"
	"net/textproto"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/doc"
	"urgentis/core/expr"
	"urgentis/core/incident"
	"urgentis/core/message"
	"urgentis/core/runbook"
)

var (
	inMessage = expr.InReport.With("message", "")
	inDesk    = expr.InReport.With("incident", "").With("ticket", "").With("comment", "")
	inAnswer  = expr.InReport.With("answer", "")
	inBack    = expr.InReport.With("body", "")
)

// connection decodes a way out to people or to another system.
func (x *decoder) connection(root ast.Node) {
	c := &message.Connection{Says: map[string]*expr.Template{}, Links: message.LinksAct, TLS: "start", Over: "udp"}
	x.d.Connection = c
	c.Kind = x.before(root, "kind", message.KindNames(message.AnyKind))
	desk := &message.DeskRequests{}
	send := &message.Request{Method: "POST", Headers: map[string]*expr.Template{}}
	keys := x.requestKeys(send, inMessage)
	own := map[string]func(ast.Node){
		"urgentis": func(ast.Node) {}, "name": x.name, "kind": func(ast.Node) {}, // read before
		"server":   func(n ast.Node) { c.Server = x.server(n) },
		"tls":      func(n ast.Node) { c.TLS = x.oneOf(n, "tls", []string{"start", "on", "never"}) },
		"over":     func(n ast.Node) { c.Over = x.oneOf(n, "over", []string{"udp", "tcp", "tls"}) },
		"account":  func(n ast.Node) { c.Account = x.Word(n, "account") },
		"password": func(n ast.Node) { c.Password = x.template(n, expr.InReport.Secrets(), "password") },
		"from":     func(n ast.Node) { c.From = x.Word(n, "from") },
		"authority": func(n ast.Node) {
			c.Authority = x.Word(n, "authority")
			if b, _ := pem.Decode([]byte(c.Authority)); b == nil || b.Type != "CERTIFICATE" {
				x.Fail(n, "authority must be a certificate (PEM)")
			}
		},
		"sign": func(n ast.Node) { c.Sign = x.template(n, expr.InReport.Secrets(), "sign") },
		"max_length": func(n ast.Node) {
			if c.Most = x.Integer(n, "max_length"); c.Most < 60 || c.Most > 4000 {
				x.Fail(n, "most is how many characters a short message has, from 60 to 4000")
			}
		},
		"says":      func(n ast.Node) { x.says(n, c) },
		"links":     func(n ast.Node) { c.Links = x.oneOf(n, "links", []string{message.LinksAct, message.LinksLook}) },
		"back":      func(n ast.Node) { c.Back = x.back(n) },
		"when":      func(n ast.Node) { desk.When = x.judged(n, "when", inDesk) },
		"open":      func(n ast.Node) { desk.Open = x.request(n, "open", inDesk) },
		"find":      func(n ast.Node) { desk.Find = x.request(n, "find", inDesk) },
		"comment":   func(n ast.Node) { desk.Comment = x.request(n, "comment", inDesk) },
		"copies":    func(n ast.Node) { desk.Copies = x.copies(n) },
		"update":    func(n ast.Node) { desk.Update = x.request(n, "update", inDesk) },
		"resolve":   func(n ast.Node) { desk.Resolve = x.request(n, "resolve", inDesk) },
		"follow_up": func(n ast.Node) { desk.FollowUp = x.request(n, "follow_up", inDesk) },
	}
	for k, f := range own {
		keys[k] = f
	}
	got := x.Fields(root, "a connection", keys)
	c.Name = x.d.Name
	x.need(root, got, "connection", "name", "kind")
	of := c.Is()
	x.need(root, got, "connection", of.Needs...)
	for k, n := range got {
		if !slices.Contains([]string{"urgentis", "name", "kind", "says"}, k) && n != nil &&
			!slices.Contains(of.Needs, k) && !slices.Contains(of.May, k) {
			x.Fail(n, "%s is nothing of a connection of the kind %s", k, c.Kind)
		}
	}
	if c.Account != "" && c.TLS == "never" {
		x.Fail(
			got["account"],
			"a password is not sent where nothing is encrypted: tls is start or on, or leave the account out",
		)
	}
	switch {
	case c.Kind == message.Desk:
		c.Desk = desk
		x.deskRead(root, got, desk)
	case of.Posts:
		c.Send = send
		x.hasURL(root, send)
	}
	if c.Back != nil && c.Sign == nil && !x.Findings.Failed() {
		x.Fail(got["back"], "what calls back must be signed: say with which secret, as in sign: '{{ secrets.room }}'")
	}
}

// copies reads which kinds of entries a desk is told of.
func (x *decoder) copies(n ast.Node) []string {
	var out []string
	for _, item := range x.List(n, "copies") {
		w := x.Word(item, "copies")
		if !slices.Contains(incident.Choices(), w) {
			x.At(doc.Position(item), 0, false, w+" is no kind of entry", doc.Nearest(w, incident.Choices()))
		}
		out = append(out, w)
	}
	if n != nil && len(out) == 0 {
		x.Fail(n, "copies says which entries follow as comments, as in copies: [gate, change, note]; "+
			"leave it out for all that matters")
	}
	return out
}

// deskRead sees to it that a ticket's number is read where one is opened.
func (x *decoder) deskRead(root ast.Node, got map[string]ast.Node, d *message.DeskRequests) {
	for name, r := range map[string]*message.Request{"open": d.Open, "find": d.Find, "follow_up": d.FollowUp} {
		if r != nil && r.Read["number"] == nil && !x.Findings.Failed() {
			x.Fail(
				got[name],
				"%s must read the ticket's number from the answer, as in read: {number: answer.body.id}",
				name,
			)
		}
	}
}

// serverPattern is a name or an address, which stands in brackets where it is one of IPv6, and a port.
var serverPattern = regexp.MustCompile(`^([^:\[\]\s]+|\[[0-9a-fA-F:.]+\]):[0-9]{1,5}$`)

// server reads HOST:PORT.
func (x *decoder) server(n ast.Node) string {
	w := x.Word(n, "server")
	if !serverPattern.MatchString(w) {
		x.Fail(n, "server must be HOST:PORT, as in mail.merrow.example:587")
	}
	return w
}

func (x *decoder) template(n ast.Node, where expr.Where, what string) *expr.Template {
	t, err := x.cel.CompileTemplate(x.Word(n, what), where)
	if err != nil {
		x.Expr(n, err, func(word string) string { return doc.Nearest(word, append(where.Names(), "secrets")) })
		return nil
	}
	return t
}

// judged reads a condition with the names of a place.
func (x *decoder) judged(n ast.Node, what string, where expr.Where) *expr.Program {
	p := x.value(n, what, where)
	if p != nil && !p.IsBool() {
		x.Fail(n, "%s must be true or false, this is %s", what, p.TypeName())
	}
	return p
}

// value reads an expression with the names of a place.
func (x *decoder) value(n ast.Node, what string, where expr.Where) *expr.Program {
	p, err := x.cel.Compile(x.Word(n, what), where)
	if err != nil {
		x.Expr(n, err, func(word string) string { return doc.Nearest(word, where.Names()) })
		return nil
	}
	return p
}

// says reads words of one's own, by kinds of notices.
func (x *decoder) says(n ast.Node, c *message.Connection) {
	for _, e := range x.Mapping(n, "says") {
		if !slices.Contains(message.KindWords(), e.Key) {
			x.At(doc.Position(e.Node), 0, false, "there is no notice "+e.Key+"; they are "+
				strings.Join(message.KindWords(), ", "), doc.Nearest(e.Key, message.KindWords()))
			continue
		}
		c.Says[e.Key] = x.template(e.Value, inMessage, "says")
	}
}

// back reads what is read of a call-back.
func (x *decoder) back(n ast.Node) *message.Back {
	b := &message.Back{}
	read := func(into **expr.Program, key string) func(ast.Node) {
		return func(n ast.Node) { *into = x.value(n, key, inBack) }
	}
	got := x.Fields(n, "a call-back", map[string]func(ast.Node){
		"person": read(&b.Person, "person"), "do": read(&b.Do, "do"), "refers": read(&b.Refers, "refers"),
		"digest": read(&b.Digest, "digest"), "comment": read(&b.Comment, "comment"),
		"people": func(n ast.Node) { b.People = x.whoIsWho(n) },
	})
	x.need(n, got, "call-back", "person", "do", "refers")
	return b
}

// request reads an HTTP request with holes.
func (x *decoder) request(n ast.Node, what string, where expr.Where) *message.Request {
	r := &message.Request{Method: "POST", Headers: map[string]*expr.Template{}}
	keys := x.requestKeys(r, where)
	keys["read"] = func(n ast.Node) {
		r.Read = map[string]*expr.Program{}
		for _, e := range x.Mapping(n, "read") {
			r.Read[e.Key] = x.value(e.Value, "read", inAnswer)
		}
	}
	x.Fields(n, "a request", keys)
	x.hasURL(n, r)
	return r
}

var methods = []string{"POST", "GET", "PUT", "PATCH", "DELETE"}

// requestKeys are the keys of a request, into which they are read.
func (x *decoder) requestKeys(r *message.Request, where expr.Where) map[string]func(ast.Node) {
	return map[string]func(ast.Node){
		"method": func(n ast.Node) { r.Method = x.oneOf(n, "method", methods) },
		"url":    func(n ast.Node) { x.url(n, r, where) },
		"headers": func(n ast.Node) {
			for _, e := range x.Mapping(n, "headers") {
				r.Headers[textproto.CanonicalMIMEHeaderKey(e.Key)] = x.template(e.Value, where.Secrets(), "a header")
			}
		},
		"body": func(n ast.Node) {
			r.Body = runbook.ReadValue(
				x.Text,
				n,
				func(n ast.Node) *expr.Template { return x.template(n, where, "body") },
			)
		},
		"form": func(n ast.Node) { r.Form = x.Boolean(n, "form") },
	}
}

// whoIsWho reads who somebody is that is called otherwise elsewhere.
func (x *decoder) whoIsWho(n ast.Node) map[string]string {
	out := map[string]string{}
	for _, e := range x.Mapping(n, "people") {
		if out[e.Key] = x.Word(e.Value, "a person"); !personPattern.MatchString(out[e.Key]) {
			x.Fail(e.Value, "%q is not how anybody signs in", out[e.Key])
		}
	}
	return out
}

// secretURL reads the name of the secret that is an address, where addresses hold a token; ok: it is one.
func (x *decoder) secretURL(n ast.Node) (secret string, ok bool) {
	switch n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		got := x.Fields(n, "a url", map[string]func(ast.Node){
			"secret": func(n ast.Node) { secret = x.Word(n, "secret") },
		})
		x.need(n, got, "url", "secret")
		return secret, true
	}
	return "", false
}

func (x *decoder) isHTTP(n ast.Node, url string) {
	if !strings.HasPrefix(url, "http://") && !strings.HasPrefix(url, "https://") {
		x.Fail(n, "a url begins with http:// or https://")
	}
}

// plainURL reads an address without holes, or the name of the secret that is it.
func (x *decoder) plainURL(n ast.Node) (url, secret string) {
	secret, ok := x.secretURL(n)
	if !ok {
		url = x.Word(n, "a url")
		x.isHTTP(n, url)
	}
	return url, secret
}

// url reads an address, or the name of the secret that is it.
func (x *decoder) url(n ast.Node, r *message.Request, where expr.Where) {
	secret, ok := x.secretURL(n)
	if ok {
		r.Secret = secret
		return
	}
	if r.URL = x.template(n, where, "url"); r.URL == nil {
		return
	}
	x.isHTTP(n, r.URL.Source)
	if len(r.URL.HostHoles()) > 0 {
		x.Fail(n, "the host of a url must be written out")
	}
}

func (x *decoder) hasURL(n ast.Node, r *message.Request) {
	if r.URL == nil && r.Secret == "" && !x.Findings.Failed() {
		x.Fail(n, "the url is missing: where it is sent to, as in url: https://rooms.merrow.example/hook")
	}
}
