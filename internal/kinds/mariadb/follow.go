package mariadb

import (
	"context"
	"strings"

	"neighbour/internal/core/kind"
)

// Follow tells of the new rows of a table, which is asked for them again and again.
func (k Kind) Follow(ctx context.Context, in *kind.Instance, w kind.Watch, cursor string, emit kind.Emit) error {
	password, err := in.Secret("password")
	if err != nil {
		return err
	}
	database, table := "", w.What
	if before, after, ok := strings.Cut(table, "."); ok {
		database, table = before, after
	} else {
		facts, err := k.Facts(in)
		if err != nil {
			return err
		}
		database = facts["database"].Value
	}
	w.What = table
	db, err := openAs(in, root, password, database)
	if err != nil {
		return err
	}
	defer db.Close()
	return kind.FollowTable(ctx, db, func(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }, w, cursor, emit)
}
