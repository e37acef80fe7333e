package declare_test

import (
	"testing"

	"github.com/Masterminds/semver/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/kinds/catalogue"
	"neighbour/internal/kinds/program"
)

const complete = `
[service.ledger]
kind = "postgres"
databases = ["toolshed"]
migrations = "db/changes"
seed = "db/seed.sql"

[service.api]
run = "node server.js"
prepare = [{ run = "npm ci", when = ["package-lock.json"] }]
reload = ["api/**/*.js"]
writes = ["api/uploads", "/var/tmp/toolshed"]
health = { http = "/healthz", every = "2s" }
env.DATABASE_URL = "${ledger.url}"

[service.tariffs]
kind = "outside"
health = { tcp = "127.0.0.1:7070" }

[errand.overdue]
with = "api"
run = "node overdue.js ${ledger.url}"
needs = ["tariffs"]

[env]
write = ".env.local"
keys = { VITE_API_URL = "${api.url}" }

[profile.away]
service.api.env.TARIFF_URL = "http://127.0.0.1:7071"
service.api.health = { tcp = "127.0.0.1:4100" }
service.tariffs = { kind = "static", root = "fixtures", optional = true }
`

func layers(local, kinds, profile string) (*declare.Declaration, error) {
	f := declare.Files{Path: "/home/ines/toolshed/neighbour.toml", Main: []byte(complete), Profile: profile, KindsPath: "/home/ines/.config/neighbour/kinds.toml"}
	if local != "" {
		f.Local = []byte(local)
	}
	if kinds != "" {
		f.Kinds = []byte(kinds)
	}
	return f.Parse(catalogue.All)
}

func TestCompleteDeclaration(t *testing.T) {
	d, err := layers("", "", "")
	require.NoError(t, err)
	require.Len(t, d.Errands, 1)
	assert.Equal(t, []string{"ledger", "tariffs"}, d.Errands[0].Needs, "written and referred to")
	assert.Equal(t, ".env.local", d.EnvFile.Write.Value)
	assert.True(t, d.Service("api").Listens, "the env file refers to its port")
	assert.Equal(t, []string{"away"}, d.Profiles)
	assert.Equal(t, "db/changes", d.Service("ledger").Scripts().Migrations.Value)
	assert.Equal(t, "db/seed.sql", d.Service("ledger").Scripts().Seed.File.Value)
}

func TestOverlays(t *testing.T) {
	d, err := layers("[service.api]\nrun = \"deno run server.js\"\nenv.DEBUG = \"1\"\n", "", "away")
	require.NoError(t, err)
	api := d.Service("api")
	assert.Equal(t, "deno run server.js", api.Settings.(*program.Settings).Run.String())
	assert.Equal(t, declare.LocalFileName, api.Settings.(*program.Settings).Run.Line.At.File)
	assert.Len(t, api.Env, 3, "the declaration's, the local file's and the profile's")
	assert.Equal(t, "127.0.0.1:4100", api.Health.TCP.Value)
	assert.Empty(t, api.Health.HTTP.Value, "a check of another sort takes the place of the one before")
	assert.Equal(t, "2s", api.Health.Every.String())
	assert.Equal(t, "static", d.Service("tariffs").Kind)
	assert.Nil(t, d.Service("tariffs").Health, "another kind is declared anew")
	assert.Equal(t, "away", d.Profile)

	_, err = layers("", "", "awya")
	assert.EqualError(t, err, `there is no profile "awya"; did you mean "away"?`)
	_, err = layers("[service.api]\nport = 99999\nenv.X = \"${legder.url}\"\n", "", "")
	assert.ErrorContains(t, err, "neighbour.local.toml:2:8: service.api.port: 99999 is not a port\n    2 | port = 99999")
	assert.ErrorContains(t, err, `neighbour.local.toml:3:10: service.api.env.X: there is no service "legder"`)
}

