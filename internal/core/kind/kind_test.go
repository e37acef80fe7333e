package kind_test

import (
	"encoding/base64"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/probe"
	"neighbour/internal/kinds/catalogue"
	"neighbour/internal/kinds/postgres"
	"neighbour/internal/kinds/program"
)

// install puts a program that tells its version into a folder.
func install(t *testing.T, dir, name, version string) string {
	t.Helper()
	require.NoError(t, os.MkdirAll(dir, 0o755))
	path := filepath.Join(dir, name)
	require.NoError(t, os.WriteFile(path, fmt.Appendf(nil, "#!/bin/sh\necho asked >> %s.asked\necho '%s'\n", path, version), 0o755))
	return path
}

func constraint(t *testing.T, text string) (c declare.Constraint) {
	t.Helper()
	if text != "" {
		require.NoError(t, c.UnmarshalText([]byte(text)))
	}
	return c
}

var version = regexp.MustCompile(`v(\d+\.\d+)`)

func TestSeveralVersionsSideBySide(t *testing.T) {
	root := t.TempDir()
	t.Setenv("XDG_CACHE_HOME", filepath.Join(root, "cache"))
	t.Setenv("PATH", filepath.Join(root, "path"))
	old := install(t, filepath.Join(root, "lib/9/bin"), "server", "server v9.6")
	middle := install(t, filepath.Join(root, "lib/15/bin"), "server", "server v15.8 (some words)")
	newest := install(t, filepath.Join(root, "lib/16/bin"), "server", "server v16.1")
	install(t, filepath.Join(root, "lib/17/bin"), "server", "no version here")
	require.NoError(t, os.MkdirAll(filepath.Join(root, "path"), 0o755))
	require.NoError(t, os.Symlink(middle, filepath.Join(root, "path", "server")))
	require.NoError(t, os.WriteFile(filepath.Join(root, "lib", "notes"), nil, 0o644))

	paths := kind.Candidates("server", filepath.Join(root, "lib/*/bin"))
	assert.Len(t, paths, 4, "the link in PATH leads to one that is known already")
	programs, err := kind.Versions(paths, []string{"--version"}, version)
	require.NoError(t, err)
	var order []string
	for _, p := range programs {
		order = append(order, p.Path)
		assert.Equal(t, filepath.Dir(p.Path), p.Dir)
	}
	assert.Equal(t, []string{newest, middle, old}, order, "the newest first, by number and not by letter")

	for c, want := range map[string]string{"": newest, "15": middle, ">=15.2, <16": middle, "<10": old} {
		got, err := kind.Choose("Server", programs, constraint(t, c), "a package")
		require.NoError(t, err, c)
		assert.Equal(t, want, got.Path, c)
	}
	_, err = kind.Choose("Server", programs, constraint(t, ">=18"), "a package")
	assert.EqualError(t, err, fmt.Sprintf(`no installed Server meets version = ">=18"; installed: 16.1 (%s), 15.8 (%s), 9.6 (%s); install another (a package) or change the constraint`, newest, middle, old))

	// Each was asked once; a program that changes is asked again.
	_, err = kind.Versions(paths, []string{"--version"}, version)
	require.NoError(t, err)
	asked, err := os.ReadFile(newest + ".asked")
	require.NoError(t, err)
	assert.Equal(t, 1, strings.Count(string(asked), "asked"))
	install(t, filepath.Dir(newest), "server", "server v16.10 now")
	programs, err = kind.Versions([]string{newest}, []string{"--version"}, version)
	require.NoError(t, err)
	assert.Equal(t, "16.10", programs[0].Version)

	_, err = kind.Versions([]string{filepath.Join(root, "lib/17/bin/server")}, []string{"--version"}, version)
	assert.ErrorContains(t, err, `answers "no version here", where no version was found`)
}

