package discover_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/discover"
)

// What different manifests and scripts lead to, told by what must be in the
// declaration.
func TestManifests(t *testing.T) {
	for name, c := range map[string]struct {
		files map[string]string
		has   []string
		not   []string
	}{
		"yarn":        {map[string]string{"package.json": `{"scripts": {"dev": "next dev -p 3100"}, "dependencies": {"mongoose": "8"}}`, "yarn.lock": ""}, []string{`run = "yarn run dev"`, "port = 3100", `prepare = [{ run = "yarn install --frozen-lockfile", when = ["yarn.lock"] }]`}, []string{"mongo"}},
		"pnpm":        {map[string]string{"package.json": `{"scripts": {"serve": "vite preview"}, "engines": {"node": "18.x || 20.x"}}`, "pnpm-lock.yaml": ""}, []string{`run = "pnpm run serve"`, "port = 5173", "pnpm install"}, []string{"uses"}},
		"a library":   {map[string]string{"package.json": `{"scripts": {"build": "tsc", "test": "x"}}`}, nil, []string{"[service"}},
		"workspaces":  {map[string]string{"package.json": `{"private": true}`, "apps/shop/package.json": `{"scripts": {"start": "node -r x index.js"}}`, "packages/lib/package.json": `{}`}, []string{"[service.shop]", `dir = "apps/shop"`}, []string{"lib"}},
		"not ours":    {map[string]string{"node_modules/x/package.json": `{"scripts": {"start": "x"}}`, "vendor/y/package.json": `{"scripts": {"start": "x"}}`}, nil, []string{"[service"}},
		"fastapi":     {map[string]string{"pyproject.toml": "[project]\nrequires-python = \">=3.11\"\ndependencies = [\"fastapi>=0.1\", \"asyncpg\"]\n", "main.py": "import os\nos.environ[\"DB_HOST\"]; os.getenv('DB_PORT')\n"}, []string{"uvicorn main:app --reload --port 8000", `uses = { python = ">=3.11" }`, `DB_HOST = "${database.host}"`, `DB_PORT = "${database.port}"`, `kind = "postgres"`}, nil},
		"flask":       {map[string]string{"requirements.txt": "Flask==3\nPyMySQL\nredis\n", "app.py": ""}, []string{"flask --app app run --port 5000", `kind = "mariadb"`, `kind = "redis"`, `DATABASE_URL = "${database.url}"`}, nil},
		"poetry":      {map[string]string{"pyproject.toml": "[tool.poetry.dependencies]\npython = \"^3.12\"\naio-pika = \"*\"\nparamiko = \"*\"\npaho-mqtt = \"*\"\n", "server.py": "port = 8081\n"}, []string{"python3 server.py", "port = 8081", `kind = "rabbitmq"`, `kind = "mqtt"`}, nil},
		"rack":        {map[string]string{"Gemfile": "gem 'puma'\ngem 'dalli'\n", "config.ru": ""}, []string{"bundle exec puma -p 9292", `kind = "memcached"`, `MEMCACHED_ADDRESS = "${memory.address}"`}, nil},
		"plain php":   {map[string]string{"index.php": "<?php", ".env": "DB_DRIVER=pgsql\nDB_HOST=db\nDB_NAME=tools\n"}, []string{`root = "."`, `php = "${php}"`, `databases = ["tools"]`, `kind = "postgres"`}, nil},
		"jobs":        {map[string]string{"composer.json": `{"require": {"pda/pheanstalk": "5", "php-mqtt/client": "1", "ext-intl": "*"}}`, "web/index.php": ""}, []string{`kind = "beanstalkd"`, `root = "web"`, `extensions = ["intl"]`, `BEANSTALKD_ADDRESS = "${jobs.address}"`}, nil},
		"by its port": {map[string]string{"package.json": `{"scripts": {"start": "node x"}}`, ".env": "DATABASE_HOST=localhost\nDATABASE_PORT=3306\nDATABASE_USER=u\n"}, []string{`kind = "mariadb"`, `DATABASE_USER = "${database.user}"`}, nil},
		"elsewhere":   {map[string]string{"package.json": `{"scripts": {"start": "node x"}}`, ".env": "DB_HOST=db.example.org\nDB_PORT=5432\nREDIS_HOST=10.0.0.7\n"}, nil, []string{"postgres", "redis"}},
		"a test's":    {map[string]string{"package.json": `{"scripts": {"start": "node x"}}`, ".env.test": "CACHE_URL=redis://localhost/5\n"}, []string{`kind = "redis"`}, []string{"cache.url}/5"}},
		"broken":      {map[string]string{"package.json": `{"scripts": `, "composer.json": "[", "pyproject.toml": "= 1", "Gemfile": "\x00"}, nil, []string{"[service"}},
		"odd names":   {map[string]string{"My App 2/package.json": `{"scripts": {"start": "PORT=4000 node x"}}`, "env/package.json": `{"scripts": {"start": "node y"}}`}, []string{"[service.my-app]", `dir = "My App 2"`, "[service.app]"}, nil},
	} {
		p, err := discover.Read(files(t, c.files))
		require.NoError(t, err, name)
		text, _ := p.Render()
		if strings.Contains(text, "[service") {
			assert.NoError(t, p.Check(), "%s\n%s", name, text)
		}
		for _, h := range c.has {
			assert.Contains(t, text, h, name)
		}
		for _, h := range c.not {
			assert.NotContains(t, text, h, name)
		}
	}
}

func TestInstalledAndKinds(t *testing.T) {
	assert.Contains(t, discover.Kinds(), "postgres")
	version, missing := discover.Installed("mail")
	assert.Empty(t, version+missing, "what is built in is neither")
	version, missing = discover.Installed("no-such-kind")
	assert.Empty(t, version+missing)
	for _, k := range discover.Kinds() {
		version, missing := discover.Installed(k)
		assert.False(t, version != "" && missing != "", k)
	}
	v := discover.Variable{Name: "A", Value: "x ${@.url}${@.port}", Target: &discover.Service{Name: "ledger"}}
	b, err := v.MarshalText()
	require.NoError(t, err)
	assert.Equal(t, "A=x ${ledger.url}${ledger.port}", string(b))
}
