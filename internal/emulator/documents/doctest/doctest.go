// Package doctest makes documents for tests.
package doctest

import (
	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
)

// JSON makes a document of extended JSON.
func JSON(t require.TestingT, text string) bson.Raw {
	var d bson.D
	require.NoError(t, bson.UnmarshalExtJSON([]byte(text), false, &d), text)
	raw, err := bson.Marshal(d)
	require.NoError(t, err)
	return raw
}
