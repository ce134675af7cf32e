package sqlquery

import (
	"context"
	"database/sql"
	"errors"
	"net/url"
	"os"

	"modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"

	"urgentis/internal/act"
)

// sqLite runs a statement in a file of this host. A look opens it for reading alone; nothing makes a file that is not
// there.
func sqLite(ctx context.Context, job act.Job) act.Result {
	r := job.Request
	if _, err := os.Stat(r.SQL.Database); err != nil {
		return act.NotBegun("the database is not there: " + err.Error())
	}
	mode := url.Values{"mode": {"rw"}, "_pragma": {"busy_timeout(5000)"}}
	if r.Looks {
		mode = url.Values{"mode": {"ro"}, "_pragma": {"busy_timeout(5000)", "query_only(1)"}}
	}
	db, err := sql.Open("sqlite", (&url.URL{Scheme: "file", Opaque: url.PathEscape(r.SQL.Database),
		RawQuery: mode.Encode()}).String())
	if err != nil {
		return act.NotBegun(err.Error())
	}
	defer db.Close() //nolint:errcheck // it was read, or committed
	conn, err := db.Conn(ctx)
	if err != nil {
		return act.NotBegun("the database could not be opened: " + plain(err))
	}
	defer conn.Close() //nolint:errcheck // see above
	if _, err := sqlite.Limit(conn, lib.SQLITE_LIMIT_LENGTH, maxMessage); err != nil {
		return act.NotBegun(err.Error())
	}
	// No statement reaches other files.
	if _, err := sqlite.Limit(conn, lib.SQLITE_LIMIT_ATTACHED, 0); err != nil {
		return act.NotBegun(err.Error())
	}
	if err := job.MaySend(ctx); err != nil {
		return act.NotSent(err)
	}
	out, err := inTransaction(ctx, conn, r.SQL.Text, typed(r.SQL.With), r.Looks)
	var refused *sqlite.Error
	switch {
	case err == nil:
		return act.Answered(job, out).Cut(out.cut).Result()
	case errors.As(err, &refused) && ctx.Err() == nil:
		return act.Refused("the database refused: " + refused.Error()).Result()
	case r.Looks:
		return act.Refused(plain(err)).Result()
	}
	return act.Unseen("the statement did not end: " + plain(err)).Result()
}
