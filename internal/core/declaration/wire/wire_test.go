package wire_test

import (
	"errors"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/declaration/wire"
	"neighbour/internal/core/kind"
	"neighbour/internal/kinds/catalogue"
)

// source resolves for a small project; password is the ledger's.
func source(t testing.TB, password string) wire.Source {
	d, err := declare.Parse([]byte(`
[project]
name = "toolshed"
[service.ledger]
kind = "postgres"
[service.api]
run = "api"
port = 4100
[service.api.env]
DATABASE_URL = "${ledger.url}"
WHERE = "${project.name} in ${project.dir}"
PLAIN = "5 $$"
USER_OF = "${env.WHO:-nobody}"
[service.web]
run = "web"
port = 4200
env.PORT = "own"
`), "/srv/toolshed/neighbour.toml", catalogue.All)
	require.NoError(t, err)
	return wire.Source{
		Declaration: d,
		Facts: func(service string) (map[string]kind.Fact, error) {
			if service != "ledger" {
				return nil, errors.New("not known here")
			}
			return map[string]kind.Fact{"url": {Value: "postgres://u:" + password + "@h/d", Secret: true}, "password": {Value: password, Secret: true}}, nil
		},
		Getenv: func(name string) (string, bool) { return "", name == "EMPTY" },
	}
}

func TestEnvironment(t *testing.T) {
	s := source(t, "pw")
	vars, err := s.Environment(s.Declaration.Service("api"), 4100)
	require.NoError(t, err)
	assert.Regexp(t, `^neighbour\.toml:\d+:\d+$`, vars[0].Where)
	for i := range vars {
		vars[i].Where = ""
	}
	assert.Equal(t, []wire.Variable{
		{Name: "DATABASE_URL", Value: "postgres://u:pw@h/d", Declared: "${ledger.url}", From: []string{"ledger.url"}, Secret: true},
		{Name: "PLAIN", Value: "5 $", Declared: "5 $$"},
		{Name: "PORT", Value: "4100", Because: "the service's port"},
		{Name: "USER_OF", Value: "nobody", Declared: "${env.WHO:-nobody}", From: []string{"env.WHO:-nobody"}},
		{Name: "WHERE", Value: "toolshed in /srv/toolshed", Declared: "${project.name} in ${project.dir}", From: []string{"project.name", "project.dir"}},
	}, vars)
	assert.Equal(t, "from ledger.url", vars[0].Why())
	assert.Equal(t, []string{"A=1", "DATABASE_URL=postgres://u:pw@h/d"}, wire.Merge([]string{"A=1", "DATABASE_URL=other"}, vars[:1]))

	vars, err = s.Environment(s.Declaration.Service("web"), 4200)
	require.NoError(t, err)
	require.Len(t, vars, 1)
	assert.Equal(t, "own", vars[0].Value, "its own word wins")
}

func TestWhatCantBeResolved(t *testing.T) {
	s := source(t, "pw")
	for text, says := range map[string]string{
		"${env.GONE}":    "the variable GONE is not set; set it before the start, or write a default: ${env.GONE:-value}",
		"${api.url}":     "not known here",
		"${ledger.size}": `ledger offers no fact "size"`,
		"${ledger":       "has no }",
	} {
		_, err := s.Expand(text)
		assert.ErrorContains(t, err, says)
	}
	assert.Equal(t, "toolshed!", s.ForDisplay("${project.name}!"))
	assert.Equal(t, "at ${ledger.url}", s.ForDisplay("at ${ledger.url}"), "a secret is not shown")
	assert.Equal(t, "${env.GONE}", s.ForDisplay("${env.GONE}"))
	v, err := s.Expand("${env.EMPTY}")
	assert.NoError(t, err)
	assert.Empty(t, v, "set and empty is not unset")
}

// awkward are values that shells and readers of env files stumble over.
var awkward = rapid.Custom(func(t *rapid.T) string {
	pieces := rapid.SliceOfN(rapid.SampledFrom([]string{" ", "'", `"`, "$", "$HOME", "`id`", "\\", "\\n", "#", "a", "é", "\n", "=", "*", "!", "$(id)", "&", ";", "~", "-"}), 0, 8).Draw(t, "pieces")
	s := ""
	for _, p := range pieces {
		s += p
	}
	return s
})

// A value means the same to a real shell wherever a reference stands.
func TestReferencesInShellLines(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		value := awkward.Draw(r, "value")
		s := source(t, value)
		argv, err := s.Argv(declare.Command{Line: declare.Text{Value: `printf '%s|' ${ledger.password} "<${ledger.password}>" '<${ledger.password}>' && true`}})
		require.NoError(t, err)
		out, err := exec.Command(argv[0], argv[1:]...).CombinedOutput()
		require.NoError(t, err, string(out))
		assert.Equal(r, value+"|<"+value+">|<"+value+">|", string(out))
	})
}

func TestArgv(t *testing.T) {
	s := source(t, "two words")
	for line, want := range map[string][]string{
		"psql ${ledger.password} -x": {"psql", "two words", "-x"},
		"psql | cat":                 {"/bin/sh", "-c", "psql | cat"},
	} {
		argv, err := s.Argv(declare.Command{Line: declare.Text{Value: line}})
		require.NoError(t, err)
		assert.Equal(t, want, argv)
	}
	argv, err := s.Argv(declare.Command{Args: []declare.Text{{Value: "a b"}, {Value: "${ledger.password}|"}}})
	require.NoError(t, err)
	assert.Equal(t, []string{"a b", "two words|"}, argv)
}

func TestQuoteShellSurvivesAShell(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		value := awkward.Draw(r, "value")
		out, err := exec.Command("/bin/sh", "-c", "export A="+wire.QuoteShell(value)+"; printf %s \"$A\"").Output()
		require.NoError(t, err)
		assert.Equal(r, value, string(out))
	})
}
