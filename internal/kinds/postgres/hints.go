package postgres

import "neighbour/internal/core/kind"

// Hints say how it is found in a project.
func (Kind) Hints() kind.Hints {
	return kind.Hints{
		Title: "PostgreSQL", Name: "database",
		Libraries: []string{"pg", "pg-promise", "postgres", "pgx*", "github.com/jackc/pgx*", "github.com/lib/pq", "psycopg", "psycopg2", "psycopg2-binary", "psycopg-binary", "asyncpg", "pg8000", "ext-pgsql", "ext-pdo_pgsql"},
		Schemes:   []string{"postgres", "postgresql", "pgsql"},
		Ports:     []int{5432},
		Words:     []string{"PG", "POSTGRES", "POSTGRESQL"},
		Variable:  "DATABASE_URL", Address: "url",
		// PostgreSQL 17, 32.15 Environment Variables.
		ByLibrary: [][2]string{{"PGHOST", "host"}, {"PGPORT", "port"}, {"PGUSER", "user"}, {"PGPASSWORD", "password"}, {"PGDATABASE", "database"}},
		SQL:       true,
		Offered:   true,
	}
}
