package sqlquery

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"urgentis/core/runbook"
	"urgentis/internal/act"
)

// maxLine bounds what a server of MySQL may send for one statement, in bytes: the driver puts a value together before
// it hands it over.
const maxLine = 2 * maxMessage

// errFlood says that a server sent more than maxLine.
var errFlood = fmt.Errorf("more than %d MiB came back", maxLine>>20)

// bounded is a connection that reads no more than maxLine.
type bounded struct {
	net.Conn
	left int
}

func (b *bounded) Read(p []byte) (int, error) {
	if b.left <= 0 {
		return 0, errFlood
	}
	n, err := b.Conn.Read(p[:min(len(p), b.left)])
	b.left -= n
	return n, err
}

// silent keeps the driver from writing to standard error.
type silent struct{}

func (silent) Print(...any) {}

// mySQL runs a statement over the protocol of MySQL and MariaDB. A look runs in a session that the server keeps
// read-only.
func mySQL(ctx context.Context, job act.Job) act.Result {
	r := job.Request
	cfg := mysql.NewConfig()
	cfg.Net, cfg.Addr = "tcp", net.JoinHostPort(r.Target.Address, strconv.Itoa(r.SQL.Port))
	cfg.User, cfg.Passwd, cfg.DBName = r.SQL.User, r.SQL.Password, r.SQL.Database
	safe, either, err := security(r)
	if err != nil {
		return act.NotBegun(err.Error())
	}
	cfg.TLS, cfg.AllowFallbackToPlaintext, cfg.ParseTime, cfg.Logger = safe, either, true, silent{}
	cfg.ConnectionAttributes = "program_name:urgentis " + job.Attempt
	var flood *bounded
	cfg.DialFunc = func(ctx context.Context, network, addr string) (net.Conn, error) {
		c, err := (&net.Dialer{Timeout: 10 * time.Second}).DialContext(ctx, network, addr)
		if err != nil {
			return nil, err
		}
		flood = &bounded{Conn: c, left: maxLine}
		return flood, nil
	}
	connector, err := mysql.NewConnector(cfg)
	if err != nil {
		return act.NotBegun(err.Error())
	}
	db := sql.OpenDB(connector)
	defer db.Close() //nolint:errcheck // the server notices
	conn, err := db.Conn(ctx)
	if err != nil {
		return act.NotBegun(fmt.Sprintf("%s: no connection to the database: %s", r.Target.Name, plain(err)))
	}
	if err := prepare(ctx, conn, r.Timeout, r.Looks); err != nil {
		return act.NotBegun("the session could not be prepared: " + plain(err))
	}
	if err := job.MaySend(ctx); err != nil {
		return act.NotSent(err)
	}
	out, err := inTransaction(ctx, conn, r.SQL.Text, typed(r.SQL.With), r.Looks)
	if err == nil {
		return act.Answered(job, out).Cut(out.cut).Result()
	}
	if flood != nil && flood.left <= 0 {
		err = errFlood
	}
	var refused *mysql.MySQLError
	switch {
	case errors.As(err, &refused) && !r.Looks:
		// Whether it took back what it did rests on the tables' engine, and a DDL commits by itself.
		return act.Ended(1, false).Saying("the database refused: " + refused.Message).Result()
	case errors.As(err, &refused):
		return act.Refused("the database refused: " + refused.Message).Result()
	case r.Looks:
		return act.Refused(plain(err)).Result()
	}
	return act.Unseen("the statement did not end: " + plain(err)).Result()
}

// prepare bounds how long the server works on a statement, and keeps a look to reading. MariaDB and MySQL name that
// bound differently; the one that is not known is no mistake.
func prepare(ctx context.Context, conn *sql.Conn, seconds int, looks bool) error {
	if _, err := conn.ExecContext(ctx, "set session max_statement_time = "+strconv.Itoa(seconds)); err != nil {
		var refused *mysql.MySQLError
		if !errors.As(err, &refused) {
			return err
		}
		// Of MySQL it bounds what reads alone.
		if _, err := conn.ExecContext(
			ctx, "set session max_execution_time = "+strconv.Itoa(seconds*1000)); err != nil {
			return err
		}
	}
	if !looks {
		return nil
	}
	_, err := conn.ExecContext(ctx, "set session transaction read only")
	return err
}

// inTransaction runs a statement in a transaction of its own.
func inTransaction(ctx context.Context, conn *sql.Conn, text string, with []any, looks bool) (*answer, error) {
	tx, err := conn.BeginTx(ctx, &sql.TxOptions{ReadOnly: looks})
	if err != nil {
		return nil, err
	}
	defer tx.Rollback() //nolint:errcheck // after a commit there is nothing to roll back
	out := &answer{Rows: []map[string]any{}}
	if looks || givesRows(text) { // that a look found nothing is never guessed from its words
		if err := collect(ctx, tx, text, with, out); err != nil {
			return nil, err
		}
		return out, tx.Commit()
	}
	done, err := tx.ExecContext(ctx, text, with...)
	if err != nil {
		return nil, err
	}
	if out.Count, err = done.RowsAffected(); err != nil {
		out.Count = 0
	}
	return out, tx.Commit()
}

// givesRows reports whether a statement that may alter gives rows too, by its words.
func givesRows(text string) bool {
	switch runbook.FirstWord(text) {
	case "select", "show", "with", "explain", "table", "values", "describe", "call", "pragma", "check", "analyze":
		return true
	}
	return slices.Contains(strings.Fields(strings.ToLower(text)), "returning")
}

// collect reads the rows, of which so many are kept.
func collect(ctx context.Context, tx *sql.Tx, text string, with []any, out *answer) error {
	rows, err := tx.QueryContext(ctx, text, with...)
	if err != nil {
		return err
	}
	defer rows.Close() //nolint:errcheck // Err tells
	columns, err := rows.ColumnTypes()
	if err != nil {
		return err
	}
	size := 0
	for rows.Next() {
		out.Count++
		values := make([]any, len(columns))
		into := make([]any, len(columns))
		for i := range values {
			into[i] = &values[i]
		}
		if err := rows.Scan(into...); err != nil {
			return err
		}
		for _, v := range values {
			if b, ok := v.([]byte); ok {
				size += len(b)
			}
			size += 8
		}
		if len(out.Rows) >= maxRows || size > maxBytes {
			out.cut = true
			continue
		}
		row := make(map[string]any, len(columns))
		for i, c := range columns {
			row[c.Name()] = shown(values[i], c.DatabaseTypeName())
		}
		out.Rows = append(out.Rows, row)
	}
	return rows.Err()
}

// shown is a value as it stands in JSON.
func shown(v any, kind string) any {
	b, ok := v.([]byte)
	if !ok {
		return v
	}
	if _, err := strconv.ParseFloat(string(b), 64); err == nil && strings.Contains(kind, "DECIMAL") {
		return json.Number(b)
	}
	return string(b)
}

// typed gives parameters the types that they have in JSON.
func typed(with []string) []any {
	out := make([]any, len(with))
	for i, w := range with {
		dec := json.NewDecoder(strings.NewReader(w))
		dec.UseNumber()
		var v any
		if err := dec.Decode(&v); err != nil && !errors.Is(err, io.EOF) {
			continue
		}
		switch x := v.(type) {
		case json.Number:
			if n, err := x.Int64(); err == nil {
				out[i] = n
			} else if f, err := x.Float64(); err == nil {
				out[i] = f
			}
		case map[string]any, []any:
			out[i] = w
		default:
			out[i] = x
		}
	}
	return out
}
