// Package signin finds out who somebody is: passwords, sessions, tokens. What they may do is judged in core/access.
package signin

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/crypto/bcrypt"
	"golang.org/x/time/rate"

	"urgentis/core/access"
	"urgentis/internal/store"
)

// Accounts lets people and programs in.
type Accounts struct {
	store *store.Store
	mu    sync.Mutex
	slow  *throttle
	setup string
}

// The refusals.
var (
	ErrWrong    = errors.New("name or password is wrong")
	ErrThrottle = errors.New("too many tries; wait a minute")
	ErrSetup    = errors.New("the code is wrong or was used already")
)

// Lifetimes.
const (
	SessionTime = 12 * time.Hour
	maxLimiters = 10_000
)

// New makes the door of one installation.
func New(s *store.Store) *Accounts { return &Accounts{store: s, slow: newThrottle()} }

// secretText makes a value that cannot be guessed, and what is kept of it.
func secretText(prefix string) (value string, hash []byte) {
	b := make([]byte, 24)
	rand.Read(b) //nolint:errcheck // it never fails
	value = prefix + base64.RawURLEncoding.EncodeToString(b)
	return value, Hash(value)
}

// Hash is what is kept of a token: SHA-256, which is enough for a value of 192 random bits.
func Hash(value string) []byte {
	h := sha256.Sum256([]byte(value))
	return h[:]
}

// SetupCode gives the one-time code for the first administrator; "" where there is somebody already.
func (d *Accounts) SetupCode(ctx context.Context) (string, error) {
	if any, err := d.store.In(ctx).AnyPeople(); err != nil || any {
		return "", err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.setup == "" {
		d.setup, _ = secretText("setup-")
	}
	return d.setup, nil
}

// SetUp makes the first administrator.
func (d *Accounts) SetUp(ctx context.Context, code, name, password string) (*store.Person, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.setup == "" || subtle.ConstantTimeCompare([]byte(code), []byte(d.setup)) != 1 {
		return nil, ErrSetup
	}
	p, err := d.first(ctx, name, password)
	if err == nil || errors.Is(err, ErrSetup) {
		d.setup = ""
	}
	return p, err
}

// first makes the first person of an installation, and nobody after that: another instance may have been quicker.
func (d *Accounts) first(ctx context.Context, name, password string) (*store.Person, error) {
	p, err := NewPerson(name, password, []access.Role{access.Admin}, d.store.Clock.Now())
	if err != nil {
		return nil, err
	}
	return p, d.store.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.LockPeople(); err != nil {
			return err
		}
		switch any, err := tx.AnyPeople(); {
		case err != nil:
			return err
		case any:
			return ErrSetup
		}
		if err := tx.AddPerson(p); err != nil {
			return err
		}
		return tx.Audit(name, "person.set", name, p.Roles)
	})
}

// NewPerson makes a person with a password, as they are kept.
func NewPerson(name, password string, roles []access.Role, now time.Time) (*store.Person, error) {
	hash, err := bcrypt.GenerateFromPassword(fitting(password), cost)
	if err != nil {
		return nil, fmt.Errorf("keep the password: %w", err)
	}
	return &store.Person{Name: name, PasswordHash: string(hash), Roles: join(roles), AddedAt: now.UTC()}, nil
}

// NewToken makes a token that a person answers for, as it is kept, and its value, which is shown once.
func NewToken(name string, roles []access.Role, ends time.Time, by string) (value string, t *store.Token) {
	value, hash := secretText("urg_")
	return value, &store.Token{Name: name, Hash: hash, Roles: join(roles), MadeBy: by,
		ExpiresAt: ends.UTC().Truncate(time.Second)}
}

// NewSourceToken makes the token of an alert source, which is shown once, and what is kept of it.
func NewSourceToken() (value string, hash []byte) { return secretText("urs_") }

func join(roles []access.Role) string {
	out := make([]string, len(roles))
	for i, r := range roles {
		out[i] = string(r)
	}
	return strings.Join(out, " ")
}

// Split reads roles as they are kept.
func Split(roles string) []access.Role {
	var out []access.Role
	for _, r := range strings.Fields(roles) {
		out = append(out, access.Role(r))
	}
	return out
}

// cost is how dear it is to try a password; tests make it cheap.
var cost = bcrypt.DefaultCost

// fitting makes any password one that bcrypt takes: it reads 72 bytes, which are fewer characters where they are not
// ASCII.
func fitting(password string) []byte {
	if len(password) <= 72 {
		return []byte(password)
	}
	sum := sha256.Sum256([]byte(password))
	return []byte(base64.StdEncoding.EncodeToString(sum[:]))
}

// nobody is compared where the name is unknown, so that an answer takes as long.
var nobody, _ = bcrypt.GenerateFromPassword([]byte("nobody has this password"), bcrypt.DefaultCost)

