package mariadb

import (
	"errors"
	"testing"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/data/migrate"
)

// What the server says of a statement, with the line that it means.
func TestRefusals(t *testing.T) {
	for name, c := range map[string]struct {
		answer mysql.MySQLError
		want   migrate.ServerError
	}{
		"its line": {mysql.MySQLError{Message: "You have an error near 'x' at line 3"}, migrate.ServerError{Message: "You have an error near 'x'", Line: 2}},
		"no line":  {mysql.MySQLError{Message: "Duplicate entry '1'"}, migrate.ServerError{Message: "Duplicate entry '1'"}},
		"no table": {mysql.MySQLError{Number: 1146, Message: "no"}, migrate.ServerError{Message: "no", NoTable: true, Gone: true}},
		"there":    {mysql.MySQLError{Number: 1050, Message: "no"}, migrate.ServerError{Message: "no", Exists: true}},
		"a column": {mysql.MySQLError{Number: 1060, Message: "no"}, migrate.ServerError{Message: "no", Exists: true}},
		"gone":     {mysql.MySQLError{Number: 1051, Message: "no"}, migrate.ServerError{Message: "no", Gone: true}},
	} {
		var got *migrate.ServerError
		require.ErrorAs(t, refused(&c.answer), &got, name)
		assert.Equal(t, c.want, *got, name)
	}
	other := errors.New("connection reset")
	assert.Equal(t, other, refused(other))
	assert.NoError(t, refused(nil))
}
