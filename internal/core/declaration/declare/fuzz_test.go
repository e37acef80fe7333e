package declare_test

import (
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/declaration/declare"
)

// Whatever a TOML file looks like, an edit either fails or gives a TOML file
// in which the key has its value.
func FuzzEdit(f *testing.F) {
	for _, seed := range []string{
		"[service.a]\nrun = \"x\" # c\n", "service.a = { run = 'x', env = { A = \"}\" } } # c\n", "[service]\na.run = \"\"\"\n#\\\"\"\"\"\nb.x = [ 1, # ]\n 2 ]\n",
		"[service.a.env]\nA = '''x''''\n[service.b]\n", "[[x]]\n[service.\"a\"]\nport=1\r\n", "service = { a = {} }", "[service]\na.0=\"\"\n0=[]",
	} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if _, err := declare.RemoveService([]byte(text), "a"); err == nil {
			out, _ := declare.RemoveService([]byte(text), "a")
			var v map[string]any
			require.NoError(t, toml.Unmarshal(out, &v), "%q became %q", text, out)
			if s, ok := v["service"].(map[string]any); ok {
				require.NotContains(t, s, "a")
			}
		}
		if out, err := declare.UnsetKey([]byte(text), "a", "port"); err == nil {
			var v map[string]any
			require.NoError(t, toml.Unmarshal(out, &v), "%q became %q", text, out)
		}
		out, err := declare.SetKey([]byte(text), "a", "port", "7")
		if err != nil {
			return
		}
		var v map[string]any // what stands beside may be anything
		require.NoError(t, toml.Unmarshal(out, &v), "%q became %q", text, out)
		services, _ := v["service"].(map[string]any)
		a, _ := services["a"].(map[string]any)
		require.EqualValues(t, 7, a["port"], "%q became %q", text, out)
	})
}