// A server that is the same to its clients does as well.
func TestFinderTakesEither(t *testing.T) {
	root := t.TempDir()
	also := install(t, root, "other-server", "Other server v=8.1.0")
	f := kind.Finder{Title: "Server", Program: "no-such-server", Also: "other-server", Places: []string{root}, Version: regexp.MustCompile(`v=(\d+\.\d+\.\d+)`)}
	got, err := f.Find(constraint(t, "8"))
	require.NoError(t, err)
	assert.Equal(t, kind.Program{Path: also, Version: "8.1.0", Dir: root}, got)
}

func TestCompareVersions(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{{"9.6", "15.8", -1}, {"15.10", "15.9", 1}, {"7.0.15", "7.0.15", 0}, {"odd", "odd", 0}} {
		assert.Equal(t, c.want, kind.CompareVersions(c.a, c.b), c)
	}
}

func TestMissingError(t *testing.T) {
	t.Setenv("PATH", t.TempDir())
	e := &kind.MissingError{Program: "redis-server", Looked: "PATH", Packages: kind.Packages{Debian: "redis-server", Homebrew: "redis"}}
	assert.EqualError(t, e, "redis-server is not installed (looked in PATH); install what Debian has as redis-server")
	assert.Empty(t, kind.InstallCommand(e.Packages), "nothing to install it with")
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "apt-get"), nil, 0o755))
	t.Setenv("PATH", dir)
	assert.Regexp(t, `^redis-server is not installed \(looked in PATH\); install it with: (sudo )?apt-get install --no-install-recommends redis-server$`, e.Error())
	assert.Regexp(t, `^(sudo )?apt-get install --no-install-recommends redis-server php-mysql php-xml$`, kind.InstallCommand(e.Packages, kind.Packages{Debian: "php-mysql php-xml"}, e.Packages))
	e.Packages = kind.Packages{}
	assert.NotContains(t, e.Error(), "install it with")
	assert.ErrorIs(t, &probe.FinalError{Err: os.ErrNotExist}, os.ErrNotExist)
}

// What every kind must have.
func TestCatalogue(t *testing.T) {
	assert.Equal(t, []string{"apache", "beanstalkd", "documents", "functions", "identity", "mail", "mariadb", "memcached", "mqtt", "mysql", "nats", "nginx", "objects", "outside", "php", "postgres", "program", "project", "rabbitmq", "redis", "sqlite", "static", "stub"}, catalogue.All.Kinds())
	for _, k := range catalogue.All {
		info := k.Info()
		assert.NotEmpty(t, info.About, info.Name)
		assert.NotEqual(t, info.UsualPort == 0, !info.Elsewhere && !info.NoProcess, info.Name)
		assert.Equal(t, info, catalogue.All.Kind(info.Name).Info())
		in := &kind.Instance{Service: &declare.Service{Kind: info.Name, Settings: k.Settings()}, Port: 4711, Secret: func(string) (string, error) { return "p@ss/word", nil },
			GivenPort: func(string) int { return 4712 }}
		facts, err := k.Facts(in)
		require.NoError(t, err)
		for _, name := range info.Facts {
			f, ok := facts[name]
			assert.True(t, ok, "%s offers %s", info.Name, name)
			holds := strings.Contains(f.Value, "ss"+"/word") || strings.Contains(f.Value, "p%40ss") || strings.Contains(f.Value, base64.StdEncoding.EncodeToString([]byte("p@ss/word")))
			assert.Equal(t, holds, f.Secret, "%s of %s holds a password or doesn't", name, info.Name)
		}
		assert.Len(t, facts, len(info.Facts), info.Name)
		_, err = k.Facts(&kind.Instance{Service: in.Service, Port: 4711, GivenPort: in.GivenPort, Secret: func(string) (string, error) { return "", errors.New("full disk") }})
		secret := slices.ContainsFunc(slices.Collect(maps.Values(facts)), func(f kind.Fact) bool { return f.Secret })
		assert.Equal(t, secret, err != nil, "a password that can't be kept is not made up: %s", info.Name)
	}
	_, ok := catalogue.All.Describe("zeppelin")
	assert.False(t, ok)
}

