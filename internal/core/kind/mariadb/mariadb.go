// Package mariadb is the kind of MariaDB servers.
package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/go-sql-driver/mysql"

	"neighbour/internal/core/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/probe"
)

// Kind is the kind.
type Kind struct{}

// Settings are its keys.
type Settings struct {
	Version    declare.Constraint `toml:"version" doc:"which versions will do"`
	Databases  []string           `toml:"databases" doc:"databases to create; the first is the one that url leads to"`
	Migrations string             `toml:"migrations" later:"yes" doc:"a folder of *.sql files to run in the first database, in the order of their names, each once"`
	Seed       string             `toml:"seed" later:"yes" doc:"an SQL file to run once, after the migrations of a fresh database"`
	Settings   map[string]string  `toml:"settings" doc:"the server's own settings: { max_allowed_packet = \"64M\" }"`
}

// Check reports names that can't be databases.
func (s *Settings) Check(report func(key, message, remedy string)) {
	kind.CheckSettings(s.Settings, []string{"port", "bind_address", "datadir", "socket", "init_file"}, report)
	kind.CheckNames("databases", s.Databases, 64, "/\\\x00", report)
}

// user is the one that has all rights.
const user = "root"

const example = `
[service.ledger]
kind = "mariadb"
databases = ["toolshed"]

[service.api]
run = "node server.js"
env.DATABASE_URL = "${ledger.url}"
`

// Info describes the kind.
func (Kind) Info() kind.Info {
	return kind.Info{Name: "mariadb", Packages: finder.Packages, Example: example, About: "MariaDB", Check: "login", Listens: true, UsualPort: 3306,
		Facts:    []string{"url", "host", "port", "user", "password", "database"},
		Accounts: []string{"mysql"}}
}

// Settings makes empty settings.
func (Kind) Settings() any { return &Settings{} }

var finder = kind.Finder{
	Title: "MariaDB", Program: "mariadbd", Places: kind.Places("mariadb"),
	Packages: kind.Packages{Debian: "mariadb-server", Homebrew: "mariadb"},
	Version:  regexp.MustCompile(`Ver (\d+\.\d+\.\d+)-MariaDB`),
}

// Find looks for mariadbd.
func (Kind) Find(in *kind.Instance) (kind.Program, error) {
	return finder.Find(in.Service.Settings.(*Settings).Version)
}

func files(in *kind.Instance) string { return filepath.Join(in.Data, "files") }

// Prepare creates the system tables once, beside their place and moved there
// when complete, and writes the statements that set the password.
func (Kind) Prepare(ctx context.Context, in *kind.Instance, report func(string)) error {
	if err := writeRights(in); err != nil {
		return err
	}
	if _, err := os.Stat(filepath.Join(files(in), "mysql")); err == nil {
		return nil
	}
	if _, err := os.Stat(files(in)); err == nil {
		return fmt.Errorf("%s is there and holds no MariaDB data; move it away", files(in))
	}
	report("mariadb-install-db: creating the system tables")
	installers := kind.Candidates("mariadb-install-db", in.Program.Dir, filepath.Join(filepath.Dir(in.Program.Dir), "bin"))
	if len(installers) == 0 {
		return &kind.MissingError{Program: "mariadb-install-db", Looked: "PATH, " + in.Program.Dir, Packages: finder.Packages}
	}
	unfinished := files(in) + ".unfinished"
	if err := os.RemoveAll(unfinished); err != nil {
		return err
	}
	if err := os.MkdirAll(temporary(in), 0o700); err != nil {
		return err
	}
	if err := in.Account.Own(temporary(in)); err != nil {
		return err
	}
	cmd := in.Command(ctx, installers[0], "--no-defaults", "--datadir="+unfinished, "--auth-root-authentication-method=normal", "--skip-test-db")
	cmd.Env = append(cmd.Env, "TMPDIR="+temporary(in))
	if out, err := cmd.CombinedOutput(); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return fmt.Errorf("mariadb-install-db failed: %w\n%s", err, strings.TrimSpace(string(out)))
	}
	return os.Rename(unfinished, files(in))
}