// What can be wrong, and the place and the words that say so.
func TestMistakesInTheCompleteDeclaration(t *testing.T) {
	for toml, says := range map[string]string{
		"writes = [\"../shop\"]":                              `:3:11: service.a.writes[0]: "../shop" leaves the project, and the service writes there`,
		"reload = [\"a[\"]":                                   `:3:11: service.a.reload[0]: "a[" is not a pattern of files in the project`,
		"prepare = [{ when = [\"x\"] }]":                      "service.a.prepare[0]: has no command",
		"prepare = [{ run = \"x\", wen=1 }]":                  `did you mean "when"?`,
		"[errand.b]\nwith = \"c\"\nrun = \"x ${a.prot}\"":     `did you mean ${a.port}?`,
		"[errand.b]\nwith = \"aa\"\nrun = \"x\"":              `errand.b.with: there is no service "aa"`,
		"[errand.b]\nwith = \"a\"":                            "an errand needs a command",
		"[env]\nkeys = { A = \"1\" }":                         ":3:2: env.write: names no file",
		"[env]\nwrite = \"../.env\"":                          `env.write: "../.env" leaves the project, and it is written`,
		"[env]\nwrite = \".env\"\nkeys = { \"A B\" = \"1\" }": `"A B" can't be a variable's name`,
		"[profile.b]\nproject.name = \"x\"":                   `profile.b.project: there is no key "project"`,
		"[profile.b]\nservice.a.prot = 1":                     `:4:11: profile.b.service.a.prot: there is no key "prot"`,
		"[profile.b.service.c]\nkind = \"redis\"\nport = 1\n[profile.b.service.a]\nport = 1": "profile.b.service.c.port: a has port 1 already",
		"port = 1\n[service.b]\nrun = \"x\"\nport = 2\n[profile.b]\nservice.a.port = 2":      "service.b.port: a has port 2 already (with the profile b)",
		"[profile]\nb = 3":         "profile.b: must be a table",
		"env.X = \"${self.port}\"": "stands only in the declaration of a kind",
		"[service.b]\nkind = \"postgres\"\nversion = \">=3, <2\"": `no version can meet ">=3, <2"`,
	} {
		_, err := parse(t, "[service.a]\nrun = \"x\"\n"+toml+"\n")
		assert.ErrorContains(t, err, says, toml)
	}
}

const finder = `
[kind.finder]
program = ["finderd"]
version = { args = ["-v"] }
port = 7700
keys = { language = "en" }
run = "finderd ${self.data} ${self.language}"
health = { http = "/health", within = "9s" }
facts = { url = "http://127.0.0.1:${self.port}", key = "${self.password}" }
`

