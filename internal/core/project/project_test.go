package project_test

import (
	"crypto/tls"
	"crypto/x509"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/project"
)

// open makes a project in a folder of its own.
func open(t *testing.T, dir, toml string) *project.Project {
	t.Helper()
	if !strings.HasPrefix(os.Getenv("XDG_STATE_HOME"), os.TempDir()) { // one for each test
		t.Setenv("XDG_STATE_HOME", filepath.Join(t.TempDir(), "state"))
	}
	require.NoError(t, os.MkdirAll(dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "neighbour.toml"), []byte(toml), 0o644))
	p, err := project.Open(dir)
	require.NoError(t, err)
	require.NoError(t, p.EnsureDirs())
	return p
}

const stack = `
[service.ledger]
kind = "postgres"
[service.other]
kind = "postgres"
[service.api]
run = "api ${ledger.url}"
port = 4100
env.WHERE = "${other.port}"
[service.worker]
run = "worker"
`

func TestPortsAreKeptAndDiffer(t *testing.T) {
	dir := t.TempDir()
	p := open(t, dir, stack)
	ports := map[string]int{}
	for _, s := range p.Services {
		n, err := p.Port(s)
		require.NoError(t, err)
		ports[s.Name] = n
	}
	assert.Equal(t, 4100, ports["api"])
	assert.Zero(t, ports["worker"])
	assert.GreaterOrEqual(t, ports["ledger"], 5432)
	assert.NotEqual(t, ports["ledger"], ports["other"])

	again := open(t, dir, stack)
	n, err := again.Port(again.Service("ledger"))
	require.NoError(t, err)
	assert.Equal(t, ports["ledger"], n, "the same again next time")

	l, err := net.Listen("tcp", "127.0.0.1:"+strconv.Itoa(n))
	require.NoError(t, err)
	defer l.Close()
	replaced, err := again.ReplacePort(again.Service("ledger"))
	require.NoError(t, err)
	assert.NotContains(t, []int{n, ports["other"]}, replaced)
}

// Projects that choose their ports at the same moment choose different ones.
func TestPortsOfManyProjectsAtOnce(t *testing.T) {
	var all []*project.Project
	for range 20 {
		all = append(all, open(t, t.TempDir(), stack))
	}
	var taken sync.Map
	var wg sync.WaitGroup
	for _, p := range all {
		for _, name := range []string{"ledger", "other"} {
			wg.Go(func() {
				n, err := p.Port(p.Service(name))
				assert.NoError(t, err)
				_, twice := taken.LoadOrStore(n, p.Dir)
				assert.False(t, twice, "port %d is given twice", n)
			})
		}
	}
	wg.Wait()
}

func TestSecretsAreKeptAndClosed(t *testing.T) {
	dir := t.TempDir()
	p := open(t, dir, stack)
	facts, err := p.Facts("ledger")
	require.NoError(t, err)
	password := facts["password"]
	assert.True(t, password.Secret && facts["url"].Secret && !facts["host"].Secret)
	assert.Contains(t, facts["url"].Value, password.Value)
	other, err := p.Facts("other")
	require.NoError(t, err)
	assert.NotEqual(t, password, other["password"])
	again, err := open(t, dir, stack).Facts("ledger")
	require.NoError(t, err)
	assert.Equal(t, facts, again)
	info, err := os.Stat(filepath.Join(project.At(dir).StateFolder(), "secrets.json"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	ignore, err := os.ReadFile(filepath.Join(dir, ".neighbour", ".gitignore"))
	require.NoError(t, err)
	assert.Equal(t, "*\n", string(ignore))

	require.NoError(t, os.WriteFile(filepath.Join(project.At(dir).StateFolder(), "secrets.json"), []byte("{broken"), 0o600))
	_, err = open(t, dir, stack).Facts("ledger")
	assert.ErrorContains(t, err, "move it away if it is broken", "a broken file is not overwritten")
}

func TestInstanceHasItsEnvironment(t *testing.T) {
	p := open(t, t.TempDir(), stack)
	in, err := p.Instance(p.Service("api"))
	require.NoError(t, err)
	other, err := p.Port(p.Service("other"))
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"PORT": "4100", "WHERE": strconv.Itoa(other)}, in.Env)
	t.Setenv("PGPORT", "1")
	env, err := p.Environment(p.Service("ledger"))
	require.NoError(t, err)
	assert.NotContains(t, env, "PGPORT=1", "a server isn't swayed by the user's variables")
	env, err = p.Environment(p.Service("api"))
	require.NoError(t, err)
	assert.Contains(t, env, "PGPORT=1", "a program gets them")
}

