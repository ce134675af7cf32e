package app

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/netip"
	"strings"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"urgentis/core/access"
	"urgentis/core/source"
	"urgentis/internal/listen"
	"urgentis/internal/signin"
	"urgentis/internal/store"
)

// Proof is by what a request to a source shows that it may report.
type Proof struct {
	Authorization string // the header
	Address       string // the last piece of the address; "" without one
	Header        http.Header
	From          netip.Addr // who sent it
	Password      string     // of SMTP's AUTH
}

// errUnproven does not say which of source and key is wrong.
var errUnproven = &Error{Kind: Nobody, Code: "source-token", Says: "the source or its token is unknown"}

// proven gives the source and its map where one of its keys proves the request, in a way that its document allows.
func (a *App) proven(ctx context.Context, name string, p Proof, body []byte) (*source.Source, error) {
	rows, err := a.store.In(ctx).Proofs(name)
	if err != nil {
		return nil, err
	}
	if len(rows) == 0 {
		return nil, errUnproven
	}
	s, err := a.mapOf(&rows[0].Source)
	if err != nil {
		return nil, err
	}
	if !s.Admits(p.From) {
		return nil, errUnproven
	}
	if s.Proves(source.Network) {
		return s, nil
	}
	for _, k := range rows {
		if k.KeyID == "" || !a.proves(s, k, p, body) {
			continue
		}
		if a.usedLately(k.KeyID) {
			return s, nil
		}
		return s, a.store.In(ctx).MarkKey(k.KeyID)
	}
	return nil, errUnproven
}

// usedLately spares a write for each report.
func (a *App) usedLately(key string) bool {
	if at, ok := a.used.Get(key); ok && a.Now().Sub(at) < time.Minute {
		return true
	}
	a.used.Add(key, a.Now())
	return false
}

// proves judges one key.
func (a *App) proves(s *source.Source, k store.Proof, p Proof, body []byte) bool {
	if k.Kind == store.SigningKey {
		return s.Proves(source.Signed) && a.signed(k.Sealed, p.Header, body)
	}
	for _, shown := range []struct{ way, value string }{
		{source.Bearer, after(p.Authorization, "Bearer ")}, {source.Basic, password(p.Authorization)},
		{source.Basic, p.Password}, {source.Address, p.Address},
	} {
		if shown.value != "" && s.Proves(shown.way) &&
			subtle.ConstantTimeCompare(signin.Hash(shown.value), k.Hash) == 1 {
			return true
		}
	}
	return false
}

func after(text, prefix string) string {
	if rest, ok := strings.CutPrefix(text, prefix); ok {
		return rest
	}
	return ""
}

// password is that of HTTP's basic scheme (RFC 7617); the name beside it may be any.
func password(authorization string) string {
	r := http.Request{Header: http.Header{"Authorization": {authorization}}}
	_, p, _ := r.BasicAuth()
	return p
}

// signed judges a signature by Standard Webhooks: of the id, a time within five minutes, and the body.
func (a *App) signed(sealed []byte, h http.Header, body []byte) bool {
	key, err := a.secrets.Box.Unseal(sealed)
	if err != nil {
		a.log.Error("open the signing key of a source", "error", err)
		return false
	}
	w, err := standardwebhooks.NewWebhookRaw(key)
	return err == nil && w.Verify(body, h) == nil
}

// NewKey is which key a source gets.
type NewKey struct {
	Source   string
	CallBack string
	Signing  bool
	// User makes it a user of SNMP v3, with these protocols; nil for none.
	User *listen.User
	// Keep is how long the keys of its kind that are there still prove something; 0: they end at once.
	Keep time.Duration
}

// maxKeep bounds how long an old key stays beside a new one.
const maxKeep = 31 * 24 * time.Hour

// Shown is a key as it is shown once.
type Shown struct {
	Token string // or the signing key, or the pass phrase that a user proves itself with
	User  string // of SNMP v3
	Priv  string // the pass phrase that a user's messages are encrypted with
}

// AddSource adds an alert source, or gives one a new key, and shows that once.
func (a *App) AddSource(ctx context.Context, who *access.Principal, n NewKey) (*Shown, error) {
	if err := administer(who, "source", n.Source); err != nil {
		return nil, err
	}
	if n.CallBack != "" {
		if err := web("call_back", n.CallBack); err != nil {
			return nil, err
		}
	}
	if n.Keep < 0 || n.Keep > maxKeep {
		return nil, invalid("keep", "the old key may stay from 0 to 31 days")
	}
	key := &store.SourceKey{
		ID: store.NewID("k"), Source: n.Source, Kind: store.TokenKey, AddedBy: who.Behind(), AddedAt: a.Now(),
		Hash: []byte{}, Sealed: []byte{},
	}
	shown, err := a.makeKey(key, n)
	if err != nil {
		return nil, err
	}
	return shown, a.tx(ctx, func(tx *store.Tx) error {
		if err := a.documentOf(tx, who, n.Source); err != nil {
			return err
		}
		if err := tx.SetCallBack(n.Source, n.CallBack); err != nil {
			return err
		}
		if err := tx.AddSourceKey(key, n.Keep); err != nil {
			return err
		}
		return tx.Audit(who.Name, "source.key", n.Source, key.Kind+" "+key.ID)
	})
}

// makeKey fills a key with what it is made of.
func (a *App) makeKey(key *store.SourceKey, n NewKey) (shown *Shown, err error) {
	switch {
	case n.Signing:
		raw := make([]byte, 32)
		rand.Read(raw) //nolint:errcheck // it never fails
		shown = &Shown{Token: "whsec_" + base64.StdEncoding.EncodeToString(raw)}
		key.Kind = store.SigningKey
		key.Sealed, err = a.secrets.Box.Seal(raw)
	case n.User != nil:
		// The name is one of its own, so that an old user and a new one are told apart while both are good.
		u := *n.User
		u.Name = n.Source + "-" + strings.ToLower(rand.Text()[:6])
		u.AuthPass, u.PrivPass = rand.Text(), rand.Text()
		shown = &Shown{User: u.Name, Token: u.AuthPass, Priv: u.PrivPass}
		key.Kind = store.UserKey
		var b []byte
		if b, err = json.Marshal(u); err == nil {
			key.Sealed, err = a.secrets.Box.Seal(b)
		}
	default:
		shown = &Shown{}
		shown.Token, key.Hash = signin.NewSourceToken()
	}
	return shown, err
}

// SourceKeys lists the keys of a source that still prove something.
func (a *App) SourceKeys(ctx context.Context, who *access.Principal, source string) ([]store.SourceKey, error) {
	if err := administer(who, "source", source); err != nil {
		return nil, err
	}
	row, err := a.store.In(ctx).Source(source)
	if err == nil && row == nil {
		err = named(store.ErrNotFound, "source %s", source)
	}
	if err != nil {
		return nil, err
	}
	return a.store.In(ctx).SourceKeys(source)
}

// EndSourceKey ends a key of a source now.
func (a *App) EndSourceKey(ctx context.Context, who *access.Principal, source, id string) error {
	if err := administer(who, "source", source); err != nil {
		return err
	}
	return a.tx(ctx, func(tx *store.Tx) error {
		if err := tx.EndSourceKey(source, id); err != nil {
			return named(err, "key %s of source %s", id, source)
		}
		return tx.Audit(who.Name, "source.key-ended", source, id)
	})
}
