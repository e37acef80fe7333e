package postgres

import (
	"cmp"
	"fmt"
	"strings"

	"neighbour/internal/core/kind"
)

// Console returns psql, as the user of the facts.
func (Kind) Console(in *kind.Instance) ([]string, error) {
	program, err := client(in, "psql")
	if err != nil {
		return nil, err
	}
	login, err := login(in, "")
	return []string{program, login}, err
}

// Dump returns pg_dump. What is in the dump takes the place of what is there when it
// is loaded.
func (Kind) Dump(in *kind.Instance, database string) ([]string, error) {
	program, err := client(in, "pg_dump")
	if err != nil {
		return nil, err
	}
	login, err := login(in, database)
	return []string{program, "--clean", "--if-exists", "--no-owner", "--no-privileges", login}, err
}

// Load returns psql, which does all of it or nothing.
func (Kind) Load(in *kind.Instance, database string) ([]string, error) {
	program, err := client(in, "psql")
	if err != nil {
		return nil, err
	}
	login, err := login(in, database)
	return []string{program, "--no-psqlrc", "--quiet", "--single-transaction", "--set", "ON_ERROR_STOP=1", "--output", "/dev/null", login}, err
}

// client finds one of the server's own programs, those of its version first.
func client(in *kind.Instance, name string) (string, error) {
	candidates := kind.Candidates(name, append([]string{in.Program.Dir}, finder.Places...)...)
	if len(candidates) == 0 {
		return "", &kind.MissingError{Program: name, Looked: "PATH", Packages: kind.Packages{Debian: "postgresql-client", Homebrew: "libpq"}}
	}
	return candidates[0], nil
}

// login is how a program reaches a database. The password is not on its command
// line, where others could see it.
func login(in *kind.Instance, name string) (string, error) {
	user, password, err := in.Login(in.Service.Settings.(*Settings).Users, superuser)
	if err != nil {
		return "", err
	}
	line := fmt.Sprintf("127.0.0.1:%d:*:%s:%s\n", in.Port, strings.NewReplacer(`\`, `\\`, `:`, `\:`).Replace(user), password)
	passwords, err := in.WriteRun("console.pass", line, false)
	if err != nil {
		return "", err
	}
	word := func(text string) string { return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(text) + "'" }
	return fmt.Sprintf("host=127.0.0.1 port=%d user=%s dbname=%s passfile=%s", in.Port, word(user), word(cmp.Or(name, database(in))), word(passwords)), nil
}