// writeRights writes what the server carries out at each start before it
// accepts connections: so there is never a time without a password.
func writeRights(in *kind.Instance) error {
	password, err := in.Secret("password")
	if err != nil {
		return err
	}
	var b strings.Builder
	for _, host := range []string{"localhost", "127.0.0.1"} {
		fmt.Fprintf(&b, "CREATE USER IF NOT EXISTS '%[1]s'@'%[2]s';\nALTER USER '%[1]s'@'%[2]s' IDENTIFIED BY '%[3]s';\nGRANT ALL PRIVILEGES ON *.* TO '%[1]s'@'%[2]s' WITH GRANT OPTION;\n", user, host, password)
	}
	if err := os.WriteFile(rights(in), []byte(b.String()), 0o600); err != nil {
		return err
	}
	return in.Account.Own(rights(in))
}

// temporary is the folder for temporary tables. A server that starts clears
// it, so that two must not share one.
func temporary(in *kind.Instance) string { return filepath.Join(in.Data, "tmp") }

func rights(in *kind.Instance) string { return filepath.Join(in.Run, "rights.sql") }

// Launch starts the server with everything on its command line.
func (Kind) Launch(in *kind.Instance) (kind.Launch, error) {
	argv := []string{in.Program.Path, "--no-defaults", "--datadir=" + files(in), "--port=" + strconv.Itoa(in.Port), "--bind-address=127.0.0.1",
		"--socket=" + filepath.Join(in.Run, "s.sock"), "--pid-file=" + filepath.Join(in.Run, "pid"), "--init-file=" + rights(in), "--tmpdir=" + temporary(in),
		"--skip-name-resolve", "--character-set-server=utf8mb4"}
	settings := in.Service.Settings.(*Settings).Settings
	for _, name := range slices.Sorted(maps.Keys(settings)) {
		argv = append(argv, "--"+strings.ReplaceAll(name, "_", "-")+"="+settings[name])
	}
	return kind.Launch{Argv: argv, Dir: in.Data, Signal: "TERM"}, nil
}

// Console is MariaDB's own client. The password is not on its command line,
// where others could see it.
func (k Kind) Console(in *kind.Instance) ([]string, error) {
	facts, err := k.Facts(in)
	if err != nil {
		return nil, err
	}
	candidates := kind.Candidates("mariadb", append([]string{in.Program.Dir}, finder.Places...)...)
	if len(candidates) == 0 {
		return nil, &kind.MissingError{Program: "mariadb", Looked: "PATH", Packages: kind.Packages{Debian: "mariadb-client", Homebrew: "mariadb"}}
	}
	options := filepath.Join(in.Run, "console.cnf")
	text := fmt.Sprintf("[client]\nuser=%s\npassword=%s\nhost=127.0.0.1\nport=%d\n", user, facts["password"].Value, in.Port)
	if err := os.WriteFile(options, []byte(text), 0o600); err != nil {
		return nil, err
	}
	return []string{candidates[0], "--defaults-file=" + options, facts["database"].Value}, nil
}

// Facts are how to reach it.
func (Kind) Facts(in *kind.Instance) (map[string]kind.Fact, error) {
	password, err := in.Secret("password")
	if err != nil {
		return nil, err
	}
	database := "mysql"
	if names := in.Service.Settings.(*Settings).Databases; len(names) > 0 {
		database = names[0]
	}
	port := strconv.Itoa(in.Port)
	u := url.URL{Scheme: "mysql", User: url.UserPassword(user, password), Host: "127.0.0.1:" + port, Path: "/" + database}
	return map[string]kind.Fact{
		"url": {Value: u.String(), Secret: true}, "host": {Value: "127.0.0.1"}, "port": {Value: port},
		"user": {Value: user}, "password": {Value: password, Secret: true}, "database": {Value: database},
	}, nil
}

func open(in *kind.Instance) (*sql.DB, error) {
	password, err := in.Secret("password")
	if err != nil {
		return nil, err
	}
	config := mysql.NewConfig()
	config.User, config.Passwd, config.Net, config.Addr = user, password, "tcp", "127.0.0.1:"+strconv.Itoa(in.Port)
	config.Logger = &mysql.NopLogger{}
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return nil, err
	}
	return sql.OpenDB(connector), nil
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

// Probe is a handshake and login.
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

// provisioning creates the declared databases that aren't there.
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
	for _, name := range p.in.Service.Settings.(*Settings).Databases {
		report("database " + name)
		if _, err := db.ExecContext(ctx, "CREATE DATABASE IF NOT EXISTS `"+strings.ReplaceAll(name, "`", "``")+"`"); err != nil {
			return fmt.Errorf("creating database %s: %w", name, err)
		}
	}
	return nil
}
