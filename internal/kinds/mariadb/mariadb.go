// Package mariadb is the kinds of MariaDB and of MySQL's own servers, which
// differ in how they are found and set up.
package mariadb

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/go-sql-driver/mysql"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/lazyregexp"
	"neighbour/internal/core/machine/probe"
)

// Kind is one of the kinds.
type Kind struct {
	name, about string
	finder      kind.Finder
	client      string // the interactive client
	clients     kind.Packages
	// install is the command that creates the system tables in a folder.
	install func(in *kind.Instance, dir string) ([]string, error)
	options []string // more of the server's
}

// New makes the kind of MariaDB.
func New() Kind {
	return Kind{
		name: "mariadb", about: "MariaDB",
		finder: kind.Finder{
			Title: "MariaDB", Program: "mariadbd", Places: kind.Places("mariadb"),
			Packages: kind.Packages{Debian: "mariadb-server", Homebrew: "mariadb"},
			Version:  lazyregexp.New(`Ver (\d+\.\d+\.\d+)-MariaDB`),
		},
		client: "mariadb", clients: kind.Packages{Debian: "mariadb-client", Homebrew: "mariadb"},
		install: func(in *kind.Instance, dir string) ([]string, error) {
			installers := kind.Candidates("mariadb-install-db", in.Program.Dir, filepath.Join(filepath.Dir(in.Program.Dir), "bin"))
			if len(installers) == 0 {
				return nil, &kind.MissingError{Program: "mariadb-install-db", Looked: "PATH, " + in.Program.Dir, Packages: kind.Packages{Debian: "mariadb-server", Homebrew: "mariadb"}}
			}
			return []string{installers[0], "--no-defaults", "--datadir=" + dir, "--auth-root-authentication-method=normal", "--skip-test-db"}, nil
		},
	}
}

// NewMySQL makes the kind of MySQL's own server.
func NewMySQL() Kind {
	return Kind{
		name: "mysql", about: "MySQL",
		finder: kind.Finder{
			Title: "MySQL", Program: "mysqld", Places: append(kind.Places("mysql"), "/opt/homebrew/opt/mysql@*/bin", "/usr/local/opt/mysql@*/bin", "/usr/local/mysql/bin"),
			Packages: kind.Packages{Debian: "mysql-server", Homebrew: "mysql"},
			// MariaDB's server goes by this name, too: "Ver 10.11.6-MariaDB-…".
			Version: lazyregexp.New(`Ver (\d+\.\d+\.\d+)(?:-[0-9a-z]\S*)? for`),
		},
		client: "mysql", clients: kind.Packages{Debian: "mysql-client", Homebrew: "mysql-client"},
		install: func(in *kind.Instance, dir string) ([]string, error) {
			return []string{in.Program.Path, "--no-defaults", "--initialize-insecure", "--datadir=" + dir}, nil
		},
		options: []string{"--mysqlx=OFF"}, // a second port, for another protocol
	}
}

// Settings are the keys.
type Settings struct {
	Version    declare.Constraint `toml:"version" doc:"which versions will do"`
	Databases  []string           `toml:"databases" doc:"databases to create ([\"app\"]); the first is the one that url leads to"`
	Users      []string           `toml:"users" doc:"users to create, each with a password of its own and all rights on the databases; the first is the one of url (\"root\", who may do everything)"`
	Passwords  map[string]string  `toml:"passwords" doc:"passwords of users that a file of the app itself names, for this machine alone: { shed = \"shed\" }; left out, each user has one that is made up"`
	Migrations declare.Word       `toml:"migrations" doc:"a folder of *.sql files to run in the first database, in the order of their numbers and names, each once"`
	Seed       declare.Seed       `toml:"seed" doc:"what fills fresh data, once, after the migrations: an SQL file, or { run = \"node seed.js\", with = \"api\" }"`
	Settings   map[string]string  `toml:"settings" doc:"the server's own settings: { max_allowed_packet = \"64M\" }"`
}

// UserPasswords returns the declared passwords, by user.
func (s *Settings) UserPasswords() map[string]string { return s.Passwords }

