package sqlstore

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"neighbour/internal/core/data/sqlscript"
	"neighbour/internal/core/data/store"
	"neighbour/internal/core/machine/lazyregexp"
	"neighbour/internal/core/machine/words"
)

// Language is what questions are asked in.
func (s *Source) Language() string { return "SQL" }

// askLimit is how long a question may take.
const askLimit = 10 * time.Minute

// Ask has the server carry out a statement.
func (s *Source) Ask(ctx context.Context, q store.Question) (store.Page, error) {
	ctx, cancel := context.WithTimeout(ctx, askLimit)
	defer cancel()
	q = q.Bounded()
	statement, write := strings.TrimRight(strings.TrimSpace(q.Statement), "; \t\n"), q.Write
	if statement == "" {
		return store.Page{}, &store.AnswerError{Message: "there is no statement"}
	}
	d := s.server.Dialect()
	reads, err := d.reads(statement)
	switch {
	case err != nil:
		return store.Page{}, err
	case !reads && !write:
		return store.Page{}, &store.WritesError{Statement: statement}
	}
	p := store.Page{Rows: []store.Row{}, Fixed: "the answer to a question"}
	began := time.Now()
	// What a statement that may write leaves behind is nobody's but its own.
	err = s.lend(ctx, s.server.Databases()[0], !write, func(c Conn) error {
		ask := func() error {
			affected, err := c.Run(ctx, statement, func(columns []store.Column) { p.Columns = columns }, func(values [][]byte) bool {
				if len(p.Rows) == q.Limit {
					p.More = true
					return false
				}
				row := store.Row{}
				for i, v := range values {
					row.Values = append(row.Values, value(v, formIn(c, i, p.Columns[i].Is), q.Wide))
				}
				p.Rows = append(p.Rows, row)
				return true
			})
			if err == nil && len(p.Columns) == 0 {
				p.Says = d.says(statement, affected)
			}
			return err
		}
		if write { // some statements can't be in a transaction
			for _, free := range d.Free {
				if err := exec(ctx, c, free); err != nil {
					return err
				}
			}
			return ask()
		}
		err := s.during(ctx, c, d.Read, ask)
		if err != nil && d.Wrote(err) {
			return &store.WritesError{Statement: statement}
		}
		return err
	})
	p.Took = float64(time.Since(began).Microseconds()) / 1000
	return p, err
}

// says tells what came of a statement that has no rows.
func (d *Dialect) says(statement string, affected int64) string {
	one, err := d.single(statement)
	if err == nil && !slices.Contains([]string{"INSERT", "UPDATE", "DELETE", "REPLACE", "MERGE", "WITH", "COPY", "LOAD"}, one.First()) {
		return "done"
	}
	return words.Count(int(affected), "row") + " changed"
}

// writesFile finds what has a server write a file.
var writesFile = lazyregexp.New(`(?i)\binto\s+(outfile|dumpfile)\b`)

// reads reports whether a statement looks as if it only read. That it does is seen
// to by the server; but a server lets some statements pass in any transaction.
func (d *Dialect) reads(text string) (bool, error) {
	one, err := d.single(text)
	if err != nil {
		return false, err
	}
	first := one.First()
	if first == "PRAGMA" && strings.Contains(text, "=") {
		return false, nil
	}
	if slices.Contains(d.Reads, first) {
		return !writesFile.MatchString(text), nil
	}
	// A misspelt word is for the server to refuse, which says where it is. Of
	// what a server may carry out inside of blocks or comments none is let by.
	return first != "" && !slices.Contains(verbs, first) && !strings.ContainsAny(text, ";/"), nil
}

// verbs are the words that statements of any of the servers begin with, but for
// those that only read.
var verbs = strings.Fields(`
	ABORT ALTER ANALYZE ATTACH BACKUP BEGIN BINLOG CACHE CALL CHANGE CHECK CHECKPOINT CHECKSUM CLONE CLOSE CLUSTER COMMENT COMMIT COPY CREATE
	DEALLOCATE DECLARE DELETE DETACH DISCARD DO DROP END EXECUTE FETCH FLUSH GET GRANT HANDLER IMPORT INSERT INSTALL KILL LISTEN LOAD LOCK
	MERGE MOVE NOTIFY OPTIMIZE PREPARE PURGE REASSIGN REFRESH REINDEX RELEASE RENAME REPACK REPAIR REPLACE RESET RESIGNAL RESTART REVOKE ROLLBACK
	SAVEPOINT SECURITY SET SHUTDOWN SIGNAL START STOP TRUNCATE UNINSTALL UNLISTEN UNLOCK UPDATE USE VACUUM WAIT XA
	ANALYSE EXPLAIN PRAGMA SELECT WITH VALUES TABLE SHOW DESCRIBE DESC HELP`)

// single makes sure that a text is one statement.
func (d *Dialect) single(text string) (sqlscript.Statement, error) {
	all, err := sqlscript.Split(d.Script, text)
	var bad *sqlscript.Error
	switch {
	case errors.As(err, &bad):
		return sqlscript.Statement{}, &store.AnswerError{Message: fmt.Sprintf("line %d: %s", bad.Line, bad.What)}
	case err != nil:
		return sqlscript.Statement{}, err
	case len(all) == 0:
		return sqlscript.Statement{}, &store.AnswerError{Message: "there is no statement"}
	case len(all) > 1:
		return sqlscript.Statement{}, &store.AnswerError{Message: fmt.Sprintf("there are %d statements; ask one at a time", len(all))}
	}
	return all[0], nil
}
