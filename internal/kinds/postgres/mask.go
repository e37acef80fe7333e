package postgres

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"neighbour/internal/core/kind"
)

// CheckMask says what is wrong with a rule, which names a column of a table.
func (Kind) CheckMask(rule string) error {
	_, _, err := kind.ColumnRule(rule)
	return err
}

// columnQuery finds the columns that a rule means, in tables that hold rows of their own.
const columnQuery = `
select a.attrelid::regclass::text, quote_ident(a.attname), a.attnotnull, coalesce(nullif(t.typtype, 'b'), t.typcategory)::text, t.typname::text,
       case when t.typcategory = 'S' and a.atttypmod > 4 then a.atttypmod - 4 else 0 end
from pg_attribute a
join pg_class c on c.oid = a.attrelid
join pg_namespace n on n.oid = c.relnamespace
join pg_type t on t.oid = a.atttypid
where c.relkind in ('r', 'p') and a.attnum > 0 and not a.attisdropped and a.attgenerated = '' and a.attname = $2
  and (c.relname = $1 or n.nspname || '.' || c.relname = $1) and n.nspname not in ('pg_catalog', 'information_schema', 'neighbour')`

// struckOut returns the value that stands in a column for what was struck out of it: none, or where
// there must be one, one that tells nothing and that is another in each row.
func struckOut(notNull bool, category, name string, length int) (string, error) {
	switch {
	case !notNull:
		return "NULL", nil
	case category == "S" && length > 0:
		return fmt.Sprintf("left(n || '-masked-%s', %d)", kind.MaskTag(), length), nil
	case category == "S":
		return "n || '-masked-" + kind.MaskTag() + "'", nil
	case category == "N":
		return "-n", nil
	case category == "B":
		return "false", nil
	case category == "D":
		return "timestamp 'epoch' + n * interval '1 day'", nil
	case name == "uuid":
		return "gen_random_uuid()", nil
	case name == "json" || name == "jsonb":
		return "'{}'", nil
	case name == "bytea":
		return "''", nil
	}
	return "", fmt.Errorf("it must have a value of type %s, and none is known that tells nothing; let it be null, or mask it in a migration", name)
}

// Mask strikes out columns in all databases that have them, and writes all tables anew: what was
// struck out would be in their files otherwise.
func (Kind) Mask(ctx context.Context, in *kind.Instance, rules []string) (sample []string, err error) {
	names, err := databases(ctx, in)
	if err != nil {
		return nil, err
	}
	met := map[string]bool{}
	for _, name := range names {
		some, err := maskIn(ctx, in, name, rules, met)
		if err != nil {
			return nil, err
		}
		sample = append(sample, some...)
	}
	for _, r := range rules {
		if !met[r] {
			return nil, fmt.Errorf("%q names nothing: there is no such column in %s", r, strings.Join(names, ", "))
		}
	}
	return sample, nil
}

func databases(ctx context.Context, in *kind.Instance) ([]string, error) {
	c, err := superConn(ctx, in, "postgres")
	if err != nil {
		return nil, err
	}
	defer c.Close(ctx)
	rows, err := c.Query(ctx, "select datname from pg_database where datallowconn and datname <> 'template0' order by 1")
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

func superConn(ctx context.Context, in *kind.Instance, database string) (*pgx.Conn, error) {
	password, err := in.Secret("password")
	if err != nil {
		return nil, err
	}
	return pgx.Connect(ctx, address(in, superuser, password, database))
}

func maskIn(ctx context.Context, in *kind.Instance, database string, rules []string, met map[string]bool) (sample []string, err error) {
	c, err := superConn(ctx, in, database)
	if err != nil {
		return nil, err
	}
	defer c.Close(ctx)
	sets := map[string][]string{}
	var samples []string
	for _, rule := range rules {
		table, column, err := kind.ColumnRule(rule)
		if err != nil {
			return nil, err
		}
		rows, err := c.Query(ctx, columnQuery, table, column)
		if err != nil {
			return nil, err
		}
		var relation, name, category, typeName string
		var notNull bool
		var length int
		if _, err := pgx.ForEachRow(rows, []any{&relation, &name, &notNull, &category, &typeName, &length}, func() error {
			met[rule] = true
			value, err := struckOut(notNull, category, typeName, length)
			if err != nil {
				return fmt.Errorf("%s: %w", rule, err)
			}
			sets[relation] = append(sets[relation], name+" = "+value)
			samples = append(samples, fmt.Sprintf("select left(%[1]s::text, 200) from %[2]s where octet_length(%[1]s::text) >= %[3]d group by 1 having count(*) = 1 limit %[4]d", name, relation, kind.SampleLength, kind.SampleSize))
			return nil
		}); err != nil {
			return nil, err
		}
	}
	if len(sets) == 0 {
		return nil, nil
	}
	for _, query := range samples {
		rows, err := c.Query(ctx, query)
		if err != nil {
			return nil, err
		}
		some, err := pgx.CollectRows(rows, pgx.RowTo[string])
		if err != nil {
			return nil, fmt.Errorf("%s: %w", query, err)
		}
		sample = append(sample, some...)
	}
	// Triggers would write down elsewhere what is struck out here.
	steps := []string{"set session_replication_role = replica"}
	// What has changed stands there until triggers have sent it.
	forget := "do $$ begin if to_regclass('neighbour.change') is not null then truncate neighbour.change; end if; end $$"
	for relation, set := range sets {
		slices.Sort(set)
		steps = append(steps, fmt.Sprintf("update %s t set %s from (select tableoid as of, ctid as at, row_number() over () as n from %[1]s) numbered where t.ctid = numbered.at and t.tableoid = numbered.of", relation, strings.Join(set, ", ")))
	}
	slices.Sort(steps[1:])
	steps = append(steps, forget)
	views, err := c.Query(ctx, "select format('refresh materialized view %s', oid::regclass) from pg_class where relkind = 'm' and relispopulated")
	if err != nil {
		return nil, err
	}
	refresh, err := pgx.CollectRows(views, pgx.RowTo[string])
	if err != nil {
		return nil, err
	}
	steps = append(append(steps, refresh...), "analyze", "vacuum full", "checkpoint")
	for _, sql := range steps {
		if _, err := c.Exec(ctx, sql); err != nil {
			return nil, fmt.Errorf("%s: %w", firstWords(sql), err)
		}
	}
	return sample, nil
}

func firstWords(sql string) string {
	if i := strings.Index(sql, " from ("); i > 0 {
		return sql[:i]
	}
	return sql
}

// Scrub begins the write-ahead log anew, which has what the tables had before.
func (Kind) Scrub(ctx context.Context, in *kind.Instance) error {
	out, err := in.Command(ctx, filepath.Join(in.Program.Dir, "pg_resetwal"), "-D", cluster(in)).CombinedOutput()
	if err != nil {
		return errors.New("pg_resetwal: " + strings.TrimSpace(string(out)))
	}
	return nil
}
