// Package sqlquery runs statements with bound parameters: in the protocols of PostgreSQL and of MySQL and MariaDB, and
// in files of SQLite. Looks run where the database itself keeps them to reading.
package sqlquery

import (
	"context"
	"errors"
	"net"
	"time"

	"urgentis/core/runbook"
	"urgentis/internal/act"
)

// maxRows and maxBytes bound what is kept of the rows, as they come over the line; what comes after is counted. No
// message of the server may be larger than maxMessage.
const (
	maxRows    = 10_000
	maxBytes   = 2 * act.KeptOutput
	maxMessage = 16 << 20
)

// Hand runs statements. The zero value is ready.
type Hand struct{}

// answer is the output of a statement, as JSON.
type answer struct {
	Rows  []map[string]any `json:"rows"`
	Count int64            `json:"count"` // rows given, or rows that were altered
	cut   bool             // rows came that are not kept
}

// Do implements act.Hand.
func (Hand) Do(ctx context.Context, job act.Job) act.Result {
	ctx, cancel := context.WithTimeout(ctx, time.Duration(job.Request.Timeout)*time.Second)
	defer cancel()
	switch job.Request.SQL.Dialect {
	case runbook.MySQL:
		return mySQL(ctx, job)
	case runbook.SQLite:
		return sqLite(ctx, job)
	}
	return postgres(ctx, job)
}

func plain(err error) string {
	var op *net.OpError
	if errors.As(err, &op) {
		return op.Err.Error()
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return "no answer in time"
	}
	if errors.Is(err, context.Canceled) {
		return "it was cancelled"
	}
	return err.Error()
}
