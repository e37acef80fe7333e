package mask

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"net/url"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// A value is found wherever it stands in a file, in each usual form.
func TestSearch(t *testing.T) {
	const value = "ines.brandt@example.org/\"x\" é"
	quoted, err := json.Marshal(value)
	require.NoError(t, err)
	forms := map[string][]byte{
		"as it is": []byte(value), "hex": []byte(hex.EncodeToString([]byte(value))), "in a query": []byte(url.QueryEscape(value)), "in JSON": quoted,
		"in base64": []byte(base64.StdEncoding.EncodeToString([]byte(`{"email":"` + value + `"}`))),
		"a byte on": []byte(base64.StdEncoding.EncodeToString([]byte(`{"mail": "` + value + `"}`))), "two on": []byte(base64.URLEncoding.EncodeToString([]byte(`xx` + value + `yy`))),
	}
	for name, form := range forms {
		for _, at := range []int{0, 17, chunk - 3, chunk + 40, 2*chunk - 1} {
			dir := t.TempDir()
			require.NoError(t, os.MkdirAll(filepath.Join(dir, "part", "below"), 0o700))
			file := append(append(bytes.Repeat([]byte("."), at), form...), "after"...)
			require.NoError(t, os.WriteFile(filepath.Join(dir, "part", "below", "file"), file, 0o600))
			var leak *LeakError
			require.ErrorAs(t, search(t.Context(), filepath.Join(dir, "part"), []string{"not there", value}), &leak, "%s at %d", name, at)
			assert.Equal(t, "part/below/file", leak.File)
			assert.NotContains(t, leak.Error(), "brandt")
			assert.NoError(t, search(t.Context(), filepath.Join(dir, "part"), []string{"not there"}))
		}
	}
	assert.NoError(t, search(t.Context(), filepath.Join(t.TempDir(), "nothing"), nil))
}

// Base64 of any text has one of the forms, whatever is around the value.
func TestBase64Around(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		value := rapid.StringMatching(`[a-z@.]{12,40}`).Draw(t, "value")
		around := base64.StdEncoding.EncodeToString([]byte(rapid.String().Draw(t, "before") + value + rapid.String().Draw(t, "after")))
		found := false
		for _, form := range encodings(value) {
			found = found || bytes.Contains([]byte(around), []byte(form))
		}
		assert.True(t, found, around)
	})
}
