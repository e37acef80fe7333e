package discover

import (
	"cmp"
	"encoding/json"
	"fmt"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"neighbour/internal/core/declaration/wire"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/lazyregexp"
)

// settings are how an app reaches a database, as a file of its own says.
type settings struct {
	kind, host, database, user, password string
	port                                 int
}

// dialects are the kinds that libraries call by these names.
var dialects = map[string]string{"pg": "postgres", "postgres": "postgres", "postgresql": "postgres", "pgnative": "postgres", "mysql": "mariadb", "mysql2": "mariadb", "mariadb": "mariadb"}

// reaches proposes the server that settings name, so that the app finds it by them: on that port,
// with that user and password. Settings for another machine are left out.
func (r *reader) reaches(by *Service, s settings, why Finding) {
	s.host = cmp.Or(s.host, "localhost")
	if s.kind == "" || !wire.Local(s.host) {
		return
	}
	target := r.server(s.kind, why)
	if k := kind.All().Kind(s.kind); k != nil && target.Port == 0 {
		target.Port = cmp.Or(s.port, k.Info().UsualPort)
	}
	target.database(s.database)
	target.named = true
	if !slices.ContainsFunc(by.Links, func(l Link) bool { return l.Target == target }) {
		by.link("needs", target) // which no variable says
	}
	if s.user == "" || !databaseName.MatchString(s.user) || slices.ContainsFunc(target.Lines, func(l string) bool { return key(l) == "users" }) {
		return
	}
	target.Lines = append(target.Lines, "users = "+list([]string{s.user}))
	if s.password != "" {
		target.Lines = append(target.Lines, fmt.Sprintf("passwords = { %s = %q }", tomlKey(s.user), s.password))
	}
}

// tomlKey writes a key of TOML.
func tomlKey(name string) string {
	if bareKey.MatchString(name) {
		return name
	}
	return strconv.Quote(name)
}

var bareKey = lazyregexp.New(`^[A-Za-z0-9_-]+$`)

// literal finds a setting that is written out: host: '127.0.0.1'.
func literal(src, name string) string {
	m := regexp.MustCompile(`(?m)\b` + name + `["']?\s*[:=]\s*(?:["']([^"'\n$]*)["']|(\d+)\b)`).FindStringSubmatch(src)
	if m == nil {
		return ""
	}
	return m[1] + m[2]
}

// connections are the files in which libraries have how they reach a database, beside a package.json.
var connections = []string{"knexfile.js", "knexfile.cjs", "knexfile.mjs", "knexfile.ts", "drizzle.config.ts", "drizzle.config.js", "ormconfig.js", "ormconfig.json", "data-source.ts", "src/data-source.ts", "config/config.js", "config/config.json", "config/database.js", "config/database.json", "src/db.js", "src/db.ts", "src/database.js", "src/database.ts", "db.js", "database.js"}

// readConnections reads how a package's program reaches its database.
func (r *reader) readConnections(folder string, s *Service) {
	for _, name := range connections {
		file := filepath.Join(folder, name)
		src := r.peek(file)
		if src == "" {
			continue
		}
		if !strings.HasSuffix(name, ".json") {
			r.readVariables(s, file, src)
		}
		found := settings{kind: dialects[cmp.Or(literal(src, "client"), literal(src, "dialect"), literal(src, "type"))]}
		if strings.HasSuffix(name, ".json") {
			found = jsonSettings(src)
		} else {
			found.kind = cmp.Or(found.kind, r.sql)
			found.host, found.database, found.user, found.password = cmp.Or(literal(src, "host"), literal(src, "hostname")), literal(src, "database"), cmp.Or(literal(src, "user"), literal(src, "username")), literal(src, "password")
			found.port, _ = strconv.Atoi(literal(src, "port"))
		}
		if found.kind == "" || found.kind != "postgres" && found.kind != "mariadb" || found.host == "" && found.port == 0 && (found.database == "" || found.user == "") {
			continue
		}
		r.listed(file)
		r.reaches(s, found, Finding{file, lineOf(src, cmp.Or(found.database, "host")), "says where the app's database is"})
		return
	}
}

// jsonSettings reads a file with settings for each environment, or with one alone.
func jsonSettings(text string) settings {
	type values struct {
		Dialect, Client, Type, Host, Database, Username, User, Password string
		Port                                                            json.Number
	}
	var all struct {
		values
		Development *values
	}
	if json.Unmarshal([]byte(text), &all) != nil {
		return settings{}
	}
	v := all.values
	if all.Development != nil {
		v = *all.Development
	}
	port, _ := strconv.Atoi(v.Port.String())
	return settings{dialects[cmp.Or(v.Dialect, v.Client, v.Type)], v.Host, v.Database, cmp.Or(v.Username, v.User), v.Password, port}
}

var (
	prismaProvider = lazyregexp.New(`(?s)datasource\s+\w+\s*\{[^}]*?provider\s*=\s*"(\w+)"`)
	prismaVariable = lazyregexp.New(`(?s)datasource\s+\w+\s*\{[^}]*?\burl\s*=\s*env\("(\w+)"\)`)
)