// SignIn checks a password and begins a session. from is the address it came from.
func (d *Accounts) SignIn(ctx context.Context, name, password, from string) (string, *access.Principal, error) {
	if !d.slow.try(name, from) {
		return "", nil, ErrThrottle
	}
	person, err := d.store.In(ctx).Person(name)
	if err != nil {
		return "", nil, err
	}
	hash := nobody
	if person != nil {
		hash = []byte(person.PasswordHash)
	}
	if bcrypt.CompareHashAndPassword(hash, fitting(password)) != nil || person == nil {
		_ = d.store.In(ctx).Audit(name, "sign-in.refused", "", from) // the refusal stands without it
		return "", nil, ErrWrong
	}
	d.slow.right(name, from)
	value, kept := secretText("")
	err = d.store.Tx(ctx, func(tx *store.Tx) error {
		// The password may have been changed since it was compared.
		still, err := tx.PasswordHash(name)
		if err != nil {
			return err
		}
		if still != person.PasswordHash {
			return ErrWrong
		}
		now := tx.Time()
		if err := tx.AddSession(&store.Session{Hash: kept, Person: name, BegunAt: now,
			ExpiresAt: now.Add(SessionTime)}); err != nil {
			return err
		}
		return tx.Audit(name, "sign-in", "", from)
	})
	return value, &access.Principal{Name: name, Roles: Split(person.Roles), Person: true}, err
}

// A try counts against the name where it came from, and against the network that it came from: whoever tries names or
// passwords slows down themselves. Those who try one name from many networks slow down each other, and nobody who
// signed in as it from where they are.
const (
	triesPerName    = 10 // at once, then one in six seconds
	triesPerNetwork = 100
	triesOfName     = 60 // from wherever nobody signed in as it
)

// throttle keeps who tried lately, and who signed in from where; what is oldest is forgotten when it is full.
type throttle struct {
	mu    sync.Mutex
	seen  *lru.Cache[string, *rate.Limiter]
	known *lru.Cache[string, bool]
	now   func() time.Time
}

func newThrottle() *throttle {
	c, err := lru.New[string, *rate.Limiter](maxLimiters)
	if err != nil {
		panic(err) // its size is ours
	}
	known, err := lru.New[string, bool](maxLimiters)
	if err != nil {
		panic(err) // see above
	}
	return &throttle{seen: c, known: known, now: time.Now}
}

func (t *throttle) limiter(key string, burst int) *rate.Limiter {
	l, ok := t.seen.Get(key)
	if !ok {
		l = rate.NewLimiter(rate.Every(time.Minute/time.Duration(burst)), burst)
		t.seen.Add(key, l)
	}
	return l
}

// try counts a try, before it is judged, so that many at once are counted too, and reports whether it may be made.
func (t *throttle) try(name, from string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	now := t.now()
	from = network(from)
	return t.limiter("from "+from, triesPerNetwork).AllowN(now, 1) &&
		t.limiter("name "+name+" from "+from, triesPerName).AllowN(now, 1) &&
		(t.known.Contains(name+" from "+from) || t.limiter("name "+name, triesOfName).AllowN(now, 1))
}

// network is what of an address tells one who tries from others: all of IPv4, 64 bits of IPv6, of which one host may
// have any (RFC 7421).
func network(from string) string {
	a, err := netip.ParseAddr(from)
	if err != nil {
		return from
	}
	if a = a.Unmap(); a.Is4() {
		return a.String()
	}
	p, _ := a.Prefix(64) // it fits
	return p.String()
}

// right forgets the wrong tries of whoever then knew the password.
func (t *throttle) right(name, from string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	from = network(from)
	t.seen.Remove("name " + name + " from " + from)
	t.known.Add(name+" from "+from, true)
}

// SignOut ends a session.
func (d *Accounts) SignOut(ctx context.Context, session string) error {
	return d.store.In(ctx).EndSession(Hash(session))
}

// BySession finds who is signed in; nil for nobody.
func (d *Accounts) BySession(ctx context.Context, session string) (*access.Principal, error) {
	p, err := d.store.In(ctx).SignedIn(Hash(session))
	if err != nil || p == nil {
		return nil, err
	}
	return principal(p), nil
}

// ByName finds somebody who signs in, with their rights; nil for nobody. Whoever calls it must know otherwise that it
// is they who act.
func (d *Accounts) ByName(ctx context.Context, name string) (*access.Principal, error) {
	p, err := d.store.In(ctx).Person(name)
	if err != nil || p == nil {
		return nil, err
	}
	return principal(p), nil
}

func principal(p *store.Person) *access.Principal {
	return &access.Principal{Name: p.Name, Roles: Split(p.Roles), Person: true}
}

// ByToken finds whose token it is; nil for nobody's. A token may no more than the person who answers for it.
func (d *Accounts) ByToken(ctx context.Context, token string) (*access.Principal, error) {
	t, err := d.store.In(ctx).TokenBy(Hash(token))
	if err != nil || t == nil {
		return nil, err
	}
	roles := Split(t.Roles)
	if t.Makers != nil {
		maker := &access.Principal{Roles: Split(*t.Makers)}
		roles = slices.DeleteFunc(roles, func(r access.Role) bool { return !maker.Has(r) })
	}
	return &access.Principal{Name: t.Name, Roles: roles, Owner: t.MadeBy, Machine: t.OnMachine}, nil
}
