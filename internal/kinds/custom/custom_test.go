package custom_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/project"
	_ "neighbour/internal/kinds/catalogue"
)

const text = `
[kind.finder]
about = "search server"
program = ["finderd", "DIR/opt/*/finderd"]
version = { args = ["-v"], match = 'v(\d+\.\d+)' }
port = 7700
keys = { language = "en", size = "${project.name}" }
files = { "finder.conf" = "lang ${self.language} of ${self.name} $HOME\n" }
prepare = ["sh -c 'echo ${self.version} >> made'", "sh -c 'test -e ${self.run}/ok'"]
run = "finderd ${self.run}/finder.conf ${self.data} --size ${self.size}"
env = { KEY = "${self.password}", OWN = "kind" }
facts = { url = "http://127.0.0.1:${self.port}/${self.language}", key = "${self.password}" }

[kind.bare]
program = ["finderd"]
run = "sh -c 'exec finderd'"

[service.tools]
kind = "finder"
version = "<3"
language = "nl"
env.OWN = "service"

[service.plain]
kind = "bare"

[service.strict]
kind = "bare"
version = "1"
`

func TestDeclaredKind(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("XDG_STATE_HOME", filepath.Join(dir, "state"))
	t.Setenv("XDG_CACHE_HOME", filepath.Join(dir, "cache"))
	bin := filepath.Join(dir, "bin")
	install := func(path, version string) string {
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte("#!/bin/sh\necho finder v"+version+"\n"), 0o755))
		return path
	}
	install(filepath.Join(bin, "finderd"), "3.1")
	old := install(filepath.Join(dir, "opt/2/finderd"), "2.5")
	install(filepath.Join(dir, "opt/1/finderd"), "1.0")
	t.Setenv("PATH", bin+":"+os.Getenv("PATH"))
	require.NoError(t, os.WriteFile(filepath.Join(dir, declare.FileName), []byte(strings.Replace(text, "DIR", dir, 1)), 0o644))
	p, err := project.Open(dir)
	require.NoError(t, err)
	require.NoError(t, p.EnsureDirs())
	require.NoError(t, p.Agree())

	s := p.Service("tools")
	k := p.Kind(s)
	in, err := p.Instance(s)
	require.NoError(t, err)
	require.NoError(t, p.EnsureInstanceDirs(in))
	in.Program, err = k.Find(in)
	require.NoError(t, err)
	assert.Equal(t, kind.Program{Path: old, Version: "2.5", Dir: filepath.Dir(old)}, in.Program, "the newest that will do, wherever it is")

	// The second command fails: what the first made is made anew.
	prepare := func() error { return k.(kind.Preparer).Prepare(context.Background(), in, func(string) {}) }
	assert.ErrorContains(t, prepare(), "failed: exit status 1")
	require.NoError(t, os.WriteFile(filepath.Join(in.Run, "ok"), nil, 0o644))
	require.NoError(t, prepare())
	require.NoError(t, prepare())
	made, err := os.ReadFile(filepath.Join(in.Data, "files", "made"))
	require.NoError(t, err)
	assert.Equal(t, "2.5\n", string(made), "once, and not twice after a failure")
	config, err := os.ReadFile(filepath.Join(in.Run, "finder.conf"))
	require.NoError(t, err)
	assert.Equal(t, "lang nl of tools $HOME\n", string(config))

	l, err := k.Launch(in)
	require.NoError(t, err)
	assert.Equal(t, []string{old, filepath.Join(in.Run, "finder.conf"), filepath.Join(in.Data, "files"), "--size", p.Name}, l.Argv)
	require.Len(t, l.Env, 1, "the service's own variable goes before the kind's")
	facts, err := p.Facts("tools")
	require.NoError(t, err)
	assert.Equal(t, "KEY="+facts["key"].Value, l.Env[0])
	assert.True(t, facts["key"].Secret)
	assert.False(t, facts["url"].Secret)
	assert.Regexp(t, `^http://127\.0\.0\.1:77\d\d/nl$`, facts["url"].Value)

	plain := p.Service("plain")
	in, err = p.Instance(plain)
	require.NoError(t, err)
	in.Program, err = p.Kind(plain).Find(in)
	require.NoError(t, err)
	assert.Empty(t, in.Program.Version, "a program that nobody said how to ask is not asked")
	check, err := p.Kind(plain).Probe(in)
	assert.NoError(t, err)
	assert.Nil(t, check, "without a port only its process can be watched")
	strict := p.Service("strict")
	in, err = p.Instance(strict)
	require.NoError(t, err)
	_, err = p.Kind(strict).Find(in)
	assert.ErrorContains(t, err, `version = "1" can't be checked, since the kind bare doesn't say how its program tells its version`)
}
