// Package access knows who may do what: people, sessions, tokens, roles.
package access

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/bcrypt"
	"golang.org/x/time/rate"
	"gorm.io/gorm"

	"urgentis/internal/store"
)

// Role is what somebody may do, installation-wide.
type Role string

// The roles.
const (
	Viewer    Role = "viewer"    // sees
	Responder Role = "responder" // looks, answers and notes
	Operator  Role = "operator"  // starts what is allowed
	Approver  Role = "approver"  // decides gates
	Author    Role = "author"    // writes runbooks
	Admin     Role = "admin"     // does the rest
)

// Roles lists all roles.
var Roles = []Role{Viewer, Responder, Operator, Approver, Author, Admin}

// includes tells which roles come with a role.
var includes = map[Role][]Role{
	Viewer: {Viewer}, Responder: {Responder, Viewer}, Operator: {Operator, Responder, Viewer},
	Approver: {Approver, Responder, Viewer}, Author: {Author, Viewer}, Admin: Roles,
}

// Rules of endpoints that are no roles.
const (
	Anybody  = "anybody"
	SignedIn = "signed-in"
	BySource = "source" // the token of an alert source
)

// Principal is who acts.
type Principal struct {
	Name   string
	Roles  []Role
	Person bool // false: a token
}

// May reports whether the principal fulfils a rule: a role, SignedIn or Anybody. Nobody is nil.
func (p *Principal) May(rule string) bool {
	if rule == Anybody {
		return true
	}
	if p == nil {
		return false
	}
	if rule == SignedIn {
		return true
	}
	return slices.ContainsFunc(p.Roles, func(r Role) bool { return slices.Contains(includes[r], Role(rule)) })
}

// Access keeps people, sessions and tokens.
type Access struct {
	store *store.Store
	mu    sync.Mutex
	slow  map[string]*rate.Limiter
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

// New makes the access to one installation.
func New(s *store.Store) *Access { return &Access{store: s, slow: map[string]*rate.Limiter{}} }

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
func (a *Access) SetupCode(ctx context.Context) (string, error) {
	var n int64
	if err := a.store.DB.WithContext(ctx).Model(&store.Person{}).Count(&n).Error; err != nil || n > 0 {
		return "", err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.setup == "" {
		a.setup, _ = secretText("setup-")
	}
	return a.setup, nil
}

// SetUp makes the first administrator.
func (a *Access) SetUp(ctx context.Context, code, name, password string) (*store.Person, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.setup == "" || subtle.ConstantTimeCompare([]byte(code), []byte(a.setup)) != 1 {
		return nil, ErrSetup
	}
	p, err := a.AddPerson(ctx, name, password, []Role{Admin}, name)
	if err == nil {
		a.setup = ""
	}
	return p, err
}

// AddPerson adds somebody, or sets the password and roles of one; their sessions end.
func (a *Access) AddPerson(ctx context.Context, name, password string, roles []Role, by string) (*store.Person, error) {
	hash, err := bcrypt.GenerateFromPassword([]byte(password), bcrypt.DefaultCost)
	if err != nil {
		return nil, fmt.Errorf("keep the password: %w", err)
	}
	p := &store.Person{Name: name, PasswordHash: string(hash), Roles: join(roles), AddedAt: time.Now().UTC()}
	err = a.store.Tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Save(p).Error; err != nil {
			return err
		}
		if err := tx.Exec("delete from session where person = ?", name).Error; err != nil {
			return err
		}
		return store.Audit(tx, by, "person.set", name, join(roles))
	})
	return p, err
}

func join(roles []Role) string {
	out := make([]string, len(roles))
	for i, r := range roles {
		out[i] = string(r)
	}
	return strings.Join(out, " ")
}

// Split reads roles as they are kept.
func Split(roles string) []Role {
	var out []Role
	for _, r := range strings.Fields(roles) {
		out = append(out, Role(r))
	}
	return out
}

// nobody is compared where the name is unknown, so that an answer takes as long.
var nobody, _ = bcrypt.GenerateFromPassword([]byte("nobody has this password"), bcrypt.DefaultCost)

