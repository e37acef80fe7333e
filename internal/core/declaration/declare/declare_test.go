package declare_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/kinds/catalogue"
	"neighbour/internal/kinds/postgres"
	"neighbour/internal/kinds/program"
)

func parse(t *testing.T, src string) (*declare.Declaration, error) {
	t.Helper()
	return declare.Parse([]byte(src), "/home/ines/toolshed/neighbour.toml", catalogue.All)
}

func TestWholeDeclaration(t *testing.T) {
	d, err := parse(t, `
[project]
name = "toolshed"

[service.ledger]
kind = "postgres"
version = ">=15.2, <17"
databases = ["toolshed", "toolshed_test"]

[service.postbox]
kind = "mail"

[service.api]
run = "node server.js"
dir = "api"
port = 4100
needs = ["${postbox}"]
health = { http = "/healthz", every = "2s", within = "30s", fails = 3 }
restart = { when = "crash", most = 5, within = "1m" }
stop = { signal = "SIGTERM", grace = "10s" }

[service.api.env]
DATABASE_URL = "${ledger.url}"
SELF = "${api.url}"
PRICE = "5 $$ or $x"
HOME_OF = "${env.HOME:-/}"

[service.web]
run = ["web", "--api", "${api.url}", "--port=${web.port}"]
optional = true

[service.worker]
run = "worker"
needs = ["api"]
`)
	require.NoError(t, err)
	assert.Equal(t, "toolshed", d.Name)
	assert.Equal(t, "/home/ines/toolshed", d.Dir)
	assert.Equal(t, []string{"api", "ledger", "postbox", "web", "worker"}, d.Names())
	assert.Equal(t, [][]string{{"ledger", "postbox"}, {"api"}, {"web", "worker"}}, d.Plan.Steps())

	api := d.Service("api")
	assert.Equal(t, []string{"ledger", "postbox"}, api.Needs, "a reference is a need; one to itself is not")
	assert.Equal(t, "program", api.Kind)
	assert.Equal(t, 30*time.Second, api.Health.Within)
	assert.Equal(t, "TERM", api.Stop.Signal)
	assert.Equal(t, "api", api.Settings.(*program.Settings).Dir)
	assert.True(t, d.Service("web").Listens, "something refers to its port")
	assert.False(t, d.Service("worker").Listens)
	ledger := d.Service("ledger").Settings.(*postgres.Settings)
	assert.Equal(t, []string{"toolshed", "toolshed_test"}, ledger.Databases)
	assert.True(t, ledger.Version.Allows("15.18"))
	assert.False(t, ledger.Version.Allows("17.0"))
	assert.Nil(t, d.Service("nothing"))
}

