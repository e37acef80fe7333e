package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/tree"
)

// CheckMask says what is wrong with a rule, which names a column of a table.
func (Kind) CheckMask(rule string) error {
	_, _, err := kind.ColumnRule(rule)
	return err
}

// struckOut returns the value that stands in a column for what was struck out of it: none, or where
// there must be one, one that tells nothing.
func struckOut(nullable, typ, column, key string, length sql.NullInt64) (string, error) {
	switch {
	case nullable == "YES":
		return "NULL", nil
	case strings.HasSuffix(typ, "char"), strings.HasSuffix(typ, "text"):
		return fmt.Sprintf("LEFT(CONCAT(@n := @n + 1, '-masked-%s'), %d)", kind.MaskTag(), length.Int64), nil
	case typ == "json":
		return "'{}'", nil
	case strings.HasSuffix(typ, "blob"), strings.HasSuffix(typ, "binary"):
		return "''", nil
	case typ == "date", typ == "datetime", typ == "timestamp":
		return "TIMESTAMP '1990-01-01 00:00:00' + INTERVAL (@n := @n + 1) DAY", nil
	case slices.Contains([]string{"tinyint", "smallint", "mediumint", "int", "bigint", "decimal", "float", "double"}, typ):
		if key == "" {
			return "0", nil
		}
		if !strings.Contains(column, "unsigned") {
			return "-(@n := @n + 1)", nil
		}
	}
	return "", fmt.Errorf("it must have a value of type %s, and none is known that tells nothing; let it be null, or mask it in a migration", column)
}

// Mask strikes out columns in all databases that have them, and writes what the server holds then
// to a script: its files keep what was struck out, so that Refill fills new ones with it.
func (k Kind) Mask(ctx context.Context, in *kind.Instance, rules []string) (sample []string, err error) {
	db, err := open(in)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.SetMaxOpenConns(1) // what is set counts for all that follows
	names, err := texts(ctx, db, "SELECT schema_name FROM information_schema.schemata WHERE schema_name NOT IN ('mysql', 'sys', 'information_schema', 'performance_schema') ORDER BY 1")
	if err != nil {
		return nil, err
	}
	sets := map[string][]string{}
	for _, rule := range rules {
		found, err := k.find(ctx, db, rule, sets)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", rule, err)
		}
		if !found {
			return nil, fmt.Errorf("%q names nothing: there is no such column in %s", rule, strings.Join(names, ", "))
		}
	}
	// Triggers would write down elsewhere what is struck out here. They are made again at last.
	if err := k.write(ctx, in, "triggers.sql", append([]string{"--triggers", "--no-data", "--no-create-info", "--no-create-db", "--databases"}, names...)); err != nil {
		return nil, err
	}
	triggers, err := texts(ctx, db, "SELECT CONCAT('DROP TRIGGER `', REPLACE(trigger_schema, '`', '``'), '`.`', REPLACE(trigger_name, '`', '``'), '`') FROM information_schema.triggers WHERE trigger_schema <> 'sys'")
	if err != nil {
		return nil, err
	}
	for table, set := range sets {
		for _, s := range set {
			column, _, _ := strings.Cut(s, " = ")
			some, err := texts(ctx, db, fmt.Sprintf("SELECT CAST(LEFT(%[1]s, 200) AS CHAR) AS v FROM %[2]s WHERE LENGTH(%[1]s) >= %[3]d GROUP BY v HAVING COUNT(*) = 1 LIMIT %[4]d", column, table, kind.SampleLength, kind.SampleSize))
			if err != nil {
				return nil, fmt.Errorf("%s of %s: %w", column, table, err)
			}
			sample = append(sample, some...)
		}
	}
	steps := append([]string{"SET FOREIGN_KEY_CHECKS = 0"}, triggers...)
	for table, set := range sets {
		steps = append(steps, "SET @n = 0", "UPDATE "+table+" SET "+strings.Join(set, ", "))
	}
	for _, s := range steps {
		if _, err := db.ExecContext(ctx, s); err != nil {
			return nil, fmt.Errorf("%s: %w", s, err)
		}
	}
	return sample, k.write(ctx, in, "masked.sql", append([]string{"--single-transaction", "--routines", "--events", "--skip-triggers", "--hex-blob", "--databases"}, names...))
}