// SignIn checks a password and begins a session. from is the address it came from.
func (a *Access) SignIn(ctx context.Context, name, password, from string) (string, *Principal, error) {
	if !a.allow("name "+name) || !a.allow("from "+from) {
		return "", nil, ErrThrottle
	}
	var people []store.Person
	if err := a.store.DB.WithContext(ctx).Where("name = ?", name).Find(&people).Error; err != nil {
		return "", nil, err
	}
	hash := nobody
	if len(people) == 1 {
		hash = []byte(people[0].PasswordHash)
	}
	if bcrypt.CompareHashAndPassword(hash, []byte(password)) != nil || len(people) == 0 {
		_ = store.Audit(a.store.DB.WithContext(ctx), name, "sign-in.refused", "", from)
		return "", nil, ErrWrong
	}
	value, kept := secretText("")
	err := a.store.Tx(ctx, func(tx *gorm.DB) error {
		now := time.Now().UTC()
		if err := tx.Create(&store.Session{Hash: kept, Person: name, BegunAt: now, ExpiresAt: now.Add(SessionTime)}).Error; err != nil {
			return err
		}
		return store.Audit(tx, name, "sign-in", "", from)
	})
	return value, &Principal{Name: name, Roles: Split(people[0].Roles), Person: true}, err
}

// allow throttles: ten tries at once, then one in six seconds.
func (a *Access) allow(key string) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	l := a.slow[key]
	if l == nil {
		if len(a.slow) >= maxLimiters {
			a.slow = map[string]*rate.Limiter{}
		}
		l = rate.NewLimiter(rate.Every(6*time.Second), 10)
		a.slow[key] = l
	}
	return l.Allow()
}

// SignOut ends a session.
func (a *Access) SignOut(ctx context.Context, session string) error {
	return a.store.DB.WithContext(ctx).Exec("delete from session where hash = ?", Hash(session)).Error
}

// BySession finds who is signed in; nil for nobody.
func (a *Access) BySession(ctx context.Context, session string) (*Principal, error) {
	var rows []store.Person
	err := a.store.DB.WithContext(ctx).Raw("select p.* from session s join person p on p.name = s.person where s.hash = ? and s.expires_at > now()", Hash(session)).Scan(&rows).Error
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	return &Principal{Name: rows[0].Name, Roles: Split(rows[0].Roles), Person: true}, nil
}

// ByToken finds whose token it is; nil for nobody's.
func (a *Access) ByToken(ctx context.Context, token string) (*Principal, error) {
	var rows []store.Token
	err := a.store.DB.WithContext(ctx).Raw(`with t as (select * from token where hash = ? and expires_at > now()),
		u as (update token set last_used_at = now() where name in (select name from t) and (last_used_at is null or last_used_at < now() - interval '1 minute'))
		select * from t`, Hash(token)).Scan(&rows).Error
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	return &Principal{Name: rows[0].Name, Roles: Split(rows[0].Roles)}, nil
}

// AddToken makes a token and shows it once.
func (a *Access) AddToken(ctx context.Context, name string, roles []Role, life time.Duration, by string) (string, time.Time, error) {
	value, hash := secretText("urg_")
	end := time.Now().UTC().Add(life).Truncate(time.Second)
	err := a.store.Tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(&store.Token{Name: name, Hash: hash, Roles: join(roles), MadeBy: by, ExpiresAt: end}).Error; err != nil {
			return err
		}
		return store.Audit(tx, by, "token.add", name, join(roles))
	})
	return value, end, err
}

// AddSource adds an alert source, or gives one a new token, and shows the token once.
func (a *Access) AddSource(ctx context.Context, name, callBack, by string) (string, error) {
	value, hash := secretText("urs_")
	err := a.store.Tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Save(&store.Source{Name: name, TokenHash: hash, CallBack: callBack, AddedAt: time.Now().UTC()}).Error; err != nil {
			return err
		}
		return store.Audit(tx, by, "source.set", name, "")
	})
	return value, err
}

// SourceMay reports whether a token is the source's own.
func (a *Access) SourceMay(ctx context.Context, source, token string) (bool, error) {
	var rows []store.Source
	if err := a.store.DB.WithContext(ctx).Where("name = ?", source).Find(&rows).Error; err != nil {
		return false, err
	}
	kept := make([]byte, sha256.Size)
	if len(rows) == 1 {
		kept = rows[0].TokenHash
	}
	return subtle.ConstantTimeCompare(Hash(token), kept) == 1 && len(rows) == 1, nil
}
