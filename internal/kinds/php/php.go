// Package php is the kind of PHP's FastCGI server, which a web server asks
// for pages.
package php

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/lazyregexp"
	"neighbour/internal/core/machine/probe"
)

// Kind is the kind.
type Kind struct{}

// Settings are its keys.
type Settings struct {
	Version    declare.Constraint  `toml:"version" doc:"which versions will do"`
	Ini        map[string]string   `toml:"ini" doc:"settings of PHP: { memory_limit = \"256M\" }"`
	Extensions []string            `toml:"extensions" doc:"extensions that must be there: [\"mysqli\", \"intl\"]"`
	User       string              `toml:"user" doc:"the user that makes the pages, where Neighbour runs as root (root, who can read the project wherever it is)"`
	Mail       declare.ServiceName `toml:"mail" doc:"a mail service that gets what mail() sends"`
	Workers    int                 `toml:"workers" doc:"how many pages it makes at the same time (8)"`
}

// ServiceKeys returns the keys that name a service.
func (s *Settings) ServiceKeys() map[string]string { return map[string]string{"mail": "mail"} }

const defaultWorkers = 8

// Check reports settings that can't be.
func (s *Settings) Check(report func(key, message, remedy string)) {
	for name, value := range s.Ini {
		if strings.ContainsAny(name, "[]=\n ") || strings.ContainsAny(value, "\n\"") {
			report("ini."+name, "can't be a setting of PHP", `write for example ini = { memory_limit = "256M" }`)
		}
	}
	if s.Workers < 0 {
		report("workers", "must not be negative", "write for example 8")
	}
}

const example = `
[service.engine]
kind = "php"
extensions = ["mysqli"]
ini = { memory_limit = "256M" }

[service.site]
kind = "nginx"
root = "public"
php = "${engine}"
`

// Info describes the kind.
func (Kind) Info() kind.Info {
	return kind.Info{Name: "php", NoData: true, Packages: finder.Packages, Example: example, About: "PHP", Check: "FastCGI ping", Listens: true, UsualPort: 9000, Facts: []string{"address", "host", "port"}}
}

// Settings makes empty settings.
func (Kind) Settings() any { return &Settings{} }

var finder = kind.Finder{
	Title: "PHP", Program: "php-fpm*", Places: kind.Places("php"),
	Packages: kind.Packages{Debian: "php-fpm", Homebrew: "php"},
	Version:  lazyregexp.New(`PHP (\d+\.\d+\.\d+)`),
}

// Find looks for php-fpm, and for the extensions in it.
func (Kind) Find(in *kind.Instance) (kind.Program, error) {
	s := in.Service.Settings.(*Settings)
	p, err := finder.Find(s.Version)
	var missing *kind.MissingError
	if errors.As(err, &missing) && len(s.Extensions) > 0 {
		missing.Packages.Debian += " " + extensionPackages(s.Extensions).Debian // in one installation
	}
	if err != nil || len(s.Extensions) == 0 {
		return p, err
	}
	out, err := in.Command(context.Background(), p.Path, "-m").Output()
	if err != nil {
		return p, fmt.Errorf("asking %s for its extensions: %w", p.Path, err)
	}
	have := strings.Fields(strings.ToLower(string(out)))
	var lacks []string
	for _, e := range s.Extensions {
		if !slices.Contains(have, strings.ToLower(e)) {
			lacks = append(lacks, e)
		}
	}
	if len(lacks) > 0 {
		return p, &kind.MissingError{Program: fmt.Sprintf("the extensions %s of PHP %s", strings.Join(lacks, ", "), p.Version), Many: true, Packages: extensionPackages(lacks)}
	}
	return p, nil
}

// packagesOf are Debian's packages of extensions that go by another name.
var packagesOf = map[string]string{
	"mysqli": "php-mysql", "pdo_mysql": "php-mysql", "mysqlnd": "php-mysql", "pgsql": "php-pgsql", "pdo_pgsql": "php-pgsql", "sqlite3": "php-sqlite3", "pdo_sqlite": "php-sqlite3",
	"dom": "php-xml", "simplexml": "php-xml", "xmlreader": "php-xml", "xmlwriter": "php-xml", "xsl": "php-xml", "pdo_odbc": "php-odbc", "zend opcache": "php-opcache",
}

// extensionPackages returns the packages with these extensions, each once.
func extensionPackages(extensions []string) kind.Packages {
	var names []string
	for _, e := range extensions {
		e = strings.ToLower(e)
		names = append(names, cmp.Or(packagesOf[e], "php-"+strings.ReplaceAll(e, "_", "-")))
	}
	slices.Sort(names)
	return kind.Packages{Debian: strings.Join(slices.Compact(names), " ")}
}

const pingPath = "/neighbour-ping"

func config(in *kind.Instance) string { return filepath.Join(in.Run, "fpm.conf") }

