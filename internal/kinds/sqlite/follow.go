package sqlite

import (
	"context"
	"strings"

	"neighbour/internal/core/kind"
)

// Follow tells of the new rows of a table, which is asked for them again and again.
func (Kind) Follow(ctx context.Context, in *kind.Instance, w kind.Watch, cursor string, emit kind.Emit) error {
	db, err := open(in)
	if err != nil {
		return err
	}
	defer db.Close()
	return kind.FollowTable(ctx, db, func(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }, w, cursor, emit)
}
