package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"

	"neighbour/internal/core/kind"
)

// CheckMask says what is wrong with a rule, which names a column of a table.
func (Kind) CheckMask(rule string) error {
	_, _, err := kind.ColumnRule(rule)
	return err
}

// Mask strikes out columns, and writes the whole file anew: what was struck out would be in it
// otherwise.
func (Kind) Mask(ctx context.Context, in *kind.Instance, rules []string) (sample []string, err error) {
	db, err := open(in)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.SetMaxOpenConns(1) // what is begun counts for all that follows
	// Triggers would write down elsewhere what is masked here. They are recreated in the end.
	triggers, err := withoutTriggers(ctx, db)
	if err != nil {
		return nil, err
	}
	for _, rule := range rules {
		table, column, err := kind.ColumnRule(rule)
		if err != nil {
			return nil, err
		}
		var notNull bool
		var declared string
		err = db.QueryRowContext(ctx, "select \"notnull\" or pk > 0, upper(type) from pragma_table_info(?) where name = ? collate nocase", table, column).Scan(&notNull, &declared)
		if err == sql.ErrNoRows {
			return nil, fmt.Errorf("%q names nothing: %s has no such column", rule, path(in))
		}
		if err != nil {
			return nil, err
		}
		some, err := sampleOf(ctx, db, table, column)
		if err != nil {
			return nil, fmt.Errorf("%s: %s", rule, message(err))
		}
		sample = append(sample, some...)
		value := "NULL"
		switch {
		case !notNull:
		case strings.Contains(declared, "INT"), strings.Contains(declared, "REAL"), strings.Contains(declared, "NUM"):
			value = "-rowid"
		case strings.Contains(declared, "BLOB"):
			value = "x''"
		default:
			value = "rowid || '-masked-" + kind.MaskTag() + "'"
		}
		if _, err := db.ExecContext(ctx, fmt.Sprintf("update %s set %s = %s", quote(table), quote(column), value)); err != nil {
			return nil, fmt.Errorf("%s: %s", rule, message(err))
		}
	}
	for _, sql := range append(triggers, "commit", "analyze", "vacuum", "pragma wal_checkpoint(truncate)") {
		if _, err := db.ExecContext(ctx, sql); err != nil {
			return nil, fmt.Errorf("%s: %s", sql, message(err))
		}
	}
	return sample, nil
}

// withoutTriggers begins a transaction in which the database has no triggers, and returns what makes
// them again.
func withoutTriggers(ctx context.Context, db *sql.DB) (again []string, err error) {
	rows, err := db.QueryContext(ctx, "select name, sql from sqlite_schema where type = 'trigger'")
	if err != nil {
		return nil, err
	}
	steps := []string{"begin immediate"}
	for rows.Next() {
		var name, text string
		if err := rows.Scan(&name, &text); err != nil {
			return nil, errors.Join(err, rows.Close())
		}
		steps, again = append(steps, "drop trigger "+quote(name)), append(again, text)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return nil, err
	}
	for _, step := range steps {
		if _, err := db.ExecContext(ctx, step); err != nil {
			return nil, err
		}
	}
	return again, nil
}

// sampleOf returns some of the values of a column that one row alone has.
func sampleOf(ctx context.Context, db *sql.DB, table, column string) (out []string, err error) {
	rows, err := db.QueryContext(ctx, fmt.Sprintf("select cast(%[1]s as text) from %[2]s where length(cast(%[1]s as text)) >= %[3]d group by 1 having count(*) = 1 limit %[4]d", quote(column), quote(table), kind.SampleLength, kind.SampleSize))
	if err != nil {
		return nil, err
	}
	for rows.Next() {
		var v string
		if err := rows.Scan(&v); err != nil {
			return nil, errors.Join(err, rows.Close())
		}
		out = append(out, v)
	}
	return out, errors.Join(rows.Err(), rows.Close())
}

// Scrub has nothing to do: the file was written anew.
func (Kind) Scrub(context.Context, *kind.Instance) error { return nil }
