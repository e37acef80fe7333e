// Package postgres is the kind of PostgreSQL servers. It makes a cluster of
// its own for each service, with a password that it makes up.
package postgres

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/lazyregexp"
	"neighbour/internal/core/machine/probe"
)

// Kind is the kind.
type Kind struct{}

// Settings are its keys.
type Settings struct {
	Version   declare.Constraint `toml:"version" doc:"which versions will do: \"15\", \">=15.2, <17\""`
	Databases []string           `toml:"databases" doc:"databases to create; the first is the one that url leads to"`
	Users     []string           `toml:"users" doc:"users to create, each with a password of its own; the first owns the databases and is the one of url, the others may do what it may (\"postgres\", who may do everything)"`
	Passwords map[string]string  `toml:"passwords" doc:"passwords of users that a file of the app itself names, for this machine alone: { shed = \"shed\" }; left out, each user has one that is made up"`
	// Extensions are created, not removed: what they hold may be wanted.
	Extensions []string          `toml:"extensions" doc:"extensions to create in each declared database"`
	Migrations declare.Word      `toml:"migrations" doc:"a folder of *.sql files to run in the first database, in the order of their numbers and names, each once"`
	Seed       declare.Seed      `toml:"seed" doc:"what fills fresh data, once, after the migrations: an SQL file, or { run = \"node seed.js\", with = \"api\" }"`
	Settings   map[string]string `toml:"settings" doc:"the server's own settings: { work_mem = \"64MB\" }"`
}

// UserPasswords returns the declared passwords, by user.
func (s *Settings) UserPasswords() map[string]string { return s.Passwords }

// Check reports names that can't be databases.
func (s *Settings) Check(report func(key, message, remedy string)) {
	kind.CheckSettings(s.Settings, []string{"port", "listen_addresses", "unix_socket_directories", "data_directory"}, report)
	if len(s.Extensions) > 0 && len(s.Databases) == 0 {
		report("extensions", "there is no database to create them in", `add databases = ["app"]`)
	}
	// PostgreSQL cuts longer names off (NAMEDATALEN, 63 bytes).
	kind.CheckNames("databases", s.Databases, 63, "\x00", report)
	kind.CheckNames("users", s.Users, 63, "\x00", report)
	if slices.Contains(s.Users, superuser) {
		report("users", `there is a user "postgres" in every cluster, who may do everything`, "choose another name")
	}
}

// FactNames returns those of the declared users.
func (s *Settings) FactNames() []string { return kind.UserFacts(s.Users) }

// superuser is the cluster's own user, and that of the facts where no other
// is declared.
const superuser = "postgres"

// cancelDelay is how long a server may take to leave a statement undone.
const cancelDelay = 5 * time.Second

const example = `
[service.ledger]
kind = "postgres"
version = ">=15"
databases = ["toolshed", "toolshed_test"]

[service.api]
run = "node server.js"
env.DATABASE_URL = "${ledger.url}"
`

// Info describes the kind.
func (Kind) Info() kind.Info {
	return kind.Info{Machine: true, Fleeting: []string{"cluster/postmaster.pid"}, Name: "postgres", Changes: changes, Packages: finder.Packages, Example: example, About: "PostgreSQL", Check: "login", Listens: true, UsualPort: 5432,
		Facts:    []string{"url", "host", "port", "user", "password", "database"},
		Accounts: []string{"postgres"}}
}

// Settings makes empty settings.
func (Kind) Settings() any { return &Settings{} }

var finder = kind.Finder{
	Title: "PostgreSQL", Program: "postgres",
	Places:   []string{"/usr/lib/postgresql/*/bin", "/usr/pgsql-*/bin", "/opt/homebrew/opt/postgresql@*/bin", "/usr/local/opt/postgresql@*/bin", "/usr/local/pgsql/bin"},
	Packages: kind.Packages{Debian: "postgresql", Homebrew: "postgresql"},
	Version:  lazyregexp.New(`PostgreSQL\) (\d+(?:\.\d+)*)`),
}

