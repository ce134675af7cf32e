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

	lru "github.com/hashicorp/golang-lru/v2"
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
	// Owner is the person who made the token, and answers for it; "" for a person.
	Owner string
}

// Behind is the person who acts, or answers for the token that does.
func (p *Principal) Behind() string {
	if p.Owner != "" {
		return p.Owner
	}
	return p.Name
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

// New makes the access to one installation.
func New(s *store.Store) *Access { return &Access{store: s, slow: newThrottle()} }

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
	p, err := a.first(ctx, name, password)
	if err == nil || errors.Is(err, ErrSetup) {
		a.setup = ""
	}
	return p, err
}

// first makes the first person of an installation, and nobody after that: another instance may have been quicker.
func (a *Access) first(ctx context.Context, name, password string) (*store.Person, error) {
	hash, err := bcrypt.GenerateFromPassword(fitting(password), cost)
	if err != nil {
		return nil, fmt.Errorf("keep the password: %w", err)
	}
	p := &store.Person{Name: name, PasswordHash: string(hash), Roles: string(Admin), AddedAt: time.Now().UTC()}
	err = a.store.Tx(ctx, func(tx *gorm.DB) error {
		if err := tx.Exec("lock table person in share row exclusive mode").Error; err != nil {
			return err
		}
		var n int64
		if err := tx.Model(&store.Person{}).Count(&n).Error; err != nil {
			return err
		}
		if n > 0 {
			return ErrSetup
		}
		if err := tx.Create(p).Error; err != nil {
			return err
		}
		return store.Audit(tx, name, "person.set", name, string(Admin))
	})
	if err != nil {
		return nil, err
	}
	return p, nil
}