// Each row is a mistake, and what the report must say: place, problem, remedy.
func TestMistakes(t *testing.T) {
	const api = "[service.api]\nrun = \"api\"\n"
	for name, c := range map[string]struct {
		src  string
		says []string
	}{
		"not TOML":             {"[service.api\n", []string{"neighbour.toml:1:", "this is not TOML"}},
		"a key twice":          {api + "run = \"b\"\n", []string{":3:1", "already defined"}},
		"nothing":              {"", []string{"declares no service", "[service.api]"}},
		"unknown table":        {"[servise.api]\nrun = \"a\"\n", []string{":1:2", `no key "servise"`, `did you mean "service"?`}},
		"unknown key":          {api + "prot = 41\n", []string{":3:1: service.api.prot", "3 | prot = 41", "  | ^^^^", `did you mean "port"?`}},
		"a kind's own key":     {"[service.db]\nkind = \"postgres\"\ndatabase = [\"a\"]\n", []string{":3:1", `did you mean "databases"?`}},
		"unknown nested key":   {api + "health = { htpt = \"/\" }\n", []string{":3:12", `did you mean "http"?`}},
		"unknown kind":         {"[service.db]\nkind = \"postgras\"\n", []string{":2:8: service.db.kind", `did you mean "postgres"?`}},
		"kind far from any":    {"[service.db]\nkind = \"zeppelin\"\n", []string{"known kinds: apache, beanstalkd, documents, functions, identity, mail, mariadb"}},
		"no command":           {"[service.api]\nport = 1\n", []string{"service.api.run", "a program needs a command"}},
		"empty command":        {"[service.api]\nrun = \"  \"\n", []string{":2:7", "is empty"}},
		"kind by protocol":     {"[service.a]\nkind = \"mongodb\"\ndatabases = [\"x\"]\n", []string{`there is no kind "mongodb"`, `write kind = "documents"`}},
		"kind that is none":    {"[service.a]\nkind = \"Kafka\"\n", []string{`there is no kind "Kafka"`, "no kind speaks that"}},
		"unknown source":       {api + "port = 4100\n[trigger.t]\non = { queue = \"jobs\" }\ncall = \"${api.url}\"\n", []string{`there is no key "queue"`, `{ rabbitmq = "jobs" }`}},
		"quoted truth":         {api + "once = \"true\"\n", []string{"must be true or false, not a text", "leave the quotes out: true"}},
		"wrong type":           {api + "port = \"4100\"\n", []string{":3:8", "must be a whole number, not a text", "leave the quotes out: 4100"}},
		"number for a text":    {api + "env.A = 5\n", []string{":3:9", `put it in quotes: "5"`}},
		"table for a list":     {api + "needs = \"ledger\"\n", []string{"must be a list, not a text"}},
		"list of services":     {"[[service.api]]\nrun = \"a\"\n", []string{"must be a table, not a list"}},
		"port out of range":    {api + "port = 70000\n", []string{":3:8", "70000 is not a port"}},
		"port zero":            {api + "port = 0\n", []string{"0 is not a port"}},
		"one port for two":     {api + "port = 4100\n[service.web]\nrun = \"w\"\nport = 4100\n", []string{":6:8: service.web.port", "api has port 4100 already"}},
		"bad name":             {"[service.Api]\nrun = \"a\"\n", []string{":1:10", `"Api" can't be a service's name`}},
		"reserved name":        {"[service.env]\nrun = \"a\"\n", []string{"references use it"}},
		"bad project name":     {"[project]\nname = \"Tool Shed\"\n" + api, []string{":2:8: project.name"}},
		"bad variable":         {api + "env.\"A-B\" = \"x\"\n", []string{`"A-B" can't be a variable's name`}},
		"unknown need":         {api + "needs = [\"legder\"]\n[service.ledger]\nkind = \"redis\"\n", []string{":3:10: service.api.needs", `no service "legder"`, `did you mean "ledger"?`}},
		"a need on itself":     {api + "needs = [\"api\"]\n", []string{":3:10", "can't need itself"}},
		"unknown service":      {api + "env.A = \"x ${leger.url}\"\n[service.ledger]\nkind = \"redis\"\n", []string{":3:12: service.api.env.A", "^^^^^^^^^^^^", `did you mean "ledger"?`}},
		"unknown fact":         {api + "env.A = \"${ledger.ulr}\"\n[service.ledger]\nkind = \"redis\"\n", []string{`ledger offers no fact "ulr"`, "did you mean ${ledger.url}?"}},
		"fact far from any":    {api + "env.A = \"${ledger.colour}\"\n[service.ledger]\nkind = \"redis\"\n", []string{"a service of kind redis offers: host, port, url"}},
		"shell variable":       {api + "env.A = \"${HOME}\"\n", []string{"write ${env.HOME}", "$${HOME}"}},
		"unclosed reference":   {api + "env.A = \"${ledger.url\"\n", []string{"has no }"}},
		"unknown project fact": {api + "env.A = \"${project.size}\"\n", []string{"${project.name} or ${project.dir}"}},
		"reference in run":     {"[service.api]\nrun = \"api ${x.url}\"\n", []string{":2:12: service.api.run", `no service "x"`}},
		"circle": {"[service.a]\nrun = \"${c.url}\"\n[service.b]\nrun = \"b\"\nneeds = [\"a\"]\n[service.c]\nrun = \"c\"\nneeds = [\"b\"]\n",
			[]string{"a needs c needs b needs a", "line 2 makes a need c; line 8 makes c need b; line 5 makes b need a"}},
		"folder outside":     {api + "dir = \"../web\"\n", []string{":3:7", `"../web" leaves the project`}},
		"two checks":         {api + "health = { http = \"http://x\", tcp = \"a:1\" }\n", []string{"more than one check: http and tcp"}},
		"body without http":  {api + "health = { tcp = \"a:1\", body = \"x\" }\n", []string{"service.api.health.body", "belongs to an http check"}},
		"bad tcp address":    {api + "health = { tcp = \"7070\" }\n", []string{`"7070" is not a host and a port`}},
		"bad http address":   {api + "health = { http = \"healthz\" }\n", []string{"neither a path nor an address"}},
		"bad status":         {api + "port = 1\nhealth = { http = \"/\", status = 99 }\n", []string{"99 is not a status code"}},
		"bad pattern":        {api + "health = { log = \"(\" }\n", []string{"is not a regular expression"}},
		"bad duration":       {api + "health = { every = \"2x\", tcp = \"a:1\" }\n", []string{`"2x" is not a length of time`, `"500ms"`}},
		"negative duration":  {api + "stop.grace = \"-1s\"\n", []string{"longer than nothing"}},
		"outside, unchecked": {"[service.tariffs]\nkind = \"outside\"\n", []string{"what runs elsewhere is only checked"}},
		"static, no folder":  {"[service.web]\nkind = \"static\"\n", []string{"service.web.root", "there is no folder to serve"}},
		"bad size":           {api + "limit.memory = \"much\"\n", []string{":3:16: service.api.limit.memory", `"much" is not a size; write for example "512MB"`}},
		"no size":            {api + "log.keep = \"0MB\"\n", []string{`"0MB" is not a size`}},
		"size as a number":   {api + "limit.memory = 512\n", []string{"must be a text, not a whole number"}},
		"bad number":         {api + "limit.processors = \"two\"\n", []string{":3:20: service.api.limit.processors", "must be a number, not a text", "write for example 1.5"}},
		"no processors":      {api + "limit.processors = -0.5\n", []string{"must be more than nothing"}},
		"endless processors": {api + "limit.processors = inf\n", []string{"must be more than nothing"}},
		"reload elsewhere":   {api + "reload = [\"!../x/*.js\"]\n", []string{"is not a pattern of files in the project"}},
		"bad restart":        {api + "restart.when = \"often\"\n", []string{`"crash", "always" or "never"`}},
		"bad signal":         {api + "stop.signal = \"STOP\"\n", []string{`"STOP" is not a signal to stop with`}},
		"bad version":        {"[service.db]\nkind = \"redis\"\nversion = \"new\"\n", []string{":3:11", "is not a version constraint"}},
		"bad database":       {"[service.db]\nkind = \"postgres\"\ndatabases = [\"a\", \"a\"]\n", []string{`"a" is there twice`}},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := parse(t, c.src)
			var problems declare.Problems
			require.ErrorAs(t, err, &problems)
			for _, s := range c.says {
				assert.Contains(t, err.Error(), s)
			}
		})
	}
}