func TestOwnKinds(t *testing.T) {
	d, err := layers("[service.tools]\nkind = \"finder\"\nlanguage = \"nl\"\nhealth = { every = \"1s\" }\n[service.api.env]\nK = \"${tools.key}\"\n", finder, "")
	require.NoError(t, err)
	s, k := d.Service("tools"), d.CustomKind("finder")
	language, ok := k.ValueOf(s, "language")
	assert.True(t, ok)
	assert.Equal(t, "nl", language)
	assert.Equal(t, []string{"url", "key", "host", "port"}, k.FactNames())
	assert.Equal(t, "/health", s.Health.HTTP.Value)
	assert.Equal(t, "1s 9s", s.Health.Every.String()+" "+s.Health.Within.String(), "the service's own times go before the kind's")
	assert.Contains(t, d.Service("api").Needs, "tools")

	d, err = layers(finder+"about = \"the project's\"\n[service.tools]\nkind = \"finder\"\n", finder, "")
	require.NoError(t, err)
	assert.Equal(t, "the project's", d.CustomKind("finder").About, "the project's goes before the user's")
	language, _ = d.CustomKind("finder").ValueOf(d.Service("tools"), "language")
	assert.Equal(t, "en", language)

	const base = "[kind.k]\nprogram = [\"p\"]\nrun = \"p\"\n"
	for toml, says := range map[string]string{
		"[kind.k]\nprogram = [\"p\"]":                         ":1:7: kind.k.run: a kind needs the command",
		"[kind.k]\nrun = \"p\"":                               "kind.k.program: a kind needs the program",
		"[kind.redis]\nprogram = [\"p\"]\nrun = \"p\"":        `there is a kind "redis" already`,
		base + "prot = 1":                                     `:4:1: kind.k.prot: there is no key "prot"`,
		base + "port = 0":                                     "0 is not a port",
		base + "keys = { port = \"1\" }":                      `"port" means something else already`,
		base + "version = { match = 'v\\d' }":                 "has no group that would be the version",
		base + "files = { \"a/b\" = \"\" }":                   `"a/b" is not a file's name`,
		base + "facts = { host = \"x\" }":                     "every service with a port offers it already",
		base + "facts = { url = \"${self.prt}\" }":            "did you mean ${self.port}?",
		base + "facts = { url = \"${api.url}\" }":             "a kind doesn't know the services",
		base + "health = { http = \"/\", tcp = \"a:1\" }":     "kind.k.health: has more than one check",
		base + "stop = { signal = \"STOP\" }":                 `"STOP" is not a signal to stop with`,
		base + "[service.s]\nkind = \"k\"\nlanguage = \"nl\"": `there is no key "language"`,
		base + "[service.s]\nkind = \"k\"\nversion = \"1.\"":  "is not a version constraint",
		base + "[service.s]\nkind = \"l\"":                    `known kinds: apache, beanstalkd, documents, functions, identity, k, mail`,
		base + "keys = { x = \"\" }\nfacts = { u = \"${self.x}\" }\n[service.s]\nkind = \"k\"\nx = \"${s.u}\"": "can't refer to the service itself",
		"[servise.x]": `there is no key "servise"`,
	} {
		_, err := layers(toml+"\n", "", "")
		assert.ErrorContains(t, err, says, toml)
		assert.ErrorContains(t, err, declare.LocalFileName, toml)
	}
	_, err = layers("", base+"prot = 1\n[service.x]\nrun = \"x\"", "")
	assert.ErrorContains(t, err, "/home/ines/.config/neighbour/kinds.toml:4:1: kind.k.prot")
	assert.ErrorContains(t, err, "known here: kind")
}

// A constraint is refused exactly if none of many versions meets it.
func TestConstraintsNobodyCanMeet(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		part := rapid.Custom(func(t *rapid.T) string {
			return rapid.SampledFrom([]string{"", ">", ">=", "<", "<=", "=", "!=", "~", "^"}).Draw(t, "operator") +
				rapid.StringMatching(`[0-3](\.[0-3](\.[0-3])?)?`).Draw(t, "version")
		})
		text := part.Draw(t, "first")
		for range rapid.IntRange(0, 2).Draw(t, "more") {
			text += ", " + part.Draw(t, "next")
		}
		var c declare.Constraint
		refused := c.UnmarshalText([]byte(text)) != nil
		parsed, err := semver.NewConstraint(text)
		require.NoError(t, err)
		met := false
		for x := range 6 {
			for y := range 6 {
				for z := range 6 {
					met = met || parsed.Check(semver.New(uint64(x), uint64(y), uint64(z), "", ""))
				}
			}
		}
		if refused == met {
			t.Fatalf("%q: refused %v, met %v", text, refused, met)
		}
	})
}

// An errand has an env of its own, over that of the service it names.
func TestErrandEnvOf(t *testing.T) {
	parse := func(errand string) (*declare.Declaration, error) {
		return declare.Parse([]byte("[service.api]\nrun = \"x\"\nenv = { A = \"1\", B = \"2\" }\n[errand.count]\nrun = \"y\"\n"+errand), "neighbour.toml", catalogue.All)
	}
	d, err := parse("env_of = \"api\"\nenv.B = \"own\"\n")
	require.NoError(t, err)
	assert.Equal(t, "1", d.Errands[0].Env["A"].Value)
	assert.Equal(t, "own", d.Errands[0].Env["B"].Value)
	_, err = parse("env_of = \"ap\"\n")
	assert.ErrorContains(t, err, `did you mean "api"?`)
	_, err = parse("env = { 1A = \"x\" }\n")
	assert.ErrorContains(t, err, "can't be a variable's name")
	_, err = declare.Parse([]byte("[service.api]\nrun = \"x\"\nport = \"some\"\n"), "neighbour.toml", catalogue.All)
	assert.ErrorContains(t, err, "must be a whole number")
}
