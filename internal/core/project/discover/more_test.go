package discover_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/project/discover"
)

// What different manifests and scripts lead to, told by what must be in the
// declaration.
func TestManifests(t *testing.T) {
	for name, c := range map[string]struct {
		files map[string]string
		has   []string
		not   []string
	}{
		"yarn":              {map[string]string{"package.json": `{"scripts": {"dev": "next dev -p 3100"}, "dependencies": {"mongoose": "8"}}`, "yarn.lock": ""}, []string{`run = "yarn run dev"`, "port = 3100", `prepare = [{ run = "yarn install --frozen-lockfile", when = ["yarn.lock"], makes = ["node_modules"] }]`}, []string{"mongo"}},
		"pnpm":              {map[string]string{"package.json": `{"scripts": {"serve": "vite preview"}, "engines": {"node": "18.x || 20.x"}}`, "pnpm-lock.yaml": ""}, []string{`run = "pnpm run serve --port $PORT"`, "port = 5173", "pnpm install"}, []string{"uses"}},
		"go, module v2":     {map[string]string{"go.mod": "module example.org/porch/v2\n\ngo 1.26\n", "main.go": "package main\n"}, []string{"[service.porch]", `run = "go run ."`}, []string{"[service.v"}},
		"a library":         {map[string]string{"package.json": `{"scripts": {"build": "tsc", "test": "x"}}`}, nil, []string{"[service"}},
		"workspaces":        {map[string]string{"package.json": `{"private": true}`, "apps/shop/package.json": `{"scripts": {"start": "node -r x index.js"}}`, "packages/lib/package.json": `{}`}, []string{"[service.shop]", `dir = "apps/shop"`}, []string{"lib"}},
		"not ours":          {map[string]string{"node_modules/x/package.json": `{"scripts": {"start": "x"}}`, "vendor/y/package.json": `{"scripts": {"start": "x"}}`}, nil, []string{"[service"}},
		"fastapi":           {map[string]string{"pyproject.toml": "[project]\nrequires-python = \">=3.11\"\ndependencies = [\"fastapi>=0.1\", \"asyncpg\"]\n", "main.py": "import os\nos.environ[\"DB_HOST\"]; os.getenv('DB_PORT')\n"}, []string{".venv/bin/python -m uvicorn main:app --reload --port $PORT", "port = 8000", `run = ".venv/bin/pip install -e ."`, `uses = { python = ">=3.11" }`, `DB_HOST = "${database.host}"`, `DB_PORT = "${database.port}"`, `kind = "postgres"`}, nil},
		"flask":             {map[string]string{"requirements.txt": "Flask==3\nPyMySQL\nredis\n", "app.py": ""}, []string{".venv/bin/python -m flask --app app run --reload --port $PORT", `kind = "mariadb"`, `kind = "redis"`, `DATABASE_URL = "${database.url}"`}, nil},
		"poetry":            {map[string]string{"pyproject.toml": "[tool.poetry.dependencies]\npython = \"^3.12\"\naio-pika = \"*\"\nparamiko = \"*\"\npaho-mqtt = \"*\"\n", "server.py": "port = 8081\n"}, []string{"python server.py", "port = 8081", `kind = "rabbitmq"`, `kind = "mqtt"`}, nil},
		"rack":              {map[string]string{"Gemfile": "gem 'puma'\ngem 'dalli'\n", "config.ru": ""}, []string{"bundle exec puma -p 9292", `kind = "memcached"`, `MEMCACHED_ADDRESS = "${memory.address}"`}, nil},
		"plain php":         {map[string]string{"index.php": "<?php", ".env": "DB_DRIVER=pgsql\nDB_HOST=db\nDB_NAME=tools\n"}, []string{`root = "."`, `php = "${php}"`, `databases = ["tools"]`, `kind = "postgres"`}, nil},
		"jobs":              {map[string]string{"composer.json": `{"require": {"pda/pheanstalk": "5", "php-mqtt/client": "1", "ext-intl": "*"}}`, "web/index.php": ""}, []string{`kind = "beanstalkd"`, `root = "web"`, `extensions = ["intl"]`, `BEANSTALKD_ADDRESS = "${jobs.address}"`}, nil},
		"by its port":       {map[string]string{"package.json": `{"scripts": {"start": "node x"}}`, ".env": "DATABASE_HOST=localhost\nDATABASE_PORT=3306\nDATABASE_USER=u\n"}, []string{`kind = "mariadb"`, `DATABASE_USER = "${database.user}"`}, nil},
		"elsewhere":         {map[string]string{"package.json": `{"scripts": {"start": "node x"}}`, ".env": "DB_HOST=db.example.org\nDB_PORT=5432\nREDIS_HOST=10.0.0.7\n"}, nil, []string{"postgres", "redis"}},
		"a test's":          {map[string]string{"package.json": `{"scripts": {"start": "node x"}}`, ".env.test": "CACHE_URL=redis://localhost/5\n"}, []string{`kind = "redis"`}, []string{"cache.url}/5"}},
		"no ending":         {map[string]string{"package.json": `{"scripts": {"start": "node -r dotenv/config ./bin/www"}}`, "bin/www": "var port = normalizePort(process.env.PORT || '3000');\nprocess.env.CACHE_URL\n", ".env": "CACHE_URL=redis://localhost\n"}, []string{"port = 3000", `CACHE_URL = "${cache.url}"`}, nil},
		"the same port":     {map[string]string{"api/package.json": `{"scripts": {"dev": "fastify start -w app.js"}, "dependencies": {"pg": "8"}}`, "web/package.json": `{"scripts": {"dev": "next dev"}}`, "admin/package.json": `{"scripts": {"dev": "vite"}}`, "desk/package.json": `{"scripts": {"dev": "vite"}}`}, []string{"port = 3000", "[service.web]\nrun = \"npm run dev\"\nport = \"any\"\n", "[service.admin]\nrun = \"npm run dev -- --port $PORT\"\nport = 5173\n", "[service.desk]\nrun = \"npm run dev -- --port $PORT\"\nport = \"any\"\n"}, nil},
		"no port read":      {map[string]string{"index.php": "<?php mysqli_connect(getenv('DB_HOST'), getenv('DB_USER'));"}, []string{"kind = \"mariadb\"\nport = 3306\n", `DB_HOST = "${database.host}"`}, []string{"DB_PORT"}},
		"who gives way":     {map[string]string{"a/package.json": `{"scripts": {"start": "node a"}}`, "a/a.js": "app.listen(4000)\n", "b/package.json": `{"scripts": {"start": "node b"}}`, "b/b.js": "app.listen(4000)\n"}, []string{"[service.a]"}, []string{"[service.b]"}},
		"members":           {map[string]string{"package.json": `{"workspaces": ["apps/*"], "scripts": {"dev": "npm run dev --workspaces"}, "devDependencies": {"x": "1"}}`, "package-lock.json": "{}", "apps/web/package.json": `{"scripts": {"dev": "vite"}, "devDependencies": {"vite": "7"}}`, "apps/api/package.json": `{"scripts": {"dev": "node ."}, "dependencies": {"pg": "8"}}`, "tools/package.json": `{"scripts": {"start": "node ."}, "dependencies": {"x": "1"}}`}, []string{"dir = \"apps/web\"\nprepare = [{ run = \"npm ci\", dir = \".\", when = [\"package-lock.json\"], makes = [\"node_modules\"] }]", "dir = \"apps/api\"\nprepare = [{ run = \"npm ci\", dir = \".\"", "dir = \"tools\"\nprepare = [{ run = \"npm install\", when"}, []string{"[service.toolshed]", "--workspaces"}},
		"pnpm's own":        {map[string]string{"package.json": `{"scripts": {"dev": "pnpm -r dev", "start": "node server.js"}}`, "pnpm-lock.yaml": "", "pnpm-workspace.yaml": "packages:\n  - 'packages/**'\n", "packages/a/web/package.json": `{}`, "packages/web/package.json": `{"scripts": {"dev": "vite"}, "devDependencies": {"vite": "7"}}`}, []string{`prepare = [{ run = "pnpm install --frozen-lockfile", dir = ".", when = ["pnpm-lock.yaml"]`}, []string{"pnpm run dev\"\nprepare"}},
		"only its own":      {map[string]string{"package.json": `{"workspaces": {"packages": ["libs/*"]}, "scripts": {"dev": "turbo dev"}}`, "libs/ui/package.json": `{"scripts": {"build": "tsc"}}`}, []string{`run = "npm run dev"`}, nil},
		"told which":        {map[string]string{"a/package.json": `{"scripts": {"start": "node ."}}`, "a/index.js": "app.listen(process.env.PORT || 4000)\n", "b/package.json": `{"scripts": {"start": "node b"}}`, "b/b.js": "app.listen(4000)\n"}, []string{"[service.a]\nrun = \"npm start\"\nport = \"any\"\n", "[service.b]\nrun = \"npm start\"\nport = 4000\n"}, nil},
		"its main file":     {map[string]string{"package.json": `{"main": "lib/start", "scripts": {"start": "NODE_ENV=dev node ."}}`, "lib/start.js": "server.listen(4010)\n", "index.js": "server.listen(4011)\n"}, []string{"port = 4010"}, nil},
		"flask alone":       {map[string]string{"app.py": "from flask import Flask\napp = Flask(__name__)\n"}, []string{`run = "python3 -m flask --app app run --reload --port $PORT"`, "port = 5000"}, []string{"prepare"}},
		"flask package":     {map[string]string{"pyproject.toml": "[project]\nname = \"shed\"\ndependencies = [\"flask\"]\n", "shed/__init__.py": "from flask import Flask\ndef create_app():\n    return Flask(__name__)\n"}, []string{"-m flask --app shed run"}, nil},
		"flask in a venv":   {map[string]string{".venv/bin/python": "", "app.py": "import flask\nsite = flask.Flask(__name__)\n"}, []string{`run = ".venv/bin/python -m flask --app app run`}, []string{"pip install"}},
		"fastapi in app":    {map[string]string{"requirements.txt": "fastapi\nuvicorn\n", "app/main.py": "from fastapi import FastAPI\n\napi = FastAPI()\n"}, []string{"-m uvicorn app.main:api --reload --port $PORT"}, nil},
		"fastapi in src":    {map[string]string{"src/shed/main.py": "import fastapi\napp = fastapi.FastAPI()\n"}, []string{"-m uvicorn --app-dir src shed.main:app"}, nil},
		"python unwatched":  {map[string]string{"requirements.txt": "x\n", "server.py": "port = 8081\n"}, []string{`reload = ["**/*.py"]`}, nil},
		"sinatra":           {map[string]string{"Gemfile": "gem 'sinatra'\ngem 'puma'\n", "app.rb": "require \"sinatra\"\nget('/') { 'shed' }\n"}, []string{`run = "bundle exec ruby app.rb -p $PORT"`, "port = 4567", "bundle install", `reload = ["**/*.rb"]`}, nil},
		"pages":             {map[string]string{"public/index.html": "<h1>shed</h1>"}, []string{`kind = "static"`, `root = "public"`}, nil},
		"go, any port":      {map[string]string{"go.mod": "module example.org/porch\n\ngo 1.26\n", "main.go": "package main\nvar p = os.Getenv(\"PORT\")\n"}, []string{`port = "any"`}, nil},
		"nest":              {map[string]string{"package.json": `{"scripts": {"start": "nest start", "start:dev": "nest start --watch", "start:prod": "node dist/main", "start:debug": "nest start --debug"}}`, "src/main.ts": "await app.listen(process.env.PORT ?? 3000)"}, []string{`run = "npm run start:dev"`, "port = 3000"}, []string{"start:prod", "start:debug"}},
		"a type checker":    {map[string]string{"package.json": `{"scripts": {"dev": "vite dev", "check:watch": "type-checker --watch", "lint:watch": "x", "css:watch": "styles --watch"}}`}, []string{`run = "npm run dev -- --port $PORT"`}, []string{"check:watch", "lint", "css:watch"}},
		"pg by itself":      {map[string]string{"package.json": `{"scripts": {"start": "node server.js"}, "dependencies": {"pg": "8"}}`, "server.js": "const {Pool} = require('pg'); new Pool()"}, []string{`PGHOST = "${database.host}"`, `PGPASSWORD = "${database.password}"`, `PGDATABASE = "${database.database}"`}, []string{"DATABASE_URL"}},
		"pg's host alone":   {map[string]string{"package.json": `{"scripts": {"start": "node server.js"}, "dependencies": {"pg": "8"}}`, "server.js": "process.env.PGHOST"}, []string{`PGHOST = "${database.host}"`, `PGUSER = "${database.user}"`}, []string{"DATABASE_URL"}},
		"knexfile":          {map[string]string{"package.json": `{"scripts": {"start": "node server.js"}, "dependencies": {"knex": "3", "pg": "8"}}`, "server.js": "", "knexfile.js": "module.exports = { development: { client: 'pg', connection: { host: '127.0.0.1', port: 5433, database: 'shed', user: 'ines', password: 'let me in' } } }"}, []string{"kind = \"postgres\"\nusers = [\"ines\"]\nport = 5433\n", `passwords = { ines = "let me in" }`, `databases = ["shed"]`}, []string{"DATABASE_URL"}},
		"knexfile, env":     {map[string]string{"package.json": `{"scripts": {"start": "node server.js"}, "dependencies": {"knex": "3", "pg": "8"}}`, "server.js": "", "knexfile.js": "module.exports = { client: 'pg', connection: process.env.SHED_DB_URL }", ".env.example": "SHED_DB_URL=postgres://localhost/shed\n"}, []string{`SHED_DB_URL = "${database.url}"`, `databases = ["shed"]`}, []string{"users"}},
		"sequelize":         {map[string]string{"package.json": `{"scripts": {"start": "node server.js"}, "dependencies": {"sequelize": "6", "pg": "8"}}`, "server.js": "", "config/config.json": `{"development": {"username": "ines", "password": null, "database": "shed", "host": "127.0.0.1", "dialect": "postgres"}, "production": {"host": "db.example.org", "dialect": "postgres"}}`}, []string{"port = 5432", `users = ["ines"]`, `databases = ["shed"]`}, []string{"DATABASE_URL", "passwords"}},
		"prisma":            {map[string]string{"package.json": `{"scripts": {"start": "node server.js"}, "dependencies": {"@prisma/client": "6"}}`, "package-lock.json": "{}", "server.js": "", "prisma/schema.prisma": "datasource db {\n  provider = \"postgresql\"\n  url = env(\"SHED_URL\")\n}\n"}, []string{`{ run = "npx prisma generate", when = ["prisma/schema.prisma"] }]`, `SHED_URL = "${database.url}"`, "[errand.migrate]", `run = "npx prisma db push"`, `when = ["prisma/schema.prisma"]`}, nil},
		"knex":              {map[string]string{"package.json": `{"scripts": {"start": "node server.js"}, "dependencies": {"knex": "3", "pg": "8"}}`, "server.js": "", "knexfile.js": "module.exports = { client: 'pg', connection: { host: '127.0.0.1', user: 'shed', database: 'shed' } }", "migrations/1.js": ""}, []string{"[errand.migrate]", `run = "npx knex migrate:latest"`, `before = ["toolshed"]`, `when = ["migrations/**"]`}, nil},
		"sequelize, script": {map[string]string{"package.json": `{"scripts": {"start": "node server.js", "db:migrate": "sequelize-cli db:migrate"}, "dependencies": {"pg": "8"}, "devDependencies": {"sequelize-cli": "6"}}`, "server.js": "", "config/config.json": `{"development": {"dialect": "postgres", "host": "127.0.0.1", "database": "shed"}}`, "migrations/1.js": ""}, []string{"[errand.migrate]", `run = "npm run db:migrate"`, `when = ["migrations/**"]`}, []string{"errand.migrate2", "once = true"}},
		"django, mail":      {map[string]string{"manage.py": "", "shed/settings.py": "EMAIL_HOST = 'localhost'\nEMAIL_PORT = 1025\n"}, []string{"kind = \"mail\"\nport = 1025\n", "[errand.migrate]", `before = ["toolshed"]`}, []string{"once = true"}},
		"digits":            {map[string]string{"shop2/package.json": `{"scripts": {"start": "node x"}}`, "2024-app/package.json": `{"scripts": {"start": "node x"}}`}, []string{"[service.shop2]", "[service.app]"}, nil},
		"addresses":         {map[string]string{"package.json": `{"scripts": {"start": "node x"}}`, ".env.example": "S3_ENDPOINT=http://localhost:9000\nOIDC_ISSUER=http://localhost:8180\n"}, []string{`kind = "objects"`, `kind = "identity"`, "S3_ENDPOINT", "OIDC_ISSUER"}, nil},
		"broken":            {map[string]string{"package.json": `{"scripts": `, "composer.json": "[", "pyproject.toml": "= 1", "Gemfile": "\x00"}, nil, []string{"[service"}},
		"odd names":         {map[string]string{"My App 2/package.json": `{"scripts": {"start": "PORT=4000 node x"}}`, "env/package.json": `{"scripts": {"start": "node y"}}`}, []string{"[service.my-app-2]", `dir = "My App 2"`, "[service.app]"}, nil},
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
	assert.Empty(t, discover.Installed("mail").Version+discover.Installed("mail").Missing, "what is built in is neither")
	assert.Empty(t, discover.Installed("no-such-kind"))
	for _, k := range discover.Kinds() {
		here := discover.Installed(k)
		assert.False(t, here.Version != "" && here.Missing != "", k)
	}
	t.Setenv("PATH", t.TempDir())
	s := &discover.Service{On: true, Kind: "program", Lines: []string{`run = "node server.js"`}}
	assert.Equal(t, "node is not installed", s.Here().Missing)
	assert.Equal(t, "nodejs", s.Here().Packages.Debian)
	what, packages := (&discover.Proposal{Services: []*discover.Service{s, s, {Kind: "redis"}}}).Missing()
	assert.Equal(t, []string{"node is not installed"}, what)
	assert.Len(t, packages, 1)
	v := discover.Variable{Name: "A", Value: "x ${@.url}${@.port}", Target: &discover.Service{Name: "ledger"}}
	b, err := v.MarshalText()
	require.NoError(t, err)
	assert.Equal(t, "A=x ${ledger.url}${ledger.port}", string(b))
}

func lines(p *discover.Proposal, name string) string {
	text, owner := p.Render()
	var out []string
	for i, l := range strings.Split(text, "\n") {
		if i < len(owner) && owner[i] == name {
			out = append(out, l)
		}
	}
	return strings.Join(out, "\n")
}

// Of a package's scripts those that run on and those that run once are
// proposed or offered, each with why it is off.
func TestScripts(t *testing.T) {
	p := read(t, map[string]string{
		"package.json": `{"scripts": {"dev": "node --watch server.js", "start": "node server.js", "worker": "node worker.js", "migrate": "node migrate.js", "migrate:down": "x", "seed": "node seed.js", "test": "x", "build": "x", "worker:build": "x", "dev:css": "x"}, "dependencies": {"pg": "8"}}`,
		"server.js":    "process.env.DATABASE_URL", "worker.js": "process.env.DATABASE_URL; process.env.QUEUE_URL",
		"package-lock.json": "{}", ".env.example": "DATABASE_URL=postgres://localhost/shed\nQUEUE_URL=amqp://localhost\n",
	})
	on := map[string]bool{}
	for _, s := range p.Services {
		on[s.Name] = s.On
		assert.Equal(t, s.On, s.Off == "", s.Name)
	}
	assert.Equal(t, map[string]bool{"database": true, "database2": false, "queue": true, "toolshed": true, "toolshed-start": false, "worker": true, "seed": false, "documents": false, "objects": false, "cache": false, "mail": false}, on)
	main := lines(p, "toolshed")
	assert.Contains(t, main, `run = "npm run dev"`)
	assert.Contains(t, main, `makes = ["node_modules"]`)
	worker := lines(p, "worker")
	assert.Contains(t, worker, `env_of = "${toolshed}"`)
	assert.NotContains(t, worker, "DATABASE_URL", "it has that from the other")
	require.Len(t, p.Errands, 1)
	assert.Equal(t, "npm run migrate", p.Errands[0].Run)
	assert.Equal(t, "toolshed", p.Errands[0].With.Name)
	b, err := json.Marshal(p)
	require.NoError(t, err)
	assert.NotContains(t, string(b), `"=`)
	empty, err := discover.Read(files(t, nil))
	require.NoError(t, err)
	b, err = json.Marshal(empty)
	require.NoError(t, err)
	assert.Contains(t, string(b), `"files":[]`)
	added := p.Add()
	assert.Equal(t, "service", added.Name)
	assert.Contains(t, lines(p, "service"), `run = "npm start"`)
}

// An app in PHP tells of its database by its configuration and how it
// connects.
func TestPages(t *testing.T) {
	p := read(t, map[string]string{
		"index.php":         "<?php require 'config.php'; new mysqli(DB_HOST);",
		"config.sample.php": "<?php\ndefine('DB_NAME', 'toolshed');\ndefine('DB_PASSWORD', 'secret');",
	})
	text, _ := p.Render()
	assert.Contains(t, text, "kind = \"mariadb\"\ndatabases = [\"toolshed\"]")
	assert.Contains(t, text, `extensions = ["mysqli"]`)
	assert.NotContains(t, text, "secret")
	require.NotEmpty(t, p.Notes)
	assert.Equal(t, "config.sample.php:2", p.Notes[0].Place())
	assert.Contains(t, p.Notes[0].What, "${database.password}")
	p = read(t, map[string]string{
		"public/index.php": "<?php", "src/db.php": "<?php new PDO('pgsql:host=' . getenv('DB_HOST') . ';dbname=shed', getenv('DB_USER'), getenv('DB_PASSWORD'));",
		"composer.json": `{"require": {"php": "^8.2"}}`,
	})
	text, _ = p.Render()
	assert.Contains(t, text, "kind = \"postgres\"\ndatabases = [\"shed\"]")
	assert.Contains(t, text, `extensions = ["pdo_pgsql"]`)
	assert.Contains(t, text, `DB_PASSWORD = "${database.password}"`)
}

// What teammates' env files name and nothing gives is told, in one line.
func TestNamesThatAreNotWired(t *testing.T) {
	p := read(t, map[string]string{
		"package.json": `{"scripts": {"start": "node server.js"}, "dependencies": {"pg": "8"}}`, "server.js": "",
		".env.example": "DB_URL=postgres://localhost:5432/shed\nPORT=3000\nPAYMENTS_KEY=\nSEARCH_URL=http://localhost:9200\nLOG_LEVEL=debug\n", ".env": "MINE=1\n",
	})
	assert.Contains(t, p.Notes, discover.Finding{File: ".env.example", What: "not wired, since no service has them: PAYMENTS_KEY and LOG_LEVEL"})
}

// Servers of the web are known by any word of the variable with their address, and what stands
// beside it comes from them.
func TestBesideAddresses(t *testing.T) {
	p := read(t, map[string]string{
		"package.json": `{"scripts": {"start": "directory start"}, "dependencies": {"pg": "8", "mysql2": "3"}}`,
		".env": `STORAGE_S3_KEY=mine
STORAGE_S3_SECRET=hunter2
STORAGE_S3_BUCKET=files
STORAGE_S3_ENDPOINT=http://127.0.0.1:9000
AUTH_DOOR_CLIENT_ID=desk
AUTH_DOOR_CLIENT_SECRET=hunter2
AUTH_DOOR_ISSUER_URL=http://127.0.0.1:9400/.well-known/openid-configuration
OIDC_REDIRECT_URI=http://localhost:3000/callback
DB_CLIENT=pg
DB_HOST=127.0.0.1
DB_PORT=5432
DB_DATABASE=desk
`,
	})
	text, _ := p.Render()
	for _, want := range []string{`buckets = ["files"]`, `STORAGE_S3_KEY = "${objects.access_key}"`, `STORAGE_S3_SECRET = "${objects.secret_key}"`, `STORAGE_S3_ENDPOINT = "${objects.url}"`,
		`AUTH_DOOR_CLIENT_ID = "${identity.client_id}"`, `AUTH_DOOR_ISSUER_URL = "${identity.url}/.well-known/openid-configuration"`,
		"[service.database]\nkind = \"postgres\"\ndatabases = [\"desk\"]"} {
		assert.Contains(t, text, want)
	}
	for _, not := range []string{"hunter2", "OIDC_REDIRECT_URI", "mariadb", "DATABASE_URL"} {
		assert.NotContains(t, text, not)
	}
}
