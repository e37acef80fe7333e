package sqlite

import (
	"context"
	"fmt"

	"neighbour/internal/core/kind"
)

// Lock takes the lock of the one who writes. Until unlock is called others read, and what they
// want to write waits.
func (k Kind) Lock(ctx context.Context, in *kind.Instance) (unlock func(), err error) {
	if !k.Holds(in) {
		return func() {}, nil
	}
	db, err := open(in)
	if err != nil {
		return nil, err
	}
	for _, sql := range []string{"PRAGMA busy_timeout = 10000", "BEGIN IMMEDIATE"} {
		if _, err := db.ExecContext(ctx, sql); err != nil {
			db.Close()
			return nil, fmt.Errorf("%s can't be locked: %w", path(in), err)
		}
	}
	return func() {
		_, _ = db.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
		db.Close()
	}, nil
}
