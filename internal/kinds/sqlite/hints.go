package sqlite

import "neighbour/internal/core/kind"

// Hints say what leads to it in env files.
func (Kind) Hints() kind.Hints {
	return kind.Hints{Title: "SQLite", Name: "database", Schemes: []string{"sqlite", "sqlite3"}, Words: []string{"SQLITE"}, Variable: "DATABASE_URL", Address: "url", SQL: true}
}