func TestAllMistakesAtOnceInOrder(t *testing.T) {
	_, err := parse(t, `[service.api]
run = "api ${db.url}"
prot = 1
[service.web]
kind = "prorgam"
needs = ["apy"]
`)
	var problems declare.Problems
	require.ErrorAs(t, err, &problems)
	var keys []string
	for _, p := range problems {
		keys = append(keys, p.Key)
	}
	assert.Equal(t, []string{"service.api.run", "service.api.prot", "service.web.kind", "service.web.needs"}, keys)
}

func TestColumnsCountCharacters(t *testing.T) {
	_, err := parse(t, "[service.api]\nrun = \"api\"\nenv.A = \"Grüße aus Köln ${x.url}\"\n")
	var problems declare.Problems
	require.ErrorAs(t, err, &problems)
	assert.Equal(t, declare.Position{File: "neighbour.toml", Line: 3, Column: 25}, problems[0].Position)
}

func TestFind(t *testing.T) {
	root := t.TempDir()
	deep := filepath.Join(root, "a", "b")
	require.NoError(t, os.MkdirAll(deep, 0o755))
	_, err := declare.Find(deep)
	var missing *declare.MissingError
	require.ErrorAs(t, err, &missing)
	assert.Contains(t, err.Error(), "neighbour init")

	file := filepath.Join(root, declare.FileName)
	require.NoError(t, os.WriteFile(file, []byte("[service.api]\nrun = \"api\"\n"), 0o644))
	found, err := declare.Find(deep)
	require.NoError(t, err)
	assert.Equal(t, file, found)
	f, err := declare.ReadFiles(file, "", "")
	require.NoError(t, err)
	d, err := f.Parse(catalogue.All)
	require.NoError(t, err)
	assert.Equal(t, strings.ToLower(filepath.Base(root)), d.Name, "a project without a name has its folder's")

	var unknown *declare.UnknownServiceError
	require.ErrorAs(t, d.Check("api", "apo"), &unknown)
	assert.EqualError(t, unknown, `there is no service "apo"; did you mean "api"?`)
	_, err = declare.Find(filepath.Join(root, "nowhere"))
	assert.ErrorContains(t, err, "is not a folder")
}

