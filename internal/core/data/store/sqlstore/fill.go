package sqlstore

import (
	"context"
	"errors"

	"neighbour/internal/core/data/store"
)

// toldProblems is how many problems of a filling are told.
const toldProblems = 50

// errUndo ends a transaction in which nothing is to be left.
var errUndo = &store.FixedError{Why: "undone"}

// Fill adds rows in one transaction.
func (s *Source) Fill(ctx context.Context, collection string, rows []store.Filling, dry bool) (store.Filled, error) {
	done := store.Filled{Problems: []store.FillProblem{}}
	database, name, err := s.place(ctx, collection)
	if err != nil {
		return done, err
	}
	ctx, cancel := context.WithTimeout(ctx, askLimit)
	defer cancel()
	problem := func(line int, err error) {
		if done.Wrong++; len(done.Problems) < toldProblems {
			done.Problems = append(done.Problems, store.FillProblem{Line: line, Says: err.Error()})
		}
	}
	err = s.with(ctx, database, func(c Conn) error {
		return s.during(ctx, c, s.server.Dialect().Write, func() error {
			described, err := s.server.Table(ctx, c, database, name)
			if err != nil {
				return err
			}
			t := &table{Table: described, database: database, name: name, sql: s.qualified(name)}
			for _, r := range rows {
				statement, err := s.statement(t, store.Act{Action: store.Insert, Values: r.Values})
				if err != nil {
					problem(r.Line, err)
					continue
				}
				if err := s.try(ctx, c, statement); err != nil {
					if !answered(err) {
						return err
					}
					problem(r.Line, err)
					continue
				}
				done.Rows++
			}
			if dry || done.Wrong > 0 {
				return errUndo
			}
			return nil
		})
	})
	if errors.Is(err, errUndo) {
		err = nil
	}
	return done, err
}

// try carries out a statement so that the transaction goes on if it is refused.
func (s *Source) try(ctx context.Context, c Conn, statement string) error {
	if err := exec(ctx, c, "SAVEPOINT neighbour_row"); err != nil {
		return err
	}
	if err := exec(ctx, c, statement); err != nil {
		return errors.Join(err, exec(ctx, c, "ROLLBACK TO SAVEPOINT neighbour_row"))
	}
	return exec(ctx, c, "RELEASE SAVEPOINT neighbour_row")
}