// Check reports names that can't be databases or users.
func (s *Settings) Check(report func(key, message, remedy string)) {
	kind.CheckSettings(s.Settings, []string{"port", "bind_address", "datadir", "socket", "init_file"}, report)
	kind.CheckNames("databases", s.Databases, 64, "/\\\x00", report)
	kind.CheckNames("users", s.Users, 32, "'\\\x00\n", report)
	if slices.Contains(s.Users, root) {
		report("users", `every server has a user "root", who may do everything`, "choose another name")
	}
}

// FactNames returns those of the declared users.
func (s *Settings) FactNames() []string { return kind.UserFacts(s.Users) }

// root is the user that has all rights, and that of the facts where no other
// is declared.
const root = "root"

// Info describes the kind.
func (k Kind) Info() kind.Info {
	return kind.Info{Machine: true, Name: k.name, Changes: []string{"insert"}, ChangesByKey: true, Packages: k.finder.Packages, About: k.about, Check: "login", Listens: true, UsualPort: 3306,
		Example: fmt.Sprintf(`
[service.ledger]
kind = %q
databases = ["toolshed"]
users = ["shed", "reader"]

[service.api]
run = "node server.js"
env.DATABASE_URL = "${ledger.url}"
env.REPORTS_URL = "${ledger.reader.url}"
`, k.name),
		Facts:    []string{"url", "host", "port", "user", "password", "database"},
		Accounts: []string{"mysql"}}
}

// Settings makes empty settings.
func (Kind) Settings() any { return &Settings{} }

// Find looks for the server.
func (k Kind) Find(in *kind.Instance) (kind.Program, error) {
	p, err := k.finder.Find(in.Service.Settings.(*Settings).Version)
	var none *kind.NoVersionError
	if errors.As(err, &none) { // a server of that name, and another maker's
		return p, fmt.Errorf("%w; MariaDB's server is kind = \"mariadb\"",
			&kind.MissingError{Program: k.finder.Title + "'s own " + k.finder.Program, Looked: kind.Looked(k.finder.Places), Packages: k.finder.Packages})
	}
	return p, err
}

func files(in *kind.Instance) string { return filepath.Join(in.Data, "files") }

// Prepare creates the system tables once, beside their place and moved there
// when complete, and writes the statements that set the passwords.
func (k Kind) Prepare(ctx context.Context, in *kind.Instance, report func(string)) error {
	if err := kind.CheckPaths("MariaDB", []string{":"}, in.Data, in.Run); err != nil { // its list of folders is divided by them
		return err
	}
	if err := writeRights(in); err != nil {
		return err
	}
	if _, err := os.Stat(filepath.Join(files(in), "mysql")); err == nil {
		return nil
	}
	if _, err := os.Stat(files(in)); err == nil {
		return fmt.Errorf("%s is there and holds no %s data; move it away", files(in), k.about)
	}
	unfinished := files(in) + ".unfinished"
	if err := os.RemoveAll(unfinished); err != nil {
		return err
	}
	argv, err := k.install(in, unfinished)
	if err != nil {
		return err
	}
	report(filepath.Base(argv[0]) + ": creating the system tables")
	if err := os.MkdirAll(temporary(in), 0o700); err != nil {
		return err
	}
	if err := in.Account.Own(temporary(in)); err != nil {
		return err
	}
	cmd := in.Command(ctx, argv[0], argv[1:]...)
	cmd.Env = append(cmd.Env, "TMPDIR="+temporary(in))
	if out, err := cmd.CombinedOutput(); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return fmt.Errorf("%s failed: %w\n%s", filepath.Base(argv[0]), err, strings.TrimSpace(string(out)))
	}
	return os.Rename(unfinished, files(in))
}

// writeRights writes what the server carries out at each start before it
// accepts connections: so there is never a time without a password. A
// statement must be on one line.
func writeRights(in *kind.Instance) error {
	s := in.Service.Settings.(*Settings)
	var b strings.Builder
	allow := func(user, password, on string) {
		for _, host := range []string{"localhost", "127.0.0.1"} {
			who := fmt.Sprintf("'%s'@'%s'", user, host)
			fmt.Fprintf(&b, "CREATE USER IF NOT EXISTS %[1]s;\nALTER USER %[1]s IDENTIFIED BY '%[2]s';\nGRANT ALL PRIVILEGES ON %[3]s TO %[1]s WITH GRANT OPTION;\n", who, password, on)
		}
	}
	password, err := in.Secret("password")
	if err != nil {
		return err
	}
	allow(root, password, "*.*")
	for _, user := range s.Users {
		if password, err = in.UserPassword(user); err != nil {
			return err
		}
		for _, database := range s.Databases {
			// _ and % would stand for any characters.
			allow(user, password, strings.NewReplacer("_", `\_`, "%", `\%`).Replace(quote(database))+".*")
		}
		if len(s.Databases) == 0 {
			allow(user, password, "*.*")
		}
	}
	_, err = in.WriteRun(filepath.Base(rights(in)), b.String(), true)
	return err
}

