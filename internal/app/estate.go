package app

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/url"
	"slices"
	"strings"

	jsonpatch "github.com/evanphx/json-patch/v5"
	"golang.org/x/crypto/ssh"

	"urgentis/core/access"
	"urgentis/core/estate"
	"urgentis/core/flow"
	"urgentis/core/leave"
	"urgentis/core/links"
	"urgentis/core/runbook"
	"urgentis/core/source"
	"urgentis/core/task"
	"urgentis/internal/act"
	"urgentis/internal/store"
)

// Service is something that a team owns, as people read and change it.
type Service struct {
	Name         string   `json:"name"`
	Title        string   `json:"title,omitempty"`
	Owner        string   `json:"owner,omitempty"`
	Stance       string   `json:"stance,omitempty"`
	QuietMinutes int      `json:"quiet_minutes,omitempty"`
	DependsOn    []string `json:"depends_on,omitempty"`
	Harm         string   `json:"harm,omitempty"`
	FirstLook    string   `json:"first_look,omitempty"`
	// Links are pages outside that tell more of it.
	Links []links.Link `json:"links,omitempty"`
}

// Target is a host that runbooks act on, as people read and change it.
type Target struct {
	Name        string            `json:"name"`
	Service     string            `json:"service,omitempty"`
	Address     string            `json:"address,omitempty"`
	Port        int               `json:"port,omitempty"`
	Account     string            `json:"account,omitempty"`
	Secret      string            `json:"secret,omitempty"`
	HostKey     string            `json:"host_key,omitempty"`
	Labels      map[string]string `json:"labels,omitempty"`
	Known       map[string]any    `json:"known,omitempty"`
	LookAccount string            `json:"look_account,omitempty"`
	LookSecret  string            `json:"look_secret,omitempty"`
	// LookCannotWrite: the account that it is looked at with cannot write there.
	LookCannotWrite bool   `json:"look_cannot_write,omitempty"`
	Device          string `json:"device,omitempty"`
}

func serviceOf(r store.Service) Service {
	return Service{
		Name: r.Name, Title: r.Title, Owner: r.Owner, Stance: r.Stance, QuietMinutes: r.QuietMinutes,
		DependsOn: r.DependsOn, Harm: r.Harm, FirstLook: r.FirstLook, Links: r.Links,
	}
}

func targetOf(r store.Target) Target {
	return Target{
		Name: r.Name, Service: r.Service, Address: r.Address, Port: r.Port, Account: r.Account, Secret: r.Secret,
		HostKey: r.HostKey, Labels: r.Labels, Known: r.Known, LookAccount: r.LookAccount, LookSecret: r.LookSecret,
		LookCannotWrite: r.LookCannotWrite, Device: r.Device,
	}
}

// Versioned is a thing with the version that a change of it may ask for.
type Versioned[T any] struct {
	Item    T
	Version string
	// Changed is what a change altered, in words.
	Changed []string
}

// version names the state of a thing.
func version(item any) string {
	b, err := json.Marshal(item)
	if err != nil {
		panic(err) // they are made of JSON
	}
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:8])
}

func versioned[R, T any](list []R, of func(R) T) []Versioned[T] {
	out := make([]Versioned[T], len(list))
	for i, r := range list {
		item := of(r)
		out[i] = Versioned[T]{Item: item, Version: version(item)}
	}
	return out
}

// Change is a merge patch (RFC 7396) on a thing of a name.
type Change struct {
	Name  string
	Patch []byte
	// Match is the version that was read, "*" for any that there is; "": whatever is there.
	Match string
}

// merge changes a row, or adds it, in one transaction with its audit. row is what a new thing has; of gives a row as
// people read it; accept judges the merged thing and puts it into the row.
func merge[R, T any](ctx context.Context, a *App, who *access.Principal, noun string, c Change, row *R,
	of func(R) T, accept func(*store.Tx, T) error,
) (out Versioned[T], err error) {
	if err := administer(who, noun, c.Name); err != nil {
		return out, err
	}
	err = a.tx(ctx, func(tx *store.Tx) error {
		found, err := store.Alter(tx, noun, c.Name, row)
		if err != nil {
			return err
		}
		before := of(*row)
		if c.Match != "" && (!found || c.Match != "*" && c.Match != version(before)) {
			return &Error{Kind: Stale, Code: "other-version", Says: "it was changed meanwhile; read it again"}
		}
		after, err := patched(before, c.Patch)
		if err != nil {
			return err
		}
		if err := accept(tx, after); err != nil {
			return err
		}
		item := of(*row)
		out = Versioned[T]{
			Item:    item,
			Version: version(item),
			Changed: differences(fields(before), fields(item), !found),
		}
		if len(out.Changed) == 0 {
			return nil
		}
		if err := tx.Save(row); err != nil {
			return err
		}
		return tx.Audit(who.Name, noun+".set", c.Name, strings.Join(out.Changed, ", "))
	})
	return out, err
}