// Prepare writes the configuration of one pool, and has PHP check it.
func (Kind) Prepare(ctx context.Context, in *kind.Instance, _ func(string)) error {
	s := in.Service.Settings.(*Settings)
	if err := kind.CheckPaths("PHP", []string{"${"}, in.Run, in.Trusted, in.Self); err != nil {
		return err
	}
	workers := s.Workers
	if workers == 0 {
		workers = defaultWorkers
	}
	var b strings.Builder
	fmt.Fprintf(&b, "[global]\nerror_log = /proc/self/fd/2\npid = %s\n\n[%s]\nlisten = 127.0.0.1:%d\nlisten.allowed_clients = 127.0.0.1\n", quote(filepath.Join(in.Run, "fpm.pid")), in.Service.Name, in.Port)
	fmt.Fprintf(&b, "pm = ondemand\npm.max_children = %d\nping.path = %s\ncatch_workers_output = yes\ndecorate_workers_output = no\nclear_env = no\n", workers, pingPath)
	if os.Getuid() == 0 {
		// The project's files may be readable by root only.
		who, group := "root", "root"
		if s.User != "" {
			u, err := user.Lookup(s.User)
			if err != nil {
				return fmt.Errorf("there is no user %q on this machine; correct user, or leave it out", s.User)
			}
			who, group = u.Username, u.Gid
		}
		fmt.Fprintf(&b, "user = %s\ngroup = %s\n", who, group)
	}
	// What pages report goes to PHP's own log, and not by way of the web server
	// to that one's. Another user's workers can't open it.
	if _, own := s.Ini["error_log"]; !own && s.User == "" {
		b.WriteString("php_admin_value[error_log] = /proc/self/fd/2\n")
	}
	ini, err := settings(in)
	if err != nil {
		return err
	}
	var file strings.Builder
	for _, name := range slices.Sorted(maps.Keys(ini)) {
		fmt.Fprintf(&b, "php_admin_value[%s] = %s\n", name, quote(ini[name]))
		fmt.Fprintf(&file, "%s = %s\n", name, quote(ini[name]))
	}
	if _, err := in.WriteRun("neighbour.ini", file.String(), false); err != nil {
		return err
	}
	if _, err := in.WriteRun(filepath.Base(config(in)), b.String(), false); err != nil {
		return err
	}
	if out, err := in.Command(ctx, in.Program.Path, "-t", "-R", "-y", config(in)).CombinedOutput(); err != nil {
		return fmt.Errorf("its configuration is refused\n%s", strings.TrimSpace(string(out)))
	}
	return nil
}

// quote makes a text a value of PHP's ini files.
func quote(text string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text) + `"`
}

// settings returns PHP's settings: those that are declared, and what else there is to set.
func settings(in *kind.Instance) (map[string]string, error) {
	s := in.Service.Settings.(*Settings)
	ini := map[string]string{}
	if in.Trusted != "" {
		ini["curl.cainfo"], ini["openssl.cafile"] = in.Trusted, in.Trusted
	}
	if s.Mail.Name != "" {
		facts, err := in.FactsOf(s.Mail.Name)
		if err != nil {
			return nil, err
		}
		ini["sendmail_path"] = strings.Join([]string{word(in.Self), SendmailCommand, word(facts["smtp_url"].Value)}, " ")
	}
	maps.Copy(ini, s.Ini)
	return ini, nil
}

// SendmailCommand is the hidden command of this program that takes a mail as sendmail does,
// which PHP's mail() calls by way of a shell.
const SendmailCommand = "sendmail"

// word quotes a word for the shell, in a value that stands in double quotes itself.
func word(text string) string {
	if strings.Trim(text, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789/._-:@+") == "" {
		return text
	}
	return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
}

// ClientVariables has PHP on a command line use the same settings, beside those of the system
// (PHP manual, "The configuration file": an empty folder in the list is the usual one).
func (Kind) ClientVariables(in *kind.Instance) (map[string]string, error) {
	return map[string]string{"PHP_INI_SCAN_DIR": ":" + in.Run}, nil
}

// Warn says that only root can choose who makes the pages.
func (Kind) Warn(in *kind.Instance) []string {
	s := in.Service.Settings.(*Settings)
	if s.User == "" || os.Getuid() == 0 {
		return nil
	}
	if me, err := user.Current(); err == nil && me.Username == s.User {
		return nil
	}
	return []string{fmt.Sprintf("only root can start PHP as another user, so user = %q has no effect", s.User)}
}

// Console returns PHP's own, in the project's folder, of the same version.
func (Kind) Console(in *kind.Instance) ([]string, error) {
	name := strings.Replace(filepath.Base(in.Program.Path), "-fpm", "", 1)
	candidates := append(kind.Candidates(name, finder.Places...), kind.Candidates("php", finder.Places...)...)
	if len(candidates) == 0 {
		return nil, &kind.MissingError{Program: name, Looked: "PATH", Packages: kind.Packages{Debian: "php-cli", Homebrew: "php"}}
	}
	return []string{candidates[0], "-a"}, nil
}

// Launch starts the server in the foreground.
func (Kind) Launch(in *kind.Instance) (kind.Launch, error) {
	argv := []string{in.Program.Path, "--nodaemonize", "--fpm-config", config(in)}
	if os.Getuid() == 0 {
		argv = append(argv, "--allow-to-run-as-root")
	}
	return kind.Launch{Argv: argv, Dir: in.Root, Signal: "TERM"}, nil
}

// Facts returns its address.
func (Kind) Facts(in *kind.Instance) (map[string]kind.Fact, error) { return kind.Address(in), nil }

// Probe asks for the ping page by FastCGI (FastCGI specification 1.0).
func (Kind) Probe(in *kind.Instance) (probe.Probe, error) {
	return probe.Talk("127.0.0.1:"+strconv.Itoa(in.Port), func(conn net.Conn) (string, error) {
		body, err := get(conn, pingPath)
		if err != nil {
			return "", err
		}
		if !strings.Contains(body, "pong") {
			return "", fmt.Errorf("answers %q to a ping", strings.TrimSpace(body))
		}
		return "answers a ping", nil
	}), nil
}
