package sqlscript

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestSplit(t *testing.T) {
	for name, c := range map[string]struct {
		dialect Dialect
		script  string
		want    []string // statements, each with its line before it
		err     string
	}{
		"several":           {PostgreSQL, "\ufeffcreate table a (b int);\n\n-- why; not\ninsert into a\nvalues (1);", []string{"1 create table a (b int)", "4 insert into a\nvalues (1)"}, ""},
		"nothing":           {PostgreSQL, " ;; -- nothing\n/* at all; */", nil, ""},
		"quotes":            {PostgreSQL, `select ';', 'it''s;', E'\';', ";" ; select 2`, []string{`1 select ';', 'it''s;', E'\';', ";"`, "1 select 2"}, ""},
		"a backslash":       {PostgreSQL, `select '\'; select 2`, []string{`1 select '\'`, "1 select 2"}, ""},
		"dollars":           {PostgreSQL, "do $$ begin; $a$; end $$; select $1, a$b$c; select $q$;$$;$q$", []string{"1 do $$ begin; $a$; end $$", "1 select $1, a$b$c", "1 select $q$;$$;$q$"}, ""},
		"nested comments":   {PostgreSQL, "/* a /* b; */ c; */ select 1;", []string{"1 select 1"}, ""},
		"rules":             {PostgreSQL, "create rule r as on insert to a do (delete from b; delete from c); select 1", []string{"1 create rule r as on insert to a do (delete from b; delete from c)", "1 select 1"}, ""},
		"a body":            {PostgreSQL, "create or replace function f() returns int begin atomic select case when true then 1 end; select 2; end; select 1", []string{"1 create or replace function f() returns int begin atomic select case when true then 1 end; select 2; end", "1 select 1"}, ""},
		"rows":              {PostgreSQL, "copy a (b) from stdin;\n1\n;\n\\.\nselect 1;", []string{"1 copy a (b) from stdin|1\n;\n", "5 select 1"}, ""},
		"rows without end":  {PostgreSQL, "copy a from stdin;\n1\n", nil, `line 2: the rows that begin here don't end with a line \.`},
		"a dump's own":      {PostgreSQL, "\\restrict abc\nselect 1;\n\\unrestrict abc\n", []string{"2 select 1"}, ""},
		"psql's command":    {PostgreSQL, "select 1;\n\\i other.sql\n", nil, `line 2: \i is a command of psql and no SQL; take it out`},
		"an open text":      {PostgreSQL, "select 1;\nselect 'a;\n", nil, "line 2: the text in quotes that begins here is not closed"},
		"an open body":      {PostgreSQL, "\ndo $x$ begin", nil, "line 2: the text that begins with $x$ here is not closed"},
		"an open comment":   {MariaDB, "/* a", nil, "line 1: the comment that begins here is not closed"},
		"delimiters":        {MariaDB, "DELIMITER //\ncreate procedure p() begin select 1; end//\ndelimiter ;\nselect 2;", []string{"2 create procedure p() begin select 1; end", "4 select 2"}, ""},
		"MariaDB's quotes":  {MariaDB, "select '\\';', \"a\\\"b;\", `c``;` ; # one;\nselect 1--1;", []string{"1 select '\\';', \"a\\\"b;\", `c``;`", "2 select 1--1"}, ""},
		"for some versions": {MariaDB, "/*!40101 SET a=1; */;\nselect 1\\G", []string{"1 /*!40101 SET a=1; */", "2 select 1"}, ""},
		"a file of others":  {MariaDB, "source other.sql", nil, "line 1: source is a command of the client mariadb and no SQL; take it out"},
		"a trigger":         {SQLite, "create temp trigger t after insert on a begin\n update a set b=case when 1 then 2 end; delete from c;\nend; select [;];", []string{"1 create temp trigger t after insert on a begin\n update a set b=case when 1 then 2 end; delete from c;\nend", "3 select [;]"}, ""},
		"a dot":             {SQLite, "select 1;\n.mode csv\n", nil, "line 2: .mode is a command of sqlite3 and no SQL; take it out"},
	} {
		t.Run(name, func(t *testing.T) {
			found, err := Split(c.dialect, c.script)
			if c.err != "" {
				assert.EqualError(t, err, c.err)
				return
			}
			require.NoError(t, err)
			var got []string
			for _, s := range found {
				text := string(rune('0'+s.Line)) + " " + s.Text
				if s.Copies {
					text += "|" + s.Data
				}
				got = append(got, text)
			}
			assert.Equal(t, c.want, got)
		})
	}
}

// Statements that are put together with what may stand between them come out
// as they went in, each on its line.
func TestWhatIsPutTogetherComesApart(t *testing.T) {
	parts := [][]string{
		PostgreSQL: {"select 1", "select ';\n'", "do $$;\n$$", "create function f() begin atomic select 1;\nend", `select "a;"`, "select (1;2)"},
		MariaDB:    {"select 1", `select '\';'`, "select `;`", "/*!1 select; */", "select \"\n;\""},
		SQLite:     {"select 1", "select [;]", "create trigger t after delete on a begin\nselect 1; end", "select ';\n'"},
	}
	between := []string{"\n", "\n\n", " -- ;\n", " /* ; ' */ ", "\t\r\n"}
	rapid.Check(t, func(r *rapid.T) {
		d := Dialect(rapid.IntRange(0, 2).Draw(r, "dialect"))
		statements := rapid.SliceOf(rapid.SampledFrom(parts[d])).Draw(r, "statements")
		var b strings.Builder
		var want []Statement
		for _, s := range statements {
			b.WriteString(rapid.SampledFrom(between).Draw(r, "between"))
			want = append(want, Statement{Text: s, Line: 1 + strings.Count(b.String(), "\n")})
			b.WriteString(s + ";")
		}
		got, err := Split(d, b.String())
		require.NoError(r, err)
		assert.Equal(r, want, got)
	})
}

func TestControl(t *testing.T) {
	for text, want := range map[string]Control{
		"begin": Begin, "/* now */ start transaction": Begin, "Commit and chain": End, "rollback": End, "rollback to savepoint a": None,
		"rollback work to a": None, "end": End, "start replica": None, "-- begin\nselect 1": None, "": None,
	} {
		assert.Equal(t, want, Statement{Text: text}.Control(), text)
	}
}

// Whatever a script is, splitting it ends, and what it returns is from it.
func FuzzSplit(f *testing.F) {
	f.Add(0, "create table a (b int); copy a from stdin;\n1\n\\.\n")
	f.Add(1, "delimiter //\nselect 1//")
	f.Add(2, "create trigger t begin select 1; end;")
	f.Fuzz(func(t *testing.T, dialect int, script string) {
		found, _ := Split(Dialect(uint(dialect)%3), script)
		lines := 1 + strings.Count(script, "\n")
		for _, s := range found {
			if s.Text == "" || !strings.Contains(script, s.Text) || s.Line < 1 || s.Line > lines {
				t.Errorf("%q on line %d", s.Text, s.Line)
			}
		}
	})
}
