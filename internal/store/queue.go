package store

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
)

// Job is a job of the queue.
type Job interface {
	river.JobArgs
	// place is the queue that it waits in, and how often it is tried.
	place() (queue string, tries int)
}

// Doorbell asks some instance to look at a run. It owns nothing.
type Doorbell struct {
	Run string `json:"run"`
}

// Kind implements river.JobArgs.
func (Doorbell) Kind() string { return "doorbell" }

// place: a bell that failed is rung anew by the janitor.
func (Doorbell) place() (string, int) { return river.QueueDefault, 1 }

// Deliver asks for one delivery.
type Deliver struct {
	ID int64 `json:"id"`
}

// Kind implements river.JobArgs.
func (Deliver) Kind() string { return "deliver" }

func (Deliver) place() (string, int) { return DeliverQueue, MostTries }

// MostTries is how often a message is tried.
const MostTries = 12

// DeliverQueue has workers of its own: a room that hangs must not keep a bell from being answered.
const DeliverQueue = "deliver"

// WorkQueue makes a client that works the queue for an instance. When a job is due stands in the database by its own
// time (Enqueue, Later, KeepQueue); what the library would reckon by the clock of this machine counts for nothing.
func (s *Store) WorkQueue(instance string, workers *river.Workers, log *slog.Logger) (*river.Client[pgx.Tx], error) {
	return river.NewClient(riverpgxv5.New(s.Pool), &river.Config{
		ID:            instance, // freeDeliveries knows by it whose a message was
		FetchCooldown: fetchCooldown, FetchPollInterval: fetchPoll, Workers: workers, Logger: log,
		Queues:     map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: 64}, DeliverQueue: {MaxWorkers: 16}},
		JobTimeout: jobTime,
		// Its own rescuing goes by this machine's clock: KeepQueue does that.
		RescueStuckJobsAfter:        never,
		CompletedJobRetentionPeriod: time.Hour,
	})
}

const (
	jobTime   = 30 * time.Second
	stuckTime = 2 * jobTime
	// latest is how far ahead a job is due at most.
	latest = 2 * time.Minute
	never  = 10 * 365 * 24 * time.Hour
)

// Enqueue puts jobs into the queue with this transaction, due at once, and wakes whoever waits once it commits.
func (tx *Tx) Enqueue(jobs ...Job) error {
	if len(jobs) == 0 {
		return nil
	}
	var args, kinds, queues []string
	var tries []int64
	for _, j := range jobs {
		b, err := json.Marshal(j)
		if err != nil {
			return fmt.Errorf("put into the queue: %w", err)
		}
		queue, most := j.place()
		args, kinds, queues = append(args, string(b)), append(kinds, j.Kind()), append(queues, queue)
		tries = append(tries, int64(most))
	}
	if err := tx.run(`insert into river_job (args, kind, queue, max_attempts)
		select x.args::jsonb, x.kind, x.queue, x.tries
		from unnest(?::text[], ?::text[], ?::text[], ?::bigint[]) with ordinality as x(args, kind, queue, tries, n)
		order by x.n`, array{args}, array{kinds}, array{queues}, array{tries}); err != nil {
		return fmt.Errorf("put into the queue: %w", err)
	}
	return tx.run(`select pg_notify(current_schema() || '.river_insert', json_build_object('queue', q)::text)
		from (select distinct unnest(?::text[]) as q) x`, array{queues})
}

// Later has a job that is being done be done again after a while. counted says whether this was a try. Where somebody
// took the job away meanwhile it is put into the queue anew.
func (s *Store) Later(ctx context.Context, id int64, after time.Duration, counted bool) error {
	uncounted := 1
	if counted {
		uncounted = 0
	}
	const due = "clock_timestamp() + make_interval(secs => ?)"
	tx := s.In(ctx)
	n, err := tx.exec("update river_job set state = 'available', attempt = attempt - ?, scheduled_at = "+due+
		" where id = ? and state = 'running'", uncounted, after.Seconds(), id)
	if err != nil || n > 0 {
		return err
	}
	return tx.run("insert into river_job (args, kind, queue, max_attempts, attempt, scheduled_at) select args, kind, "+
		"queue, max_attempts, attempt - ?, "+due+" from river_job where id = ? and state = 'completed'", uncounted,
		after.Seconds(), id)
}

// KeepQueue keeps the queue by the time of the database. What was in hand for longer than a job may take is done again:
// whoever had it is stuck, or could not write down how it ended. What is due later than any job is made to be due now:
// the library reckons by the clock of a machine when the database was away as a job ended.
func (s *Store) KeepQueue(ctx context.Context) error {
	tx := s.In(ctx)
	if err := tx.run(`update river_job set state = 'available', scheduled_at = now() where state = 'running'
		and attempted_at < now() - make_interval(secs => ?)`, stuckTime.Seconds()); err != nil {
		return fmt.Errorf("free what is stuck in the queue: %w", err)
	}
	if err := tx.run(`update river_job set state = 'available', scheduled_at = now()
		where state in ('available', 'scheduled', 'retryable') and scheduled_at > now() + make_interval(secs => ?)`,
		latest.Seconds()); err != nil {
		return fmt.Errorf("bring forward what is due too late in the queue: %w", err)
	}
	return nil
}