func patched[T any](before T, patch []byte) (after T, err error) {
	doc, err := json.Marshal(before)
	if err != nil {
		return after, err
	}
	doc, err = jsonpatch.MergePatch(doc, patch)
	if err != nil {
		return after, invalid("bad-request", "the change cannot be read: %s", err)
	}
	if err := json.Unmarshal(doc, &after); err != nil {
		return after, invalid("bad-request", "the change cannot be read: %s", err)
	}
	return after, nil
}

func fields(item any) map[string]any {
	var out map[string]any
	if b, err := json.Marshal(item); err == nil {
		_ = json.Unmarshal(b, &out) // it is our own
	}
	return out
}

// differences says in words what changed, in the order of names.
func differences(before, after map[string]any, added bool) []string {
	all := maps.Clone(before)
	maps.Copy(all, after)
	out := []string{}
	for _, k := range slices.Sorted(maps.Keys(all)) {
		was, is := before[k], after[k]
		switch {
		case k == "name" || written(was) == written(is) && !added:
		case is == nil:
			out = append(out, fmt.Sprintf("%s taken away (was %s)", k, written(was)))
		case was == nil || added:
			out = append(out, k+" "+written(is))
		default:
			out = append(out, fmt.Sprintf("%s %s (was %s)", k, written(is), written(was)))
		}
	}
	return out
}

func written(v any) string {
	if s, ok := v.(string); ok {
		return s
	}
	b, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(b)
}

// remove deletes a row by its name and writes that down.
func (a *App) remove(ctx context.Context, who *access.Principal, row any, noun, name string) error {
	if err := administer(who, noun, name); err != nil {
		return err
	}
	return a.tx(ctx, func(tx *store.Tx) error {
		if err := tx.Remove(row, name); err != nil {
			return named(err, "%s %s", noun, name)
		}
		return tx.Audit(who.Name, noun+".remove", name, "")
	})
}

// web refuses an address that is no http address.
func web(what, address string) error {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return invalid("address", "%s must be an http or https address", what)
	}
	return nil
}

// Services lists the services.
func (a *App) Services(ctx context.Context, who *access.Principal) ([]Versioned[Service], error) {
	if _, err := see(who); err != nil {
		return nil, err
	}
	list, err := a.store.In(ctx).Services()
	return versioned(list, serviceOf), err
}

// SetService changes a service, or adds it.
func (a *App) SetService(ctx context.Context, who *access.Principal, c Change) (Versioned[Service], error) {
	row := store.Service{Name: c.Name, Stance: string(leave.Ask)}
	return merge(ctx, a, who, "service", c, &row, serviceOf, func(tx *store.Tx, s Service) error {
		if s.Owner == "" {
			return invalid("owner", "a new service needs its owner")
		}
		if err := dependable(tx, s, row.DependsOn); err != nil {
			return err
		}
		row.Title, row.Owner, row.Stance, row.QuietMinutes = s.Title, s.Owner, s.Stance, s.QuietMinutes
		row.DependsOn = append([]string{}, s.DependsOn...)
		if row.Harm = strings.TrimSpace(s.Harm); len(row.Harm) > runbook.MaxHarm ||
			strings.ContainsAny(row.Harm, "\r\n") {
			return invalid("harm", "harm is one line of %d bytes at most: who suffers, and how", runbook.MaxHarm)
		}
		if s.FirstLook != row.FirstLook && s.FirstLook != "" {
			if err := a.canLookFirst(tx, s); err != nil {
				return err
			}
		}
		row.FirstLook = s.FirstLook
		if len(s.Links) > links.Most {
			return invalid("links", "a service may have %d links", links.Most)
		}
		for _, l := range s.Links {
			if wrong := l.Check(); wrong != "" {
				return invalid("links", "%s", wrong)
			}
		}
		row.Links = append([]links.Link{}, s.Links...)
		return nil
	})
}

// canLookFirst refuses a first look that is none.
func (a *App) canLookFirst(tx *store.Tx, s Service) error {
	b, err := a.newestIn(tx, s.FirstLook)
	if errors.Is(err, store.ErrNotFound) {
		return invalid("first_look", "there is no runbook %s", s.FirstLook)
	}
	if err != nil {
		return err
	}
	if why := b.NoFirstLook(s.Name); why != "" {
		return invalid("first_look", "%s", why)
	}
	return nil
}

