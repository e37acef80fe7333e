package sqlite

import (
	"context"
	"database/sql"
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
func (Kind) Mask(ctx context.Context, in *kind.Instance, rules []string) error {
	db, err := open(in)
	if err != nil {
		return err
	}
	defer db.Close()
	for _, rule := range rules {
		table, column, err := kind.ColumnRule(rule)
		if err != nil {
			return err
		}
		var notNull bool
		var declared string
		err = db.QueryRowContext(ctx, "select \"notnull\" or pk > 0, upper(type) from pragma_table_info(?) where name = ? collate nocase", table, column).Scan(&notNull, &declared)
		if err == sql.ErrNoRows {
			return fmt.Errorf("%q names nothing: %s has no such column", rule, path(in))
		}
		if err != nil {
			return err
		}
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
			return fmt.Errorf("%s: %s", rule, message(err))
		}
	}
	for _, sql := range []string{"analyze", "vacuum", "pragma wal_checkpoint(truncate)"} {
		if _, err := db.ExecContext(ctx, sql); err != nil {
			return fmt.Errorf("%s: %s", sql, message(err))
		}
	}
	return nil
}

// Scrub has nothing to do: the file was written anew.
func (Kind) Scrub(context.Context, *kind.Instance) error { return nil }
