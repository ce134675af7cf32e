package demo

import (
	"context"
	"fmt"
	"path/filepath"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"urgentis/internal/localdb"
)

// Fares is the fares database: a real PostgreSQL of its own. Booking desks can leave sessions idle in a
// transaction, which holds up everybody else.
type Fares struct {
	Name, Address string
	Looker        string // password of the account fares_looker, which may only look
	Mender        string // password of the account fares_mender, which may end sessions

	server *localdb.Server
	admin  *pgx.Conn
	mu     sync.Mutex
	idle   []*pgx.Conn
}

// FaresPort is where the fares database listens.
const FaresPort = 5432

// StartFares starts the database on a loopback address; it keeps its data under dir.
func StartFares(ctx context.Context, dir, address string) (*Fares, error) {
	f := &Fares{
		Name:    "fares-db-1",
		Address: address,
		Looker:  "looker-of-the-merrow-line",
		Mender:  "mender-of-the-merrow-line",
	}
	var err error
	if f.server, err = localdb.StartOn(ctx, filepath.Join(dir, "fares"), address, FaresPort,
		"harbour-master"); err != nil {
		return nil, fmt.Errorf("start the fares database: %w", err)
	}
	if f.admin, err = pgx.Connect(ctx, f.server.URL); err != nil {
		return nil, fmt.Errorf("reach the fares database: %w", err)
	}
	var known int
	if err := f.admin.QueryRow(ctx, "select count(*) from pg_roles where rolname = "+
		"'fares_looker'").Scan(&known); err != nil ||
		known > 0 {
		return f, err
	}
	for _, q := range []string{
		"create role fares_looker login password '" + f.Looker + "' in role pg_read_all_stats",
		"create role fares_mender login password '" + f.Mender + "' in role pg_read_all_stats, pg_signal_backend",
		"create role fares_desk login password 'desk'",
		"create table seat (crossing text, number int, taken boolean not null default false, primary key (crossing, " +
			"number))",
		"insert into seat select 'north-0815', g from generate_series(1, 200) g",
		"grant select, update on seat to fares_desk",
		"grant select on seat to fares_looker",
	} {
		if _, err := f.admin.Exec(ctx, q); err != nil {
			return nil, fmt.Errorf("set the fares database up: %w", err)
		}
	}
	return f, nil
}

// Break leaves sessions of booking desks idle in a transaction.
func (f *Fares) Break(ctx context.Context) (int, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for i := range 3 {
		c, err := pgx.Connect(
			ctx,
			fmt.Sprintf(
				"postgres://fares_desk:desk@%s:%d/postgres?sslmode=disable&application_name=booking-desk-%d",
				f.Address,
				FaresPort,
				i+1,
			),
		)
		if err != nil {
			return i, err
		}
		f.idle = append(f.idle, c)
		if _, err := c.Exec(ctx, "begin"); err != nil {
			return i, err
		}
		if _, err := c.Exec(ctx, "update seat set taken = true where crossing = 'north-0815' and number = "+
			"$1", i+1); err != nil {
			return i, err
		}
	}
	return 3, nil
}

// Idle counts sessions that have been idle in a transaction for more than 2 s.
func (f *Fares) Idle(ctx context.Context) (int, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	var n int
	err := f.admin.QueryRow(ctx, "select count(*) from pg_stat_activity where state = 'idle in transaction' and "+
		"now() - state_change > interval '2 seconds'").
		Scan(&n)
	return n, err
}

// Stop ends the database.
func (f *Fares) Stop() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	for _, c := range append(f.idle, f.admin) {
		if c != nil {
			c.Close(ctx) //nolint:errcheck // the server ends below
		}
	}
	return f.server.Stop()
}