func TestSocketsHaveShortPaths(t *testing.T) {
	t.Setenv("XDG_RUNTIME_DIR", "")
	short := open(t, filepath.Join(t.TempDir(), "short"), stack)
	t.Setenv("CI", "true") // its state is in its tree
	long := open(t, filepath.Join(t.TempDir(), strings.Repeat("long-", 40)), stack)
	assert.Equal(t, filepath.Join(short.StateFolder(), "run/keeper.sock"), short.Socket())
	for _, p := range []*project.Project{short, long} {
		assert.Less(t, len(p.Socket()), 104)
		in, err := p.Instance(p.Service("ledger"))
		require.NoError(t, err)
		assert.Less(t, len(in.Run)+len("/.s.PGSQL.65535"), 104)
		info, err := os.Stat(filepath.Dir(p.Socket()))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
	}
	t.Cleanup(func() { os.RemoveAll(filepath.Dir(long.Socket())) })
}

func TestProjectsAreListed(t *testing.T) {
	dir := t.TempDir()
	p := open(t, dir, stack)
	assert.Equal(t, []string{p.Dir}, project.Enlisted())
	require.NoError(t, os.RemoveAll(filepath.Join(p.Dir, ".neighbour")))
	assert.Equal(t, []string{p.Dir}, project.Enlisted(), "its state is elsewhere")
	require.NoError(t, os.RemoveAll(p.Dir))
	assert.Empty(t, project.Enlisted(), "one that is gone is no longer listed")
}

// A service whose certificate is referred to has one at its start, for its names; others have
// none. Programs are pointed to the authority, unless they are pointed elsewhere.
func TestCertificates(t *testing.T) {
	state := t.TempDir()
	t.Setenv("XDG_STATE_HOME", state)
	for _, name := range []string{"NODE_EXTRA_CA_CERTS", "SSL_CERT_FILE", "REQUESTS_CA_BUNDLE", "CURL_CA_BUNDLE"} {
		t.Setenv(name, "")
	}
	t.Setenv("CURL_CA_BUNDLE", "/own.pem")
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "neighbour.toml"), []byte(`[project]
name = "shed"
[service.api]
run = "serve --cert ${api.tls_cert} --key ${api.tls_key}"
port = "any"
env.CA = "${api.ca}"
env.REQUESTS_CA_BUNDLE = "/mine.pem"
[service.web]
run = "java -jar web.jar"
port = "any"
env.API = "${api.public_url}"
`), 0o600))
	p, err := project.Open(dir)
	require.NoError(t, err)
	p.Self = "/usr/bin/neighbour"
	require.NoError(t, p.EnsureAuthority())
	assert.Empty(t, p.Service("web").Needs, "an outside address is known before a start")
	for _, s := range p.Services {
		in, err := p.Instance(s)
		require.NoError(t, err)
		require.NoError(t, p.EnsureInstanceDirs(in))
	}
	facts, err := p.Facts("api")
	require.NoError(t, err)
	pair, err := tls.LoadX509KeyPair(facts["tls_cert"].Value, facts["tls_key"].Value)
	require.NoError(t, err)
	b, err := os.ReadFile(facts["ca"].Value)
	require.NoError(t, err)
	roots := x509.NewCertPool()
	require.True(t, roots.AppendCertsFromPEM(b))
	for _, name := range []string{"localhost", "127.0.0.1", "api.shed.localhost"} {
		_, err := pair.Leaf.Verify(x509.VerifyOptions{Roots: roots, DNSName: name})
		assert.NoError(t, err, name)
	}
	facts, err = p.Facts("web")
	require.NoError(t, err)
	assert.NotContains(t, facts, "tls_cert")
	assert.Contains(t, facts["public_url"].Value, "https://shed.localhost")
	got := func(service string) map[string]string {
		vars, err := p.Variables(p.Service(service))
		require.NoError(t, err)
		out := map[string]string{}
		for _, v := range vars {
			out[v.Name] = v.Value
		}
		return out
	}
	api, web := got("api"), got("web")
	assert.Equal(t, "/mine.pem", api["REQUESTS_CA_BUNDLE"])
	assert.NotContains(t, api, "CURL_CA_BUNDLE")
	assert.NotContains(t, api, "JAVA_TOOL_OPTIONS")
	assert.Contains(t, web["JAVA_TOOL_OPTIONS"], "trustStore="+state)
	assert.True(t, strings.HasPrefix(web["NODE_EXTRA_CA_CERTS"], state))
	assert.True(t, strings.HasPrefix(web["SSL_CERT_FILE"], state))
	assert.Contains(t, web["API"], "https://api.shed.localhost")
}