// quote makes a text an identifier of SQL.
func quote(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

// temporary returns the folder for temporary tables. A server that starts clears
// it, so that two must not share one.
func temporary(in *kind.Instance) string { return filepath.Join(in.Data, "tmp") }

func rights(in *kind.Instance) string { return filepath.Join(in.Run, "rights.sql") }

// Launch starts the server with everything on its command line.
func (k Kind) Launch(in *kind.Instance) (kind.Launch, error) {
	argv := []string{in.Program.Path, "--no-defaults", "--datadir=" + files(in), "--port=" + strconv.Itoa(in.Port), "--bind-address=127.0.0.1",
		"--socket=" + filepath.Join(in.Run, "s.sock"), "--pid-file=" + filepath.Join(in.Run, "pid"), "--init-file=" + rights(in), "--tmpdir=" + temporary(in),
		"--skip-name-resolve", "--character-set-server=utf8mb4"}
	argv = append(argv, k.options...)
	settings := in.Service.Settings.(*Settings).Settings
	for _, name := range slices.Sorted(maps.Keys(settings)) {
		argv = append(argv, "--"+strings.ReplaceAll(name, "_", "-")+"="+settings[name])
	}
	return kind.Launch{Argv: argv, Dir: in.Data, Signal: "TERM"}, nil
}

// Console returns the server's own client, as the user of the facts. The password
// is not on its command line, where others could see it.
func (k Kind) Console(in *kind.Instance) ([]string, error) {
	candidates := kind.Candidates(k.client, append([]string{in.Program.Dir}, k.finder.Places...)...)
	if len(candidates) == 0 {
		return nil, &kind.MissingError{Program: k.client, Looked: "PATH", Packages: k.clients}
	}
	file, err := writeOptions(in)
	if err != nil {
		return nil, err
	}
	return []string{candidates[0], "--defaults-file=" + file, database(in)}, nil
}

// Dump returns the server's own program for it. What is in the dump takes the place
// of what is there when it is loaded.
func (k Kind) Dump(in *kind.Instance, name string) ([]string, error) {
	return k.with(in, k.dumper(), "--single-transaction", "--routines", "--triggers", "--events", cmp.Or(name, database(in)))
}

// dumper returns the name of the server's own program that writes databases as scripts.
func (k Kind) dumper() string {
	if k.client == "mariadb" {
		return "mariadb-dump"
	}
	return k.client + "dump" // mysqldump
}

// Load returns the server's own client, which ends at the first mistake.
func (k Kind) Load(in *kind.Instance, name string) ([]string, error) {
	return k.with(in, k.client, "--batch", cmp.Or(name, database(in)))
}

// with returns one of the server's own programs with how it reaches the server.
func (k Kind) with(in *kind.Instance, program string, args ...string) ([]string, error) {
	candidates := kind.Candidates(program, append([]string{in.Program.Dir}, k.finder.Places...)...)
	if len(candidates) == 0 {
		return nil, &kind.MissingError{Program: program, Looked: "PATH", Packages: k.clients}
	}
	file, err := writeOptions(in)
	return append([]string{candidates[0], "--defaults-file=" + file}, args...), err
}

// writeOptions writes the file of options with which the server's own programs
// reach it, and returns its path.
func writeOptions(in *kind.Instance) (string, error) {
	user, password, err := in.Login(in.Service.Settings.(*Settings).Users, root)
	if err != nil {
		return "", err
	}
	return in.WriteRun("my.cnf", options(in, user, password), false)
}

// options is the text of a file of options for the server's own programs. Without a character set
// they take that of the locale, which is not what scripts are written in.
func options(in *kind.Instance, user, password string) string {
	quoted := `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(user) + `"`
	return fmt.Sprintf("[client]\nuser=%s\npassword=%s\nhost=127.0.0.1\nport=%d\nprotocol=tcp\ndefault-character-set=utf8mb4\n", quoted, password, in.Port)
}

// database returns the one that the facts lead to.
func database(in *kind.Instance) string {
	return databases(in)[0]
}

// databases returns the names of those that are declared, or of one for who declares none: the
// server's own is no place for an application's tables.
func databases(in *kind.Instance) []string {
	if names := in.Service.Settings.(*Settings).Databases; len(names) > 0 {
		return names
	}
	return []string{"app"}
}

// Facts returns how to reach it.
func (Kind) Facts(in *kind.Instance) (map[string]kind.Fact, error) {
	users := in.Service.Settings.(*Settings).Users
	user, password, err := in.Login(users, root)
	if err != nil {
		return nil, err
	}
	port := strconv.Itoa(in.Port)
	address := func(user, password string) string {
		u := url.URL{Scheme: "mysql", User: url.UserPassword(user, password), Host: "127.0.0.1:" + port, Path: "/" + database(in)}
		return u.String()
	}
	facts := map[string]kind.Fact{
		"url": {Value: address(user, password), Secret: true}, "host": {Value: "127.0.0.1"}, "port": {Value: port},
		"user": {Value: user}, "password": {Value: password, Secret: true}, "database": {Value: database(in)},
	}
	return facts, kind.AddUserFacts(in, facts, users, address)
}

// ClientVariables returns those that the servers' own programs read. The user is
// read from a file only, which MYSQL_HOME leads them to.
func (k Kind) ClientVariables(in *kind.Instance) (map[string]string, error) {
	facts, err := k.Facts(in)
	if err != nil {
		return nil, err
	}
	file, err := writeOptions(in)
	if err != nil {
		return nil, err
	}
	return map[string]string{"MYSQL_HOME": filepath.Dir(file), "MYSQL_HOST": facts["host"].Value, "MYSQL_TCP_PORT": facts["port"].Value, "MYSQL_PWD": facts["password"].Value}, nil
}

func open(in *kind.Instance) (*sql.DB, error) {
	password, err := in.Secret("password")
	if err != nil {
		return nil, err
	}
	return openAs(in, root, password, "")
}

// openAs connects as a user to a database; "": to none.
func openAs(in *kind.Instance, user, password, database string) (*sql.DB, error) {
	connector, err := mysql.NewConnector(configOf(in, user, password, database))
	if err != nil {
		return nil, err
	}
	return sql.OpenDB(connector), nil
}

func configOf(in *kind.Instance, user, password, database string) *mysql.Config {
	config := mysql.NewConfig()
	config.User, config.Passwd, config.Net, config.Addr, config.DBName = user, password, "tcp", "127.0.0.1:"+strconv.Itoa(in.Port), database
	config.Logger = &mysql.NopLogger{}
	return config
}

// check logs in.
func check(ctx context.Context, db *sql.DB) (string, error) {
	err := db.PingContext(ctx)
	var answer *mysql.MySQLError
	switch {
	case err == nil:
		return "accepts a login", nil
	case errors.As(err, &answer):
		return "", errors.New(answer.Message)
	}
	return "", errors.New(probe.Explain(err))
}

// Probe returns a handshake and login.
func (Kind) Probe(in *kind.Instance) (probe.Probe, error) {
	return probe.Func(func(ctx context.Context) (string, error) {
		db, err := open(in)
		if err != nil {
			return "", err
		}
		defer db.Close()
		return check(ctx, db)
	}), nil
}

// Provision makes the start of one server.
func (k Kind) Provision(in *kind.Instance) kind.Provisioning {
	p, _ := k.Probe(in) // never fails
	return &provisioning{p, in}
}

// provisioning creates the databases that aren't there.
type provisioning struct {
	probe.Probe
	in *kind.Instance
}

func (p *provisioning) Provision(ctx context.Context, report func(string)) error {
	db, err := open(p.in)
	if err != nil {
		return err
	}
	defer db.Close()
	for _, name := range databases(p.in) {
		report("database " + name)
		if _, err := db.ExecContext(ctx, "CREATE DATABASE IF NOT EXISTS "+quote(name)); err != nil {
			return fmt.Errorf("creating database %s: %w", name, err)
		}
	}
	return nil
}