// instance is a program in a project's folder.
func instance(t *testing.T, settings *program.Settings, env map[string]string, argv ...string) *kind.Instance {
	t.Helper()
	return &kind.Instance{
		Service: &declare.Service{Settings: settings}, Root: t.TempDir(), Env: env,
		Argv: func(declare.Command) ([]string, error) { return argv, nil },
	}
}

func TestProgramIsFoundWhereItIsSaidToBe(t *testing.T) {
	k := program.Kind{}
	in := instance(t, &program.Settings{Dir: "api"}, nil, "./serve", "-x")
	_, err := k.Find(in)
	assert.ErrorContains(t, err, "api doesn't exist; create it, or correct dir")
	serve := install(t, filepath.Join(in.Root, "api"), "serve", "")
	in.Program, err = k.Find(in)
	require.NoError(t, err)
	assert.Equal(t, serve, in.Program.Path, "from its folder, not from here")
	launch, err := k.Launch(in)
	require.NoError(t, err)
	assert.Equal(t, kind.Launch{Argv: []string{serve, "-x"}, Dir: filepath.Join(in.Root, "api"), Signal: "TERM"}, launch)

	// The service's own PATH counts, also with folders of the project.
	in = instance(t, &program.Settings{}, map[string]string{"PATH": "tools:/usr/bin"}, "own-tool")
	own := install(t, filepath.Join(in.Root, "tools"), "own-tool", "")
	in.Program, err = k.Find(in)
	require.NoError(t, err)
	assert.Equal(t, own, in.Program.Path)
	in = instance(t, &program.Settings{}, map[string]string{"PATH": "/nowhere"}, "node")
	_, err = k.Find(in)
	var missing *kind.MissingError
	require.ErrorAs(t, err, &missing)
	assert.Equal(t, "nodejs", missing.Packages.Debian)

	in = instance(t, &program.Settings{Dir: "file"}, nil, "x")
	require.NoError(t, os.WriteFile(filepath.Join(in.Root, "file"), nil, 0o644))
	_, err = k.Find(in)
	assert.ErrorContains(t, err, "is a file; correct dir")
	facts, err := k.Facts(in)
	require.NoError(t, err)
	assert.Empty(t, facts, "without a port there is nothing to offer")
}

// A cluster decides which PostgreSQL can be used.
func TestPostgresOfTheClustersVersion(t *testing.T) {
	root := t.TempDir()
	t.Setenv("XDG_CACHE_HOME", filepath.Join(root, "cache"))
	t.Setenv("PATH", filepath.Join(root, "bin"))
	install(t, filepath.Join(root, "bin"), "postgres", "postgres (PostgreSQL) 3.2.1 (Debian 3.2.1-1)")
	in := &kind.Instance{Service: &declare.Service{Settings: &postgres.Settings{Version: constraint(t, "3.2")}}, Data: filepath.Join(root, "data")}
	p, err := postgres.Kind{}.Find(in)
	require.NoError(t, err)
	assert.Equal(t, "3.2.1", p.Version)
	require.NoError(t, os.MkdirAll(filepath.Join(root, "data/cluster"), 0o755))
	made := func(version string) {
		require.NoError(t, os.WriteFile(filepath.Join(root, "data/cluster/PG_VERSION"), []byte(version+"\n"), 0o644))
	}
	made("3.2")
	_, err = postgres.Kind{}.Find(in)
	assert.NoError(t, err, "before version 10 the first two numbers tell")
	made("3.1")
	_, err = postgres.Kind{}.Find(in)
	assert.ErrorContains(t, err, "was made by PostgreSQL 3.1, and installed is only")
	made("3.2")
	in.Service.Settings.(*postgres.Settings).Version = constraint(t, "4")
	_, err = postgres.Kind{}.Find(in)
	assert.ErrorContains(t, err, `was made by PostgreSQL 3.2, which version = "4" doesn't allow`)
}
