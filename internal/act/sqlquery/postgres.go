package sqlquery

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"urgentis/internal/act"
)

// postgres runs a statement over PostgreSQL's protocol. A look runs in a transaction that the server keeps read-only.
func postgres(ctx context.Context, job act.Job) act.Result {
	r := job.Request
	safe, either, err := security(r)
	if err != nil {
		return act.NotBegun(err.Error())
	}
	mode := map[bool]string{true: "prefer", false: "disable"}[either]
	cfg, err := pgx.ParseConfig("connect_timeout=10 sslmode=" + mode)
	if err != nil {
		return act.NotBegun(err.Error())
	}
	if !either {
		cfg.TLSConfig, cfg.Fallbacks = safe, nil
	}
	cfg.Host, cfg.Port, cfg.Database, cfg.User, cfg.Password = r.Target.Address, uint16(
		r.SQL.Port,
	), r.SQL.Database, r.SQL.User, r.SQL.Password //nolint:gosec // the checker bounds the port
	for _, f := range cfg.Fallbacks {
		f.Host, f.Port = cfg.Host, cfg.Port
	}
	cfg.RuntimeParams = map[string]string{
		"application_name":  "urgentis " + job.Attempt,
		"statement_timeout": fmt.Sprint(r.Timeout * 1000),
	}
	if r.Looks {
		cfg.RuntimeParams["default_transaction_read_only"] = "on"
	}
	conn, err := pgx.ConnectConfig(ctx, cfg)
	if err != nil {
		return act.NotBegun(fmt.Sprintf("%s: no connection to the database: %s", r.Target.Name, plain(err)))
	}
	defer func() {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		conn.Close(ctx) //nolint:errcheck // the server notices
	}()
	conn.PgConn().Frontend().SetMaxBodyLen(maxMessage)
	if err := job.MaySend(ctx); err != nil {
		return act.NotSent(err)
	}
	out, err := run(ctx, conn, r.SQL.Text, params(r.SQL.With), r.Looks)
	if err != nil {
		var pg *pgconn.PgError
		switch {
		case errors.As(err, &pg):
			return act.Refused("the database refused: " + pg.Message).Result()
		case r.Looks:
			return act.Refused(plain(err)).Result()
		}
		return act.Unseen("the statement did not end: " + plain(err)).Result()
	}
	return act.Answered(job, out).Cut(out.cut).Result()
}

// params are handed over as text: the server knows which type each must have.
func params(with []string) []any {
	out := make([]any, len(with))
	for i, w := range with {
		var v any
		if json.Unmarshal([]byte(w), &v) != nil || v == nil {
			continue
		}
		if s, ok := v.(string); ok {
			out[i] = s
			continue
		}
		out[i] = w
	}
	return out
}

func run(ctx context.Context, conn *pgx.Conn, text string, with []any, looks bool) (*answer, error) {
	mode := pgx.TxOptions{}
	if looks {
		mode.AccessMode = pgx.ReadOnly
	}
	tx, err := conn.BeginTx(ctx, mode)
	if err != nil {
		return nil, err
	}
	defer tx.Rollback(context.Background()) //nolint:errcheck // after a commit there is nothing to roll back
	rows, err := tx.Query(ctx, text, with...)
	if err != nil {
		return nil, err
	}
	out := &answer{Rows: []map[string]any{}}
	for size := 0; rows.Next(); {
		for _, v := range rows.RawValues() {
			size += len(v)
		}
		if len(out.Rows) >= maxRows || size > maxBytes {
			out.cut = true
			continue
		}
		m, err := pgx.RowToMap(rows)
		if err != nil {
			rows.Close()
			return nil, err
		}
		out.Rows = append(out.Rows, m)
	}
	rows.Close()
	if err := rows.Err(); err != nil {
		return nil, err
	}
	out.Count = rows.CommandTag().RowsAffected()
	return out, tx.Commit(ctx)
}
