package postgres

import (
	"errors"
	"fmt"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
)

// What a server refuses is known by its code, whatever language the cluster speaks.
func TestRefusalsAreKnownByTheirCode(t *testing.T) {
	missing := &refusal{&pgconn.PgError{Code: "3D000", Message: "Datenbank »toolshed« existiert nicht"}}
	assert.EqualError(t, missing, "Datenbank »toolshed« existiert nicht")
	for _, c := range []struct {
		err  error
		is   bool
		code string
	}{
		{missing, true, "3D000"},
		{fmt.Errorf("asked: %w", missing), true, "3D000"},
		{missing, false, "42P04"},
		{errors.New("database \"toolshed\" does not exist"), false, "3D000"},
		{nil, false, "3D000"},
	} {
		assert.Equal(t, c.is, coded(c.err, c.code), "%v %s", c.err, c.code)
	}
	assert.True(t, exists(&pgconn.PgError{Code: "42710"}))
}