// find adds to sets what strikes out the columns that a rule means, by table.
func (Kind) find(ctx context.Context, db *sql.DB, rule string, sets map[string][]string) (found bool, err error) {
	table, column, err := kind.ColumnRule(rule)
	if err != nil {
		return false, err
	}
	rows, err := db.QueryContext(ctx, `SELECT c.table_schema, c.table_name, c.column_name, c.is_nullable, c.data_type, c.column_type, c.column_key, c.character_maximum_length
		FROM information_schema.columns c JOIN information_schema.tables t USING (table_schema, table_name)
		WHERE t.table_type = 'BASE TABLE' AND c.extra NOT LIKE '%GENERATED%' AND c.table_schema NOT IN ('mysql', 'sys', 'information_schema', 'performance_schema')
		AND c.column_name = ? AND (c.table_name = ? OR CONCAT(c.table_schema, '.', c.table_name) = ?)`, column, table, table)
	if err != nil {
		return false, err
	}
	defer rows.Close()
	for rows.Next() {
		var schema, name, column, nullable, typ, columnType, key string
		var length sql.NullInt64
		if err := rows.Scan(&schema, &name, &column, &nullable, &typ, &columnType, &key, &length); err != nil {
			return false, err
		}
		value, err := struckOut(nullable, typ, columnType, key, length)
		if err != nil {
			return false, err
		}
		to := quote(schema) + "." + quote(name)
		sets[to] = append(sets[to], quote(column)+" = "+value)
		found = true
	}
	return found, rows.Err()
}

func texts(ctx context.Context, db *sql.DB, query string) (out []string, err error) {
	rows, err := db.QueryContext(ctx, query)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var text string
		if err := rows.Scan(&text); err != nil {
			return nil, err
		}
		out = append(out, text)
	}
	return out, rows.Err()
}

// write has the server's own program write a script of what it holds into the run folder.
func (k Kind) write(ctx context.Context, in *kind.Instance, name string, args []string) error {
	return k.runClient(ctx, in, k.dumper(), args, func(path string) (stdin, stdout *os.File, err error) {
		f, err := os.OpenFile(path, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
		return nil, f, err
	}, name)
}

// runClient runs one of the server's own programs as its superuser, with a file of the run folder.
func (k Kind) runClient(ctx context.Context, in *kind.Instance, program string, args []string, open func(path string) (stdin, stdout *os.File, err error), name string) error {
	candidates := kind.Candidates(program, append([]string{in.Program.Dir}, k.finder.Places...)...)
	if len(candidates) == 0 {
		return &kind.MissingError{Program: program, Looked: "PATH", Packages: k.clients}
	}
	password, err := in.Secret("password")
	if err != nil {
		return err
	}
	file, err := in.WriteRun("root.cnf", options(in, root, password), true)
	if err != nil {
		return err
	}
	stdin, stdout, err := open(filepath.Join(in.Run, name))
	if err != nil {
		return err
	}
	var said strings.Builder
	cmd := in.Command(ctx, candidates[0], append([]string{"--defaults-file=" + file}, args...)...)
	cmd.Stderr = &said
	if stdin != nil {
		defer stdin.Close()
		cmd.Stdin = stdin
	}
	if stdout != nil {
		defer stdout.Close()
		cmd.Stdout = stdout
	}
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%s: %w\n%s", filepath.Base(candidates[0]), err, strings.TrimSpace(said.String()))
	}
	return nil
}

// Scrub takes the server's files away. What they held is in the script that Mask has written.
func (Kind) Scrub(_ context.Context, in *kind.Instance) error {
	if err := tree.Remove(temporary(in)); err != nil {
		return err
	}
	return tree.Remove(files(in))
}

// Refill carries the scripts out that Mask has written.
func (k Kind) Refill(ctx context.Context, in *kind.Instance) error {
	for _, name := range []string{"masked.sql", "triggers.sql"} {
		if err := k.runClient(ctx, in, k.client, []string{"--batch"}, func(path string) (stdin, stdout *os.File, err error) {
			f, err := os.Open(path)
			return f, nil, err
		}, name); err != nil {
			return err
		}
	}
	return nil
}