// Find looks for the newest installed version that the constraint allows and
// that can read the cluster, if there is one.
func (Kind) Find(in *kind.Instance) (kind.Program, error) {
	programs, err := finder.All()
	extensions, constraint := in.Service.Settings.(*Settings).Extensions, in.Service.Settings.(*Settings).Version
	var missing *kind.MissingError
	if errors.As(err, &missing) && len(extensions) > 0 {
		if server := sideBySide.For(constraint.Allows).Debian; server != "" { // all in one installation
			missing.Packages.Debian = strings.TrimSpace(server + " " + extensionPackages(extensions, strings.TrimPrefix(server, "postgresql-")))
		}
	}
	if err != nil {
		return kind.Program{}, err
	}
	made, err := clusterVersion(in)
	if err != nil {
		return kind.Program{}, err
	}
	if made != "" {
		all := programs
		programs = slices.DeleteFunc(slices.Clone(all), func(p kind.Program) bool { return major(p.Version) != made })
		if len(programs) == 0 {
			return kind.Program{}, &kind.VersionError{Err: fmt.Errorf("its data in %s was made by PostgreSQL %s, and installed is only %s; install Debian's postgresql-%s, or move that folder away to begin with an empty cluster",
				cluster(in), made, versions(all), made), Packages: sideBySide.For(func(v string) bool { return v == made })}
		}
		if !slices.ContainsFunc(programs, func(p kind.Program) bool { return constraint.Allows(p.Version) }) {
			return kind.Program{}, fmt.Errorf("its data in %s was made by PostgreSQL %s, which version = %q doesn't allow; change the constraint, or move that folder away to begin with an empty cluster",
				cluster(in), made, constraint)
		}
	}
	chosen, err := kind.Choose("PostgreSQL", programs, constraint, "Debian's postgresql-NN")
	if err != nil {
		return chosen, &kind.VersionError{Err: err, Packages: sideBySide.For(constraint.Allows)}
	}
	return chosen, checkExtensions(chosen, extensions)
}

// sideBySide are the packages of the versions.
var sideBySide = kind.Series{Pattern: "postgresql-%s", Versions: []string{"19", "18", "17", "16", "15", "14", "13", "12", "11", "9.6"}}

// major returns what decides whether a version can read a cluster: the first
// number, and before version 10 the first two.
func major(version string) string {
	parts := strings.Split(version, ".")
	if n, _ := strconv.Atoi(parts[0]); n < 10 && len(parts) > 1 {
		return parts[0] + "." + parts[1]
	}
	return parts[0]
}

func versions(programs []kind.Program) string {
	v := make([]string, len(programs))
	for i, p := range programs {
		v[i] = p.Version
	}
	return strings.Join(v, ", ")
}

func cluster(in *kind.Instance) string { return filepath.Join(in.Data, "cluster") }

// clusterVersion returns the major version that made the cluster, "" if there is
// no cluster yet.
func clusterVersion(in *kind.Instance) (string, error) {
	b, err := os.ReadFile(filepath.Join(cluster(in), "PG_VERSION"))
	if errors.Is(err, os.ErrNotExist) {
		return "", nil
	}
	if err != nil {
		return "", fmt.Errorf("its data can't be read: %w", err)
	}
	return strings.TrimSpace(string(b)), nil
}

// Prepare creates the cluster. It is made beside its place and moved there
// when complete, so that an interrupted start leaves no half cluster.
func (Kind) Prepare(ctx context.Context, in *kind.Instance, report func(string)) error {
	if err := kind.CheckPaths("PostgreSQL", nil, in.Data, in.Run); err != nil {
		return err
	}
	if err := removeEmptyLocks(in); err != nil {
		return err
	}
	if made, err := clusterVersion(in); made != "" || err != nil {
		awaitBackends(ctx, in, report)
		return err
	}
	if _, err := os.Stat(cluster(in)); err == nil {
		return fmt.Errorf("%s is there and is not a PostgreSQL cluster; move it away", cluster(in))
	}
	report("initdb: creating the cluster")
	password, err := in.Secret("password")
	if err != nil {
		return err
	}
	unfinished := cluster(in) + ".unfinished"
	if err := os.RemoveAll(unfinished); err != nil {
		return err
	}
	passwordFile, err := in.WriteRun("password", password+"\n", true)
	if err != nil {
		return err
	}
	defer os.Remove(passwordFile)
	cmd := in.Command(ctx, filepath.Join(in.Program.Dir, "initdb"),
		"--pgdata="+unfinished, "--username="+superuser, "--pwfile="+passwordFile, "--auth=scram-sha-256", "--encoding=UTF8")
	if !utf8Locale(cmd.Env) {
		cmd.Args = append(cmd.Args, "--locale=C")
	}
	if out, err := cmd.CombinedOutput(); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return fmt.Errorf("initdb failed: %w\n%s", err, strings.TrimSpace(string(out)))
	}
	return os.Rename(unfinished, cluster(in))
}

// utf8Locale reports whether the locale variables ask for UTF-8, as LC_ALL,
// LC_CTYPE and LANG do in this order (POSIX, 8.2).
func utf8Locale(env []string) bool {
	for _, name := range []string{"LC_ALL=", "LC_CTYPE=", "LANG="} {
		for _, v := range env {
			if value, ok := strings.CutPrefix(v, name); ok && value != "" {
				value = strings.ToLower(value)
				return strings.Contains(value, "utf-8") || strings.Contains(value, "utf8")
			}
		}
	}
	return false
}

