package main

import (
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"runtime/pprof"
	"text/tabwriter"

	"urgentis/internal/localdb"
	"urgentis/internal/store"
)

// watchOver begins what -profile and -statements ask for, and gives what ends it.
func (b *bench) watchOver() (stop func() error, err error) {
	var file *os.File
	if *profile != "" {
		if file, err = os.Create(*profile); err != nil {
			return nil, err
		}
		if err := pprof.StartCPUProfile(file); err != nil {
			return nil, err
		}
	}
	if *statements {
		if _, err := b.store.Pool.Exec(b.ctx, "alter system set shared_preload_libraries = "+
			"'pg_stat_statements'"); err != nil {
			return nil, err
		}
		if err := b.reopen(); err != nil {
			return nil, err
		}
		if _, err := b.store.Pool.Exec(b.ctx, "create extension if not exists pg_stat_statements"); err != nil {
			return nil, fmt.Errorf("count statements: %w", err)
		}
	}
	return func() error {
		if file != nil {
			pprof.StopCPUProfile()
			if err := file.Close(); err != nil {
				return err
			}
		}
		if *statements {
			return b.asked()
		}
		return nil
	}, nil
}

// asked prints the statements that took the database longest.
func (b *bench) asked() error {
	rows, err := b.store.Pool.Query(
		b.ctx,
		`select calls, total_exec_time, regexp_replace(left(query, 110), '\s+', ' ', 'g')
			from pg_stat_statements order by total_exec_time desc limit 40`,
	)
	if err != nil {
		return err
	}
	defer rows.Close()
	w := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "CALLS\tMS\tSTATEMENT\t")
	for rows.Next() {
		var calls int64
		var took float64
		var query string
		if err := rows.Scan(&calls, &took, &query); err != nil {
			return err
		}
		fmt.Fprintf(w, "%d\t%.0f\t%s\t\n", calls, took, query)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	return w.Flush()
}

// reopen starts the database anew, so that it takes its settings.
func (b *bench) reopen() error {
	b.store.Close()
	if err := b.db.Stop(); err != nil {
		return err
	}
	var err error
	if b.db, err = localdb.Start(b.ctx, filepath.Join(b.dir, "d")); err != nil {
		return err
	}
	b.store, err = store.Open(b.ctx, b.db.URL, slog.New(slog.DiscardHandler))
	return err
}
