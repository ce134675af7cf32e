package app

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/time/rate"

	"urgentis/core/access"
	"urgentis/core/estate"
	"urgentis/core/message"
	"urgentis/core/runbook"
	"urgentis/core/source"
	"urgentis/internal/act"
	"urgentis/internal/engine"
	"urgentis/internal/intake"
	"urgentis/internal/need"
	"urgentis/internal/scheduled"
	"urgentis/internal/secret"
	"urgentis/internal/signin"
	"urgentis/internal/store"
	"urgentis/internal/stories"
	"urgentis/internal/telling"
)

// Config is what the use cases work with.
type Config struct {
	Store    *store.Store      `need:"yes"`
	Engine   *engine.Engine    `need:"yes"`
	Teller   *telling.Teller   `need:"yes"`
	Looker   *scheduled.Looker `need:"yes"`
	Intake   *intake.Intake    `need:"yes"`
	Accounts *signin.Accounts  `need:"yes"`
	Secrets  *secret.Keeper    `need:"yes"`
	// SSH tries whether a target can be reached.
	SSH act.Hand `need:"yes"`
	// Outbox hands messages over at once, to try a way out.
	Outbox  Outbox           `need:"yes"`
	Stories *stories.Stories `need:"yes"`
	Log     *slog.Logger     `need:"yes"`
	Version string
	// Link is the address under which people reach this installation, without a slash at the end.
	Link string `need:"yes"`
}

// Outbox hands a message over at once, and says what the other side answered, or why it did not arrive.
type Outbox interface {
	Send(ctx context.Context, c *message.Connection, m *message.Message) (answer string, err error)
	// TryDesk opens a ticket for an incident that is none, and resolves it.
	TryDesk(ctx context.Context, c *message.Connection, inc *store.Incident) (says string, err error)
}

// App is the use cases of one instance.
type App struct {
	store    *store.Store
	engine   *engine.Engine
	teller   *telling.Teller
	looker   *scheduled.Looker
	intake   *intake.Intake
	accounts *signin.Accounts
	secrets  *secret.Keeper
	ssh      act.Hand
	outbox   Outbox
	log      *slog.Logger
	version  string
	link     string
	maps     *lru.Cache[string, *source.Source] // by their text
	used     *lru.Cache[string, time.Time]      // when a key of a source was last marked as used
	rates    *lru.Cache[string, *rate.Limiter]  // how much each source may send now
	stories  *stories.Stories
}

// maxMaps bounds how many sources are kept read; the one used longest ago goes.
const maxMaps = 2000

// New makes them; it refuses a configuration in which something is missing.
func New(c Config) (*App, error) {
	if err := need.All("the use cases", c); err != nil {
		return nil, err
	}
	maps, err := lru.New[string, *source.Source](maxMaps)
	if err != nil {
		return nil, fmt.Errorf("make room for sources: %w", err)
	}
	used, err := lru.New[string, time.Time](maxMaps)
	if err != nil {
		return nil, fmt.Errorf("make room for keys: %w", err)
	}
	rates, err := lru.New[string, *rate.Limiter](maxMaps)
	if err != nil {
		return nil, fmt.Errorf("make room for rates: %w", err)
	}
	return &App{
		maps: maps, used: used, rates: rates, stories: c.Stories,
		store: c.Store, engine: c.Engine, teller: c.Teller, looker: c.Looker, intake: c.Intake, accounts: c.Accounts,
		secrets: c.Secrets, ssh: c.SSH,
		outbox: c.Outbox,
		log:    c.Log, version: c.Version, link: c.Link,
	}, nil
}

// Kind is what an Error is about.
type Kind int

// The kinds.
const (
	Invalid  Kind = iota // what was asked cannot be done as it is
	Missing              // there is no such thing
	Conflict             // it is not as whoever asked took it to be
	Stale                // it was changed since it was read
	Unsound              // a runbook with mistakes
	Denied               // a right is missing
	Nobody               // nobody who is known asked
	Full                 // there is no room for more; later there may be
)

// Error refuses what was asked, in one sentence for a person.
type Error struct {
	Kind     Kind
	Code     string // stable, for programs
	Says     string
	Findings runbook.Findings
	Found    []estate.Found // of several files
}

func (e *Error) Error() string { return e.Says }

// IsMissing reports whether an error says that there is no such thing.
func IsMissing(err error) bool {
	var e *Error
	return errors.As(err, &e) && e.Kind == Missing
}

func invalid(code, format string, args ...any) *Error {
	return &Error{Kind: Invalid, Code: code, Says: fmt.Sprintf(format, args...)}
}

// named says of what was not found what it would have been.
func named(err error, format string, args ...any) error {
	if errors.Is(err, store.ErrNotFound) {
		return &Error{Kind: Missing, Code: "not-found", Says: "there is no " + fmt.Sprintf(format, args...)}
	}
	return err
}

// write does something in one transaction, with all that follows from it, as whoever may.
func (a *App) write(ctx context.Context, f func(s *engine.Sheet) error) error {
	return a.engine.Write(ctx, f)
}

// tx does something in one transaction from which nothing follows for runs.
func (a *App) tx(ctx context.Context, f func(tx *store.Tx) error) error { return a.store.Tx(ctx, f) }

// see asks whether somebody sees anything at all, and what of it.
func see(who *access.Principal) (access.Scope, error) {
	return access.ScopeOf(who), access.Can(who, access.See, access.Installation)
}

// administer asks for the right to change the installation.
func administer(who *access.Principal, kind, name string) error {
	return access.Can(who, access.Administer, access.Object{Kind: kind, Name: name})
}

// Page is which part of a list is wanted.
type Page struct {
	From  store.Place
	Limit int
}

// pageOf cuts a list that was read with one row too many, and says whether there is more.
func pageOf[T any](rows []T, limit int) ([]T, bool) {
	if len(rows) <= limit {
		return rows, false
	}
	return rows[:limit], true
}

// Now is the time of the database, by which everything is dated.
func (a *App) Now() time.Time { return a.engine.Clock().UTC().Truncate(time.Microsecond) }

// Ready says why this instance can do nothing for anybody now: nil where its database answers, its beats too.
func (a *App) Ready(ctx context.Context) error {
	if quiet := a.engine.Silent(); quiet > store.Lease {
		return fmt.Errorf("the database has not answered for %s", quiet.Round(time.Second))
	}
	if err := a.store.Pool.Ping(ctx); err != nil {
		return errors.New("the database does not answer")
	}
	return nil
}

// Stuck is how long this instance has not even tried to do anything.
func (a *App) Stuck() time.Duration { return a.engine.Stuck() }
