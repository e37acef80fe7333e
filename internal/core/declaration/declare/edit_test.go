package declare_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"neighbour/internal/core/declaration/declare"
)

const commented = `# The Toolshed
[project]
name = "toolshed"   # our street's

# who has which tool
[service.ledger]
kind    = "postgres"      # the usual
version = ">=15"   # see the handbook
# two of them
databases = [
  "toolshed", # [one]
]

[service.shelf]
kind = "redis"
# -- ours --

[service.api]
run = """node \"#{server}.js""" # "run"
port = 4100 # fixed
  [service.api.env]
  # where
  URL = "${ledger.url}"

[service.page]
kind = "static"
root = "."`

func TestEditsKeepTheRest(t *testing.T) {
	for name, c := range map[string]struct {
		edit          func([]byte) ([]byte, error)
		before, after string
	}{
		"a value":                     {set("api", "port", "4200"), "port = 4100 # fixed", "port = 4200 # fixed"},
		"a value with a comment":      {set("ledger", "version", `"16"`), "version = \">=15\"   # see", "version = \"16\"   # see"},
		"a list":                      {set("ledger", "databases", "[]"), "[\n  \"toolshed\", # [one]\n]", "[]"},
		"a text of several lines":     {set("api", "run", `"x"`), `"""node \"#{server}.js"""`, `"x"`},
		"a new key":                   {set("ledger", "port", "5433"), "# see the handbook\n", "# see the handbook\nport = 5433\n"},
		"a new key in the end":        {set("page", "port", "1"), "kind = \"static\"\n", "kind = \"static\"\nport = 1\n"},
		"no key":                      {unset("api", "port"), "port = 4100 # fixed\n", ""},
		"a key that isn't there":      {unset("shelf", "port"), "", ""},
		"no service":                  {remove("ledger"), commented[strings.Index(commented, "# who"):strings.Index(commented, "[service.shelf]")], ""},
		"no service, with its tables": {remove("api"), commented[strings.Index(commented, "[service.api]"):strings.Index(commented, "[service.page]")], ""},
		"not the last":                {remove("page"), "\n[service.page]\nkind = \"static\"\nroot = \".\"", ""},
		"one more":                    {func(b []byte) ([]byte, error) { return declare.AddService(b, "bus", `kind = "nats"`), nil }, "root = \".\"", "root = \".\"\n\n[service.bus]\nkind = \"nats\"\n"},
	} {
		got, err := c.edit([]byte(commented))
		require.NoError(t, err, name)
		want := commented
		if c.before != "" {
			require.Contains(t, commented, c.before, name)
			want = strings.Replace(commented, c.before, c.after, 1)
		}
		assert.Equal(t, strings.TrimRight(want, "\n"), strings.TrimRight(string(got), "\n"), name)
	}
	for _, edit := range []func([]byte) ([]byte, error){set("nobody", "port", "1"), remove("nobody")} {
		_, err := edit([]byte(commented))
		assert.ErrorContains(t, err, `no service "nobody"`)
	}
}

func set(service, key, value string) func([]byte) ([]byte, error) {
	return func(b []byte) ([]byte, error) { return declare.SetKey(b, service, key, value) }
}

func unset(service, key string) func([]byte) ([]byte, error) {
	return func(b []byte) ([]byte, error) { return declare.UnsetKey(b, service, key) }
}

func remove(service string) func([]byte) ([]byte, error) {
	return func(b []byte) ([]byte, error) { return declare.RemoveService(b, service) }
}

