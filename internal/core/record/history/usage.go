package history

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"neighbour/internal/core/record/usage"
)

// SaveUsage keeps rows of usage, and deletes what is older than it is kept for.
// A row that is there already is replaced.
func (d *DB) SaveUsage(ctx context.Context, rows []usage.Row) error {
	return d.with(ctx, true, func(db *sql.DB) error {
		tx, err := db.BeginTx(ctx, nil)
		if err != nil {
			return err
		}
		defer func() { _ = tx.Rollback() }()
		add, err := tx.PrepareContext(ctx, "INSERT OR REPLACE INTO usage (step, service, at, cpu, peak, memory, read, written, files, threads, processes) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)")
		if err != nil {
			return err
		}
		defer add.Close()
		for _, r := range rows {
			if _, err := add.ExecContext(ctx, r.Step.Milliseconds(), r.Service, r.At.UnixMilli(), r.CPU, r.Peak, int64(r.Memory), int64(r.Read), int64(r.Written), r.Files, r.Threads, r.Processes); err != nil {
				return err
			}
		}
		now := time.Now()
		for step, keep := range map[time.Duration]time.Duration{usage.Fine: usage.KeepFine, usage.Coarse: usage.KeepCoarse} {
			if _, err := tx.ExecContext(ctx, "DELETE FROM usage WHERE step = ? AND at < ?", step.Milliseconds(), now.Add(-keep).UnixMilli()); err != nil {
				return err
			}
		}
		return tx.Commit()
	})
}

// Usage returns the rows of a length of time from a time on, by service, the
// oldest first.
func (d *DB) Usage(ctx context.Context, step time.Duration, from time.Time) (map[string][]usage.Row, error) {
	out := map[string][]usage.Row{}
	err := d.with(ctx, false, func(db *sql.DB) error {
		clear(out)
		rows, err := db.QueryContext(ctx, "SELECT service, at, cpu, peak, memory, read, written, files, threads, processes FROM usage WHERE step = ? AND at >= ? ORDER BY service, at",
			step.Milliseconds(), from.Add(-step).UnixMilli())
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			r := usage.Row{Step: step}
			var at int64
			if err := rows.Scan(&r.Service, &at, &r.CPU, &r.Peak, &r.Memory, &r.Read, &r.Written, &r.Files, &r.Threads, &r.Processes); err != nil {
				return err
			}
			r.At = time.UnixMilli(at)
			out[r.Service] = append(out[r.Service], r)
		}
		return rows.Err()
	})
	if errors.Is(err, ErrNone) {
		return out, nil
	}
	return out, err
}
