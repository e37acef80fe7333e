package declare_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/kinds/catalogue"
)

const around = `
[service.ledger]
kind = "sqlite"
migrations = "db/changes"
seed = { run = "node seed.js ${api.url}", with = "${api}" }
[service.books]
kind = "sqlite"
seed = "db/seed.sql"
[service.shelf]
kind = "redis"
[service.api]
run = "x"
port = 4100
needs = ["books"]
env.CACHE = "${shelf.url}"
[service.worker]
run = "x"
`

func TestErrandsNeedWhatTheirServiceNeeds(t *testing.T) {
	text := `
[service.books]
kind = "sqlite"
seed = "db/seed.sql"
[service.shelf]
kind = "redis"
[service.postbox]
kind = "mail"
[service.api]
run = "x"
needs = ["books"]
env.CACHE = "${shelf.url}"
[service.worker]
run = "x"
[errand.migrate]
about = "bring it up to date"
with = "${api}"
run = "migrate"
before = ["api", "${worker}"]
when = ["**/*.py"]
[errand.overdue]
run = ["overdue", "${postbox.smtp_url}"]
ask = "Go on?"
terminal = true
[errand.told]
run = "tell"
on = { ready = "api", failed = "worker" }
`
	d, err := declare.Parse([]byte(text), "neighbour.toml", catalogue.All)
	require.NoError(t, err)
	migrate := d.Errand("migrate")
	assert.Equal(t, []string{"books", "shelf"}, migrate.Needs)
	assert.Equal(t, "api", migrate.WithService())
	assert.Equal(t, []string{"books", "shelf"}, d.Service("worker").Needs, "it waits for what runs before it")
	assert.Equal(t, []string{"books", "shelf"}, d.Service("api").Needs)
	assert.Equal(t, 2, d.Plan.Step("worker"))
	assert.Equal(t, []*declare.Errand{migrate}, d.Before("worker"))
	assert.Empty(t, d.Before("books"))
	assert.Equal(t, []string{"postbox"}, d.Errand("overdue").Needs, "what it refers to")
	assert.Equal(t, map[string]string{"ready": "api", "failed": "worker"}, d.Errand("told").On.Events())
	assert.Equal(t, "db/seed.sql", d.Service("books").Scripts().Seed.File.Value)
	assert.False(t, d.Service("books").Scripts().Seed.IsZero())
	assert.True(t, d.Service("api").Scripts().Seed.IsZero())
}

func TestSeeds(t *testing.T) {
	_, err := declare.Parse([]byte(around), "neighbour.toml", catalogue.All)
	require.NoError(t, err, "a seed that refers to what needs nothing of its database")
	for text, says := range map[string]string{
		"seed = 3":                                  "must be a file of SQL or a table with a command, not a whole number",
		"seed = { with = \"api\" }":                 `has no command`,
		"seed = { run = \"x\", with = \"apu\" }":    `there is no service "apu"`,
		"seed = { run = \"x\", file = \"y\" }":      `there is no key "file"`,
		"seed = \"../x.sql\"":                       "leaves the project",
		"migrations = \"../db\"":                    "leaves the project",
		"migrations = [\"a\"]":                      "must be a text, not a list",
		"file = \"../x.db\"":                        "leaves the project",
		"seed = { run = \"x ${api.url}\" }":         "services need each other in a circle",
		"migrations = \"db\"\nseed = \"\"\nrun = 1": `there is no key "run"`,
	} {
		_, err := declare.Parse([]byte("[service.api]\nrun = \"x\"\nport = 4100\nneeds = [\"ledger\"]\n[service.ledger]\nkind = \"sqlite\"\n"+text+"\n"), "neighbour.toml", catalogue.All)
		assert.ErrorContains(t, err, says, text)
	}
}

func TestMistakesOfErrands(t *testing.T) {
	for text, says := range map[string]string{
		"[errand.x]\n": "an errand needs a command",
		"[errand.x]\nrun = \"x\"\nwith = \"apu\"\n":              `there is no service "apu"`,
		"[errand.x]\nrun = \"x\"\nbefore = [\"apu\"]\n":          `there is no service "apu"`,
		"[errand.x]\nrun = \"x\"\non = { ready = \"apu\" }\n":    `there is no service "apu"`,
		"[errand.x]\nrun = \"x\"\non = { begun = \"api\" }\n":    `there is no key "begun"`,
		"[errand.x]\nrun = \"x\"\non = \"ready\"\n":              "must be a table, not a text",
		"[errand.x]\nrun = \"x\"\nwhen = [\"../a\"]\n":           "is not a pattern of files in the project",
		"[errand.x]\nrun = \"x\"\ndir = \"../a\"\n":              "leaves the project",
		"[errand.check]\nrun = \"x\"\n":                          `"check" can't be an errand's name`,
		"[errand.snapshot]\nrun = \"x\"\n":                       `"snapshot" can't be an errand's name`,
		"[errand.X]\nrun = \"x\"\n":                              `"X" can't be a name here`,
		"[errand.x]\nrun = \"\"\n":                               "is empty",
		"[errand.x]\nrun = \"x ${api.nothing}\"\n":               "offers",
		"[errand.x]\nrun = \"x\"\non.ready = \"api\"\nask=\"y\"": "runs by itself, so that nobody is there to be asked",
	} {
		_, err := declare.Parse([]byte("[service.api]\nrun = \"x\"\nport = 4100\n"+text), "neighbour.toml", catalogue.All)
		if assert.Error(t, err, text) {
			assert.ErrorContains(t, err, says, text)
		}
	}
}