// folder makes a path one of a list of folders, as unix_socket_directories is.
func folder(path string) string {
	if !strings.ContainsAny(path, `,"`) && strings.TrimSpace(path) == path {
		return path
	}
	return quote(path)
}

// Launch starts the server. INT is its fast shutdown: it ends sessions and
// closes the cluster in order.
func (Kind) Launch(in *kind.Instance) (kind.Launch, error) {
	argv := []string{in.Program.Path, "-D", cluster(in), "-p", strconv.Itoa(in.Port), "-k", folder(in.Run),
		"-c", "listen_addresses=127.0.0.1", "-c", "log_destination=stderr", "-c", "logging_collector=off",
		"-c", "log_line_prefix=[%p] "} // the journal knows the time
	settings := in.Service.Settings.(*Settings).Settings
	for _, name := range slices.Sorted(maps.Keys(settings)) {
		argv = append(argv, "-c", name+"="+settings[name])
	}
	return kind.Launch{Argv: argv, Dir: in.Data, Signal: "INT"}, nil
}

// database returns the one that the facts lead to.
func database(in *kind.Instance) string {
	if names := in.Service.Settings.(*Settings).Databases; len(names) > 0 {
		return names[0]
	}
	return "postgres"
}

// Facts returns how to reach it.
func (Kind) Facts(in *kind.Instance) (map[string]kind.Fact, error) {
	users := in.Service.Settings.(*Settings).Users
	user, password, err := in.Login(users, superuser)
	if err != nil {
		return nil, err
	}
	url := func(user, password string) string { return address(in, user, password, database(in)) }
	facts := map[string]kind.Fact{
		"url":  {Value: url(user, password), Secret: true},
		"host": {Value: "127.0.0.1"}, "port": {Value: strconv.Itoa(in.Port)},
		"user": {Value: user}, "password": {Value: password, Secret: true}, "database": {Value: database(in)},
	}
	return facts, kind.AddUserFacts(in, facts, users, url)
}

func address(in *kind.Instance, user, password, db string) string {
	u := url.URL{Scheme: "postgres", User: url.UserPassword(user, password), Host: "127.0.0.1:" + strconv.Itoa(in.Port), Path: "/" + db,
		// The server has no certificate, and some clients insist on one.
		RawQuery: "sslmode=disable"}
	return u.String()
}

// connect logs in to a database; "postgres" is there in every cluster.
func connect(ctx context.Context, in *kind.Instance, database string) (*pgconn.PgConn, error) {
	password, err := in.Secret("password")
	if err != nil {
		return nil, err
	}
	config, err := pgconn.ParseConfig(address(in, superuser, password, database))
	if err != nil {
		return nil, err
	}
	config.RuntimeParams = map[string]string{"application_name": "neighbour"}
	conn, err := pgconn.ConnectConfig(ctx, config)
	if err == nil {
		return conn, nil
	}
	var answer *pgconn.PgError
	if errors.As(err, &answer) {
		if answer.Code == "28P01" { // invalid_password
			return nil, &probe.FinalError{Err: fmt.Errorf("the cluster has another password than the project's secrets.json; put that file back, or move %s away to begin with an empty cluster", cluster(in))}
		}
		return nil, &refusal{answer}
	}
	return nil, errors.New(probe.Explain(err))
}

// refusal is what a server says to somebody who wants to connect, in its own language: "the
// database system is starting up".
type refusal struct{ *pgconn.PgError }

func (r *refusal) Error() string { return r.Message }

func (r *refusal) Unwrap() error { return r.PgError }

// coded reports whether a server's answer has one of these codes (PostgreSQL manual, appendix
// A). Its words depend on the language of the cluster.
func coded(err error, codes ...string) bool {
	var answer *pgconn.PgError
	return errors.As(err, &answer) && slices.Contains(codes, answer.Code)
}

// Probe returns a handshake and login.
func (Kind) Probe(in *kind.Instance) (probe.Probe, error) {
	return probe.Func(func(ctx context.Context) (string, error) {
		conn, err := connect(ctx, in, "postgres")
		if err != nil {
			return "", err
		}
		conn.Close(ctx)
		return "accepts a login", nil
	}), nil
}

// quote makes a text an identifier of SQL.
func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// ClientVariables returns those of libpq (PostgreSQL manual, "Environment
// Variables"), which its programs and many libraries read.
func (k Kind) ClientVariables(in *kind.Instance) (map[string]string, error) {
	facts, err := k.Facts(in)
	if err != nil {
		return nil, err
	}
	return map[string]string{"PGHOST": facts["host"].Value, "PGPORT": facts["port"].Value, "PGUSER": facts["user"].Value,
		"PGPASSWORD": facts["password"].Value, "PGDATABASE": facts["database"].Value, "PGSSLMODE": "disable"}, nil
}
