package kind

import (
	"context"
	"strconv"
	"strings"

	"neighbour/internal/core/data/migrate"
	"neighbour/internal/core/machine/words"
)

// Migrator is implemented by kinds of databases that files of SQL can change.
// Their settings are a declare.Scripter.
type Migrator interface {
	// Session connects to the database that the facts lead to.
	Session(ctx context.Context, in *Instance) (migrate.Session, error)
}

// Looker is implemented by the Provisioning of kinds of databases that know what
// ran in them without another connection.
type Looker interface {
	// State returns that; false if it isn't known.
	State(ctx context.Context) (migrate.State, bool)
}

// Holder is implemented by kinds whose data is elsewhere than in the data folder.
type Holder interface {
	// Holds reports whether there is data already.
	Holds(in *Instance) bool
	// Files are what the data is kept in.
	Files(in *Instance) []string
}

// Counter is implemented by kinds that can say what a running service holds: a
// line for each database, or the like.
type Counter interface {
	Contents(ctx context.Context, in *Instance) ([]string, error)
}

// DatabaseContents puts in words what a database holds, from numbers as a server
// answers them.
func DatabaseContents(name, tables, rows, bytes string) string {
	n, _ := strconv.Atoi(tables)
	b, _ := strconv.ParseUint(bytes, 10, 64)
	text := "database " + name + ": " + words.Count(n, "table") + ", " + rows + " rows, " + words.Bytes(b)
	return strings.Replace(text, ", 1 rows", ", 1 row", 1)
}