// dependable refuses dependencies on what is no service, or on itself. One that was removed since may stay.
func dependable(tx *store.Tx, s Service, before []string) error {
	if len(s.DependsOn) > maxDepends {
		return invalid("depends_on", "a service may depend on %d others at most", maxDepends)
	}
	for _, need := range s.DependsOn {
		if need == s.Name {
			return invalid("depends_on", "%s cannot depend on itself", s.Name)
		}
		if slices.Contains(before, need) {
			continue
		}
		known, err := tx.Service(need)
		if err != nil {
			return err
		}
		if known == nil {
			return invalid("depends_on", "there is no service %s; add it first: urgentis service set %s --owner TEAM",
				need, need)
		}
	}
	return nil
}

// maxDepends bounds on how many others a service may depend.
const maxDepends = 64

// RemoveService removes a service. Its runbooks and targets stay, and name one that nobody owns.
func (a *App) RemoveService(ctx context.Context, who *access.Principal, name string) error {
	return a.remove(ctx, who, &store.Service{}, "service", name)
}

// Targets lists the targets.
func (a *App) Targets(ctx context.Context, who *access.Principal) ([]Versioned[Target], error) {
	if _, err := see(who); err != nil {
		return nil, err
	}
	list, err := a.store.In(ctx).Targets()
	return versioned(list, targetOf), err
}

// SetTarget changes a target, or adds it.
func (a *App) SetTarget(ctx context.Context, who *access.Principal, c Change) (Versioned[Target], error) {
	row := store.Target{Name: c.Name, Port: 22, Labels: map[string]string{}}
	return merge(ctx, a, who, "target", c, &row, targetOf, func(tx *store.Tx, t Target) error {
		return acceptTarget(tx, &row, t)
	})
}

// acceptTarget judges a target as it would be, and puts it into its row.
func acceptTarget(tx *store.Tx, row *store.Target, t Target) error {
	if t.Service == "" || t.Address == "" {
		return invalid("target", "a new target needs its service and its address")
	}
	if strings.ContainsAny(t.Address, "/ @") {
		return invalid("address", "address must be the name or the number of a host")
	}
	if host, port, err := net.SplitHostPort(t.Address); err == nil {
		return invalid("address", "the port stands beside the address: --address %s --port %s", host, port)
	}
	if t.HostKey != "" {
		key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(t.HostKey))
		if err != nil {
			return invalid("host-key", "the host key cannot be read; it looks like ssh-ed25519 AAAA…")
		}
		t.HostKey = strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))
	}
	if t.LookAccount != "" && t.LookSecret == "" {
		t.LookSecret = t.Secret
	}
	versions, err := tx.SecretVersions([]string{t.Secret, t.LookSecret})
	if err != nil {
		return err
	}
	for _, name := range []string{t.Secret, t.LookSecret} {
		if name != "" && versions[name] == 0 {
			return invalid("secret", "there is no secret %s; set it first", name)
		}
	}
	if t.Device != "" {
		if _, err := tx.Document(estate.Device, t.Device); err != nil {
			return named(err, "kind of device %s; push a document that begins with urgentis: device/1", t.Device)
		}
	}
	if t.Port == 0 {
		t.Port = 22
	}
	if t.Labels == nil {
		t.Labels = map[string]string{}
	}
	*row = store.Target{
		Name: row.Name, Service: t.Service, Address: t.Address, Port: t.Port, Account: t.Account, Secret: t.Secret,
		HostKey: t.HostKey, Labels: t.Labels, Known: t.Known, LookAccount: t.LookAccount, LookSecret: t.LookSecret,
		LookCannotWrite: t.LookCannotWrite, Device: t.Device,
	}
	return nil
}

// RemoveTarget removes a target.
func (a *App) RemoveTarget(ctx context.Context, who *access.Principal, name string) error {
	return a.remove(ctx, who, &store.Target{}, "target", name)
}

// Tried is what came of trying something.
type Tried struct {
	OK   bool
	Says string
}

// TryTarget signs in to a target and runs a command that does nothing.
func (a *App) TryTarget(ctx context.Context, who *access.Principal, name string) (Tried, error) {
	tx := a.store.In(ctx)
	row, err := tx.Target(name)
	if err != nil {
		return Tried{}, named(err, "target %s", name)
	}
	if err := access.Can(who, access.Respond, access.Object{Kind: "target", Name: name,
		Service: row.Service}); err != nil {
		return Tried{}, err
	}
	facts, err := tx.Facts([]string{name})
	if err != nil {
		return Tried{}, err
	}
	if len(facts) == 0 {
		return Tried{}, named(store.ErrNotFound, "target %s", name)
	}
	request := task.Request{Kind: "ssh", Target: facts[0], Words: []string{"true"}, Timeout: 10}
	if facts[0].Device != "" {
		// A line of nothing: it is ready, and is ready again.
		request.Words, request.Plain = []string{""}, true
	}
	res := a.ssh.Do(ctx, act.Job{Request: request, Attempt: "try"})
	switch {
	case res.State == flow.OK && facts[0].Device != "":
		return Tried{true, "signed in, and it is ready for a line"}, nil
	case res.State == flow.OK:
		return Tried{true, "signed in and ran a command"}, nil
	case res.Error != "":
		return Tried{false, res.Error}, nil
	}
	return Tried{false, strings.TrimSpace("the command failed: " + res.Stderr.Text())}, nil
}