// readPrisma reads a schema of a database in a package: which server it is for, and what has to be
// made of it before the app starts.
func (r *reader) readPrisma(folder string, s *Service, run string) {
	for _, name := range []string{"prisma/schema.prisma", "schema.prisma"} {
		file := filepath.Join(folder, name)
		src := r.read(file)
		if src == "" {
			continue
		}
		provider := prismaProvider.FindStringSubmatch(src)
		if provider == nil {
			return
		}
		kindName := map[string]string{"mongodb": "documents", "sqlite": "", "sqlserver": "", "cockroachdb": ""}[provider[1]]
		if kindName == "" {
			kindName = dialects[provider[1]]
		}
		s.prepareAlso(fmt.Sprintf("{ run = %q, when = [%q] }", run+" prisma generate", path.Join(filepath.ToSlash(folder), name)))
		if kindName == "" {
			return
		}
		target := r.server(kindName, Finding{file, lineOf(src, "provider"), "the schema is for " + kind.HintsOf(kindName).Title})
		variable := "DATABASE_URL"
		if m := prismaVariable.FindStringSubmatch(src); m != nil {
			variable = m[1]
		}
		if !s.has(variable) {
			s.Env = append(s.Env, Variable{variable, "${@." + kind.HintsOf(kindName).Address + "}", target})
		}
		in := path.Dir(filepath.ToSlash(name))
		command, when := run+" prisma db push", path.Join(filepath.ToSlash(folder), filepath.ToSlash(name))
		if r.has(filepath.Join(folder, in, "migrations")) {
			command, when = run+" prisma migrate deploy", path.Join(filepath.ToSlash(folder), in, "migrations/**")
		}
		r.migrates(s, command, Finding{file, 0, "the schema, which the database gets before the app starts"}, when)
		return
	}
}

// migrationFolders are where packages have their migrations.
var migrationFolders = []string{"migrations", "db/migrations", "database/migrations", "src/migrations", "src/db/migrations", "drizzle"}

// migrationFiles returns a pattern for each folder with migrations that a package has.
func (r *reader) migrationFiles(folder string) []string {
	var out []string
	for _, in := range migrationFolders {
		if r.has(filepath.Join(folder, in)) {
			out = append(out, path.Join(filepath.ToSlash(folder), in, "**"))
		}
	}
	return out
}

// readMigrations proposes what brings a database to the state of a package's migrations, where no
// script of the package does so. Has tells which libraries it has.
func (r *reader) readMigrations(folder string, s *Service, run string, has func(library string) bool) {
	files := r.migrationFiles(folder)
	if len(files) == 0 || r.sql == "" {
		return
	}
	for _, t := range []struct{ library, command string }{
		{"knex", "knex migrate:latest"}, {"sequelize-cli", "sequelize-cli db:migrate"}, {"drizzle-kit", "drizzle-kit migrate"},
	} {
		if has(t.library) {
			r.migrates(s, run+" "+t.command, Finding{filepath.Join(folder, "package.json"), 0, "migrations, which run before the app"}, files...)
			return
		}
	}
}

// readSettings reads a module of settings in Python: the variables that it reads, and the mail server
// that it names.
func (r *reader) readSettings(s *Service, file string) {
	src := r.read(file)
	if src == "" {
		return
	}
	r.readSource(s, file, src)
	if host := literal(src, "EMAIL_HOST"); host != "" && wire.Local(host) {
		target := r.server("mail", Finding{file, lineOf(src, "EMAIL_HOST"), "EMAIL_HOST says that mail goes to " + host})
		target.Port, _ = strconv.Atoi(literal(src, "EMAIL_PORT"))
		target.named = true
	}
}

// Errand is a one-off command that runs before a service starts.
type Errand struct {
	Name string   `json:"name"`
	Run  string   `json:"run"`
	With *Service `json:"-"`
	When []string `json:"when,omitempty"`
	Why  Finding  `json:"why"`
}

// migrates has a command run before a service starts, when files have changed or the data is another.
func (r *reader) migrates(s *Service, run string, why Finding, when ...string) {
	for i := range when {
		when[i] = path.Clean(when[i])
	}
	name := "migrate"
	for n := 2; slices.ContainsFunc(r.p.Errands, func(e *Errand) bool { return e.Name == name }); n++ {
		name = "migrate" + strconv.Itoa(n)
	}
	r.p.Errands = append(r.p.Errands, &Errand{Name: name, Run: run, With: s, When: when, Why: why})
}

func (e *Errand) render() []string {
	out := []string{"[errand." + e.Name + "]", "with = " + strconv.Quote(e.With.Name), "run = " + strconv.Quote(e.Run), "before = " + list([]string{e.With.Name})}
	if len(e.When) > 0 {
		out = append(out, "when = "+list(e.When))
	}
	return out
}

// prepareAlso adds an entry to what a service prepares.
func (s *Service) prepareAlso(entry string) {
	for i, l := range s.Lines {
		if rest, is := strings.CutSuffix(l, "]"); is && key(l) == "prepare" {
			s.Lines[i] = rest + ", " + entry + "]"
			return
		}
	}
	s.Lines = append(s.Lines, "prepare = ["+entry+"]")
}