func TestEditsOfOtherForms(t *testing.T) {
	for _, c := range []struct {
		src  string
		edit func([]byte) ([]byte, error)
		want string
	}{
		{"service.api.run = \"x\"\n", set("api", "port", "1"), "service.api.run = \"x\"\nservice.api.port = 1\n"},
		{"[service]\napi.run = \"x\"\n\nb.run = \"y\"", set("api", "port", "1"), "[service]\napi.run = \"x\"\napi.port = 1\n\nb.run = \"y\""},
		{"[service]\na = { run = \"}\", env = { B = \"1\" } } # c\n", set("a", "port", "1"), "[service]\na = { run = \"}\", env = { B = \"1\" }, port = 1 } # c\n"},
		{"service.a = { port = 2, run = 'x' }\n", set("a", "port", "1"), "service.a = { port = 1, run = 'x' }\n"},
		{"service.a = { port = 2, run = 'x' }\n", unset("a", "port"), "service.a = { run = 'x' }\n"},
		{"service.a = { run = 'x', port = 2 }\n", unset("a", "port"), "service.a = { run = 'x' }\n"},
		{"service.a = {}\n", set("a", "port", "1"), "service.a = { port = 1 }\n"},
		{"[service.a.env]\nX = \"1\"\n[service.a]\nrun = \"x\"", set("a", "port", "1"), "[service.a.env]\nX = \"1\"\n[service.a]\nrun = \"x\"\nport = 1\n"},
		{"[service.a]\nrun = \"x\"\n[service.b]\nrun = \"y\"\n[service.a.env]\nX = \"1\"\n", remove("a"), "[service.b]\nrun = \"y\"\n"},
		{"service.a = { run = 'x', env = { B = '1' } }\nservice.b.run = 'y'\n", remove("a"), "service.b.run = 'y'\n"},
	} {
		got, err := c.edit([]byte(c.src))
		require.NoError(t, err, c.src)
		assert.Equal(t, c.want, string(got), c.src)
	}
	_, err := declare.RemoveService([]byte("service = { a = { run = 'x' } }"), "a")
	assert.ErrorContains(t, err, "remove it by hand")
	_, err = declare.SetKey([]byte("[service.a"), "a", "port", "1")
	assert.ErrorContains(t, err, "this is not TOML")
}

// However a declaration is written, an edit changes what it is to change, and
// nothing else of what the text says.
func TestEditsChangeNothingElse(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var b strings.Builder
		names := []string{"a", "b", "c"}[:rapid.IntRange(1, 3).Draw(t, "services")]
		comment := rapid.SampledFrom([]string{"", " # x = 1", " # ]}\"'"})
		value := rapid.SampledFrom([]string{`"x"`, `'#'`, "\"\"\"\n#\"x\\\"\"\"\"", "'''a''b'''", `[ "a", ']' ]`, "[\n  1, # ]\n  2\n]", `{ x = "}", y = [{ z = 1 }] }`, "1979-05-27", "0x1F"})
		for _, name := range names {
			fmt.Fprintf(&b, "%s\n[service.%s]%s\n", comment.Draw(t, "above"), name, comment.Draw(t, "beside"))
			for _, key := range []string{"kind", "port", "k"}[rapid.IntRange(0, 2).Draw(t, "keys"):] {
				fmt.Fprintf(&b, "%s%s = %s%s\n", rapid.SampledFrom([]string{"", "  ", "\t"}).Draw(t, "indent"), key, value.Draw(t, "value"), comment.Draw(t, "after"))
			}
			if rapid.Bool().Draw(t, "table") {
				fmt.Fprintf(&b, "[service.%s.env]\nE = %s\n", name, value.Draw(t, "variable"))
			}
		}
		src := b.String()
		name := rapid.SampledFrom(names).Draw(t, "name")
		decode := func(text []byte) map[string]any {
			var v map[string]map[string]any
			require.NoError(t, toml.Unmarshal(text, &v), string(text))
			return v["service"]
		}
		check := func(got []byte, err error, change func(map[string]any)) {
			require.NoError(t, err, src)
			want := decode([]byte(src))
			change(want)
			if len(want) == 0 {
				want = nil
			}
			require.Equal(t, want, decode(got), "%s\nbecame\n%s", src, got)
		}
		got, err := declare.SetKey([]byte(src), name, "port", "7")
		check(got, err, func(m map[string]any) { m[name].(map[string]any)["port"] = int64(7) })
		got, err = declare.UnsetKey([]byte(src), name, "port")
		check(got, err, func(m map[string]any) { delete(m[name].(map[string]any), "port") })
		got, err = declare.RemoveService([]byte(src), name)
		check(got, err, func(m map[string]any) { delete(m, name) })
		check(declare.AddService([]byte(src), "new", "port = 7"), nil, func(m map[string]any) { m["new"] = map[string]any{"port": int64(7)} })
	})
}