// AddPerson adds somebody, or sets the password and roles of one; their sessions end.
func (a *Access) AddPerson(ctx context.Context, name, password string, roles []Role, by string) (*store.Person, error) {
	hash, err := bcrypt.GenerateFromPassword(fitting(password), cost)
	if err != nil {
		return nil, fmt.Errorf("keep the password: %w", err)
	}
	p := &store.Person{Name: name, PasswordHash: string(hash), Roles: join(roles), AddedAt: time.Now().UTC()}
	err = a.store.Tx(ctx, func(tx *gorm.DB) error {
		if err := free(tx, &store.Token{}, name); err != nil {
			return err
		}
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

// ErrNameTaken says that a token has the name of a person, or the other way round: records could not tell them apart.
var ErrNameTaken = errors.New("a person and a token cannot have the same name")

// free makes sure that a name is not one of the other kind, until the end of the transaction.
func free(tx *gorm.DB, row any, name string) error {
	if err := tx.Exec("select pg_advisory_xact_lock(hashtextextended(?, 7))", "name "+name).Error; err != nil {
		return err
	}
	var n int64
	if err := tx.Model(row).Where("name = ?", name).Count(&n).Error; err != nil {
		return err
	}
	if n > 0 {
		return ErrNameTaken
	}
	return nil
}

// RemovePerson removes somebody, with their sessions and the tokens that they answer for. It tells how many those were.
func (a *Access) RemovePerson(ctx context.Context, name, by string) (tokens int, err error) {
	err = a.store.Tx(ctx, func(tx *gorm.DB) error {
		res := tx.Exec("delete from person where name = ?", name)
		if res.Error != nil {
			return res.Error
		}
		if res.RowsAffected == 0 {
			return store.ErrNotFound
		}
		if err := tx.Exec("delete from session where person = ?", name).Error; err != nil {
			return err
		}
		res = tx.Exec("delete from token where made_by = ?", name)
		if res.Error != nil {
			return res.Error
		}
		tokens = int(res.RowsAffected)
		return store.Audit(tx, by, "person.remove", name, fmt.Sprintf("with %d token(s)", tokens))
	})
	return tokens, err
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

// cost is how dear it is to try a password; tests make it cheap.
var cost = bcrypt.DefaultCost

// fitting makes any password one that bcrypt takes: it reads 72 bytes, which are fewer characters where they are not ASCII.
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
func (a *Access) SignIn(ctx context.Context, name, password, from string) (string, *Principal, error) {
	if !a.slow.try(name, from) {
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
	if bcrypt.CompareHashAndPassword(hash, fitting(password)) != nil || len(people) == 0 {
		_ = store.Audit(a.store.DB.WithContext(ctx), name, "sign-in.refused", "", from)
		return "", nil, ErrWrong
	}
	a.slow.right(name, from)
	value, kept := secretText("")
	err := a.store.Tx(ctx, func(tx *gorm.DB) error {
		// The password may have been changed since it was compared.
		var still []string
		if err := tx.Raw("select password_hash from person where name = ? for share", name).Scan(&still).Error; err != nil {
			return err
		}
		if len(still) == 0 || still[0] != people[0].PasswordHash {
			return ErrWrong
		}
		now := time.Now().UTC()
		if err := tx.Create(&store.Session{Hash: kept, Person: name, BegunAt: now, ExpiresAt: now.Add(SessionTime)}).Error; err != nil {
			return err
		}
		return store.Audit(tx, name, "sign-in", "", from)
	})
	return value, &Principal{Name: name, Roles: Split(people[0].Roles), Person: true}, err
}

// A try counts against the name where it came from, and against the address: whoever tries names or passwords
// slows down themselves, and nobody who signs in from elsewhere.
const (
	triesPerName    = 10 // at once, then one in six seconds
	triesPerAddress = 100
)

// throttle keeps who tried lately; what is oldest is forgotten when it is full.
type throttle struct {
	mu   sync.Mutex
	seen *lru.Cache[string, *rate.Limiter]
	now  func() time.Time
}

func newThrottle() *throttle {
	c, err := lru.New[string, *rate.Limiter](maxLimiters)
	if err != nil {
		panic(err) // its size is ours
	}
	return &throttle{seen: c, now: time.Now}
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
	return t.limiter("from "+from, triesPerAddress).AllowN(now, 1) && t.limiter("name "+name+" from "+from, triesPerName).AllowN(now, 1)
}

// right forgets the wrong tries of whoever then knew the password.
func (t *throttle) right(name, from string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.seen.Remove("name " + name + " from " + from)
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

// ByToken finds whose token it is; nil for nobody's. A token may no more than the person who answers for it.
func (a *Access) ByToken(ctx context.Context, token string) (*Principal, error) {
	var rows []struct {
		store.Token
		Makers *string
	}
	err := a.store.DB.WithContext(ctx).Raw(`with t as (select * from token where hash = ? and expires_at > now()),
		u as (update token set last_used_at = now() where name in (select name from t) and (last_used_at is null or last_used_at < now() - interval '1 minute'))
		select t.*, p.roles as makers from t left join person p on p.name = t.made_by`, Hash(token)).Scan(&rows).Error
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	roles := Split(rows[0].Roles)
	if rows[0].Makers != nil {
		maker := &Principal{Roles: Split(*rows[0].Makers)}
		roles = slices.DeleteFunc(roles, func(r Role) bool { return !maker.May(string(r)) })
	}
	return &Principal{Name: rows[0].Name, Roles: roles, Owner: rows[0].MadeBy}, nil
}

// AddToken makes a token and shows it once.
func (a *Access) AddToken(ctx context.Context, name string, roles []Role, life time.Duration, by string) (string, time.Time, error) {
	value, hash := secretText("urg_")
	end := time.Now().UTC().Add(life).Truncate(time.Second)
	err := a.store.Tx(ctx, func(tx *gorm.DB) error {
		if err := free(tx, &store.Person{}, name); err != nil {
			return err
		}
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
		// A new token leaves the rest as it is.
		err := tx.Exec(`insert into source (name, token_hash, call_back, added_at) values (?, ?, ?, now())
			on conflict (name) do update set token_hash = excluded.token_hash, call_back = coalesce(nullif(excluded.call_back, ''), source.call_back)`, name, hash, callBack).Error
		if err != nil {
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
