package postgres

import (
	"errors"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/data/migrate"
)

// What the server says of a statement, with the line that it means.
func TestRefusals(t *testing.T) {
	for name, c := range map[string]struct {
		answer pgconn.PgError
		want   migrate.ServerError
	}{
		"a place":       {pgconn.PgError{Message: "no", Position: 12}, migrate.ServerError{Message: "no", Line: 2}},
		"after letters": {pgconn.PgError{Message: "no", Position: 9}, migrate.ServerError{Message: "no", Line: 1}},
		"at its start":  {pgconn.PgError{Message: "no", Position: 1}, migrate.ServerError{Message: "no"}},
		"a row":         {pgconn.PgError{Message: "no", Where: "COPY loan, line 3, column id: \"x\""}, migrate.ServerError{Message: "no", Line: 5}},
		"a whole row":   {pgconn.PgError{Message: "no", Where: "COPY loan, line 12: \"x\""}, migrate.ServerError{Message: "no", Line: 14}},
		"more":          {pgconn.PgError{Message: "no", Detail: "It is there.", Hint: "Take another."}, migrate.ServerError{Message: "no; It is there; Take another"}},
		"no table":      {pgconn.PgError{Message: "no", Code: "42P01"}, migrate.ServerError{Message: "no", NoTable: true, Gone: true}},
		"there":         {pgconn.PgError{Message: "no", Code: "42P07"}, migrate.ServerError{Message: "no", Exists: true}},
		"gone":          {pgconn.PgError{Message: "no", Code: "42704"}, migrate.ServerError{Message: "no", Gone: true}},
		"alone":         {pgconn.PgError{Message: "no", Code: "25001"}, migrate.ServerError{Message: "no", Alone: true}},
	} {
		err := refused(t.Context(), "sélect\n1\nfrom x", &c.answer)
		var got *migrate.ServerError
		require.ErrorAs(t, err, &got, name)
		assert.Equal(t, c.want, *got, name)
	}
	other := errors.New("connection reset")
	assert.Equal(t, other, refused(t.Context(), "select 1", other))
	assert.True(t, exists(&pgconn.PgError{Code: "42P04"}))
	assert.False(t, exists(other))
}