// Secrets lists the secrets, without their values.
func (a *App) Secrets(ctx context.Context, who *access.Principal) ([]store.Secret, error) {
	if err := administer(who, "secret", ""); err != nil {
		return nil, err
	}
	return a.store.In(ctx).Secrets()
}

// SetSecret adds a value as the next version of a secret.
func (a *App) SetSecret(
	ctx context.Context,
	who *access.Principal,
	name, kind string,
	value []byte,
) (*store.Secret, error) {
	if err := administer(who, "secret", name); err != nil {
		return nil, err
	}
	if kind == "ssh-key" {
		if _, err := ssh.ParsePrivateKey(value); err != nil {
			return nil, invalid("secret", "the value is no SSH private key that can be read without a passphrase")
		}
	}
	var row *store.Secret
	err := a.tx(ctx, func(tx *store.Tx) (err error) {
		row, err = a.secrets.Set(tx, name, kind, value, who.Name)
		return err
	})
	return row, err
}

// RemoveSecret takes the value of a secret away, in all its versions. One that a target is signed in to with stays.
func (a *App) RemoveSecret(ctx context.Context, who *access.Principal, name string) error {
	if err := administer(who, "secret", name); err != nil {
		return err
	}
	return a.tx(ctx, func(tx *store.Tx) error {
		used, err := tx.TargetsWith(name)
		if err != nil {
			return err
		}
		if len(used) > 0 {
			return &Error{Kind: Conflict, Code: "in-use", Says: fmt.Sprintf(
				"secret %s opens %s: give them another one first", name, strings.Join(used, ", "))}
		}
		if err := tx.RemoveSecret(name); err != nil {
			return named(err, "secret %s", name)
		}
		return tx.Audit(who.Name, "secret.remove", name, "")
	})
}

// ListedSource is a source, and how its reports arrive.
type ListedSource struct {
	store.Source
	Takes string
}

// Sources lists the alert sources.
func (a *App) Sources(ctx context.Context, who *access.Principal) ([]ListedSource, error) {
	if _, err := see(who); err != nil {
		return nil, err
	}
	rows, err := a.store.In(ctx).Sources()
	if err != nil {
		return nil, err
	}
	out := make([]ListedSource, len(rows))
	for i, r := range rows {
		out[i] = ListedSource{r, source.HTTP}
		if s, err := a.mapOf(&rows[i]); err == nil && s.Takes != "" {
			out[i].Takes = s.Takes
		}
	}
	return out, nil
}

// RemoveSource removes an alert source; its token is worth nothing any more.
func (a *App) RemoveSource(ctx context.Context, who *access.Principal, name string) error {
	if err := administer(who, "source", name); err != nil {
		return err
	}
	return a.tx(ctx, func(tx *store.Tx) error {
		if err := tx.LockDocuments(); err != nil {
			return err
		}
		if err := removeSource(tx, name); err != nil {
			return named(err, "source %s", name)
		}
		return tx.Audit(who.Name, "source.remove", name, "")
	})
}

// removeSource takes a source out of use: its token proves nothing any more, and the revisions of its document stay.
func removeSource(tx *store.Tx, name string) error {
	if err := tx.RemoveDocument(estate.Source, name); err != nil {
		return err
	}
	return tx.Remove(&store.Source{}, name)
}

// documentOf pushes the document of a source that has none yet.
func (a *App) documentOf(tx *store.Tx, who *access.Principal, name string) error {
	if err := tx.LockDocuments(); err != nil {
		return err
	}
	if _, err := tx.Document(estate.Source, name); !errors.Is(err, store.ErrNotFound) {
		return err
	}
	docs, found := estate.Parse([]estate.File{{Name: name, Text: "urgentis: source/1\nname: " + name + "\n"}})
	if len(docs) == 0 {
		return invalid("name", "%s", found[0].Sentence())
	}
	push := &store.Push{By: who.Behind(), Message: "source add"}
	if err := tx.AddPush(push); err != nil {
		return err
	}
	return a.carryOutOne(tx, who, push, estate.Step{
		Kind: estate.Source, Name: name, What: estate.Added, Document: docs[0]})
}