func TestPlainWords(t *testing.T) {
	for line, want := range map[string][]string{
		"node server.js":                {"node", "server.js"},
		"  node   'a b'  \"c d\"e ":     {"node", "a b", "c de"},
		`psql ${ledger.url} -c "x"`:     {"psql", "${ledger.url}", "-c", "x"},
		`a "${b.url}/x" --opt=${c.url}`: {"a", "${b.url}/x", "--opt=${c.url}"},
		"a b=c":                         {"a", "b=c"},
		// These need a shell.
		"A=1 node x": nil, "a | b": nil, "a && b": nil, "cd x": nil, "a *.js": nil, "a $HOME": nil, "a > b": nil,
		"exit 3": nil, "a 'b": nil, `a "$b"`: nil, "~/x": nil, "a # b": nil, "": nil, "a\nb": nil, "a `b`": nil, `a \ b`: nil,
	} {
		words, ok := declare.PlainWords(line)
		assert.Equal(t, want != nil, ok, line)
		if ok {
			assert.Equal(t, want, words, line)
		}
	}
}

// Whatever a text holds, its parts put together again are the text.
func TestPartsLoseNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		literal := rapid.StringMatching(`[a-z $}{/é]{0,6}`)
		var text, want strings.Builder
		for range rapid.IntRange(0, 5).Draw(t, "n") {
			l := literal.Draw(t, "literal")
			text.WriteString(strings.ReplaceAll(l, "$", "$$"))
			want.WriteString(l)
			if rapid.Bool().Draw(t, "reference") {
				r := rapid.SampledFrom([]string{"${a.b}", "${env.A}", "${env.A:-x$y}", "${project.dir}"}).Draw(t, "r")
				text.WriteString(r)
				want.WriteString(r)
			}
		}
		parts, errs := declare.Parts(text.String())
		require.Empty(t, errs)
		var got strings.Builder
		for _, p := range parts {
			if p.Reference == nil {
				got.WriteString(p.Literal)
				continue
			}
			assert.Equal(t, p.Reference.Source, text.String()[p.Reference.Offset:][:len(p.Reference.Source)])
			got.WriteString(p.Reference.Source)
		}
		assert.Equal(t, want.String(), got.String())
	})
}

// No file makes the parser panic, and every problem is within the file.
func FuzzParse(f *testing.F) {
	f.Add("[service.api]\nrun = \"a ${b.c}\"\n[service.b]\nkind = \"redis\"\n")
	f.Add("[service]\napi = { run = ['''\n'''], health = {http = 1} }\n")
	f.Add("service.api.env = \"x\"\nservice.b = 1979-05-27\n[[project]]\n")
	f.Fuzz(func(t *testing.T, src string) {
		_, err := declare.Parse([]byte(src), "neighbour.toml", catalogue.All)
		var problems declare.Problems
		if errors.As(err, &problems) {
			for _, p := range problems {
				assert.LessOrEqual(t, p.Position.Line, strings.Count(src, "\n")+1)
				assert.NotEmpty(t, p.Error())
			}
		}
	})
}

func TestLimitsAndSizes(t *testing.T) {
	d, err := parse(t, "[service.api]\nrun = \"a\"\nlimit = { memory = \"512MB\", processors = 2 }\nlog.keep = \"1.5 GB\"\nrestart.ailing = \"30s\"\nreload = [\"api/**/*.js\", \"!**/*.test.js\"]\n")
	require.NoError(t, err)
	api := d.Service("api")
	assert.Equal(t, declare.Limit{Memory: 512 << 20, Processors: 2}, api.Limit)
	assert.Equal(t, declare.Size(3<<29), api.Log.Keep)
	assert.Equal(t, 30*time.Second, api.Restart.Ailing)
	for text, want := range map[string]string{"512MB": "512 MB", "1536KB": "1.5 MB", "2Gi": "2 GB", "100": "100 bytes", "1 kb": "1 KB"} {
		var s declare.Size
		require.NoError(t, s.UnmarshalText([]byte(text)), text)
		assert.Equal(t, want, s.String())
	}
}
