package declare_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/kinds/catalogue"
)

func TestChanged(t *testing.T) {
	base := "[service.a]\nrun = \"x\"\nport = 1\nenv = { A = \"1\", B = \"2\" }\nhealth = { tcp = \"h:1\" }\nprepare = [{ run = \"x\", when = [\"y\"] }]\n"
	for after, want := range map[string][]string{
		base: nil,
		"# moved\n[service.a.health]\ntcp = \"h:1\"\n[service.a]\nprepare = [{ when = [\"y\"], run = 'x' }]\nport = 0x1\nrun = \"\"\"x\"\"\"\nenv.B = \"2\"\nenv.A = \"1\"\n": nil,
		"[service.a]\nrun = \"y\"\nenv = { A = \"2\", C = \"3\" }\nhealth = { tcp = \"h:2\" }\nprepare = [{ run = \"x\", when = [\"z\"] }]\n":                                 {"env.A", "env.B", "env.C", "health", "port", "prepare", "run"},
		"[service.a]\nrun = [\"x\"]\nport = 1\nenv = { A = \"1\", B = \"2\" }\nhealth = { tcp = \"h:1\" }\nprepare = []\n":                                                    {"prepare", "run"},
	} {
		x, err := parse(t, base)
		require.NoError(t, err)
		y, err := parse(t, after)
		require.NoError(t, err, after)
		assert.Equal(t, want, declare.Changed(x.Service("a"), y.Service("a")), after)
		assert.Equal(t, want, declare.Changed(y.Service("a"), x.Service("a")), "from either side")
	}
	x, err := parse(t, "[kind.k]\nprogram = [\"p\"]\nrun = \"p\"\n[kind.l]\nprogram = [\"p\"]\nrun = \"p\"\n[service.a]\nkind = \"k\"\n")
	require.NoError(t, err)
	y, err := parse(t, "[kind.k]\nprogram = [\"p\"]\nrun = \"p -x\"\n[kind.l]\nrun = \"p\"\nprogram = [\"p\"]\n[service.a]\nkind = \"k\"\n")
	require.NoError(t, err)
	assert.Equal(t, []string{"k"}, declare.ChangedKinds(x, y))
}

func TestReferences(t *testing.T) {
	d, err := parse(t, "[service.engine]\nkind = \"php\"\n[service.db]\nkind = \"postgres\"\n[service.site]\nkind = \"nginx\"\nroot = \".\"\nphp = \"${engine}\"\nenv.A = \"${db.url} ${site.port} ${env.HOME}\"\nhealth = { http = \"http://${db.host}/\" }\n")
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"db.url", "site.port", "db.host", "engine"}, d.Service("site").References())
}

// An edit changes what it names, and no other key of any service.
func TestEditsAreTheOnlyChange(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		src := "# c\n[service.a]\nrun = \"x\" # y\n\n[service.b]\nrun = \"z\"\nport = 7\n[service.b.env]\nA = \"1\"\n"
		name := rapid.SampledFrom([]string{"a", "b"}).Draw(r, "service")
		key := rapid.SampledFrom([]string{"port", "run", "dir"}).Draw(r, "key")
		value := map[string]string{"port": "8", "run": `"other"`, "dir": `"d"`}[key]
		before, err := declare.Parse([]byte(src), "/p/neighbour.toml", catalogue.All)
		require.NoError(r, err)
		out, err := declare.SetKey([]byte(src), name, key, value)
		require.NoError(r, err)
		after, err := declare.Parse(out, "/p/neighbour.toml", catalogue.All)
		require.NoError(r, err, string(out))
		for _, s := range []string{"a", "b"} {
			want := []string(nil)
			if s == name {
				want = []string{key}
			}
			require.Equal(r, want, declare.Changed(before.Service(s), after.Service(s)), string(out))
		}
	})
}
