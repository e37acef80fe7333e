package authority

import (
	"crypto/tls"
	"crypto/x509"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"software.sslmate.com/src/go-pkcs12"
)

// The bundles have what the machine trusts and the authority, and are made anew when either is.
func TestBundles(t *testing.T) {
	dir := t.TempDir()
	system := filepath.Join(dir, "system.pem")
	other, err := Open(filepath.Join(dir, "other"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(system, other.PEM(), 0o600))
	defer func(before []string) { systemBundles = before }(systemBundles)
	systemBundles = []string{filepath.Join(dir, "none"), system}
	a, err := Open(filepath.Join(dir, "own"))
	require.NoError(t, err)
	require.Equal(t, Files{Certificate: a.Path()}, FilesIn(filepath.Join(dir, "own")))
	require.NoError(t, a.WriteFiles())
	f := FilesIn(filepath.Join(dir, "own"))
	pool := x509.NewCertPool()
	b, err := os.ReadFile(f.Bundle)
	require.NoError(t, err)
	require.True(t, pool.AppendCertsFromPEM(b))
	leaf, err := a.Leaf("toolshed.localhost")
	require.NoError(t, err)
	for _, c := range []*x509.Certificate{leaf.Leaf, other.Certificate()} {
		_, err = c.Verify(x509.VerifyOptions{Roots: pool})
		assert.NoError(t, err)
	}
	store, err := os.ReadFile(f.Java)
	require.NoError(t, err)
	trusted, err := pkcs12.DecodeTrustStore(store, "")
	require.NoError(t, err)
	assert.Len(t, trusted, 2)

	hour := time.Now().Add(time.Hour).Truncate(time.Second) // when they were made
	made := func() time.Time { info, _ := os.Stat(f.Java); return info.ModTime() }
	require.NoError(t, os.Chtimes(f.Java, hour, hour))
	require.NoError(t, a.WriteFiles())
	assert.True(t, made().Equal(hour), "nothing is newer")
	require.NoError(t, os.Chtimes(system, hour.Add(time.Hour), hour.Add(time.Hour)))
	require.NoError(t, a.WriteFiles())
	assert.False(t, made().Equal(hour))
}

// A server gets a pair for its names, the same as long as it holds.
func TestPairs(t *testing.T) {
	dir := t.TempDir()
	now := time.Now()
	a, err := open(filepath.Join(dir, "own"), func() time.Time { return now })
	require.NoError(t, err)
	names := []string{"ledger.toolshed.localhost", "localhost", "127.0.0.1"}
	p, err := a.WritePair(filepath.Join(dir, "ledger"), names...)
	require.NoError(t, err)
	load := func() *x509.Certificate {
		c, err := tls.LoadX509KeyPair(p.Certificate, p.Key)
		require.NoError(t, err)
		return c.Leaf
	}
	first := load()
	for _, n := range names {
		assert.NoError(t, first.VerifyHostname(n))
	}
	info, err := os.Stat(p.Key)
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())
	again := func(names ...string) bool {
		_, err := a.WritePair(filepath.Join(dir, "ledger"), names...)
		require.NoError(t, err)
		return !load().Equal(first)
	}
	assert.False(t, again(names...))
	now = now.Add(leafLife - early + time.Hour)
	assert.True(t, again(names...), "it ends soon")
	first = load()
	assert.True(t, again(append(names, "x.test")...), "another name")
	first = load()
	require.NoError(t, os.Remove(p.Key))
	assert.True(t, again(names...))
	_, err = a.WritePair(filepath.Join(dir, "x"), "example.org")
	var name *NameError
	assert.ErrorAs(t, err, &name)
}

// Whether there is an authority is asked without making one.
func TestExists(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	assert.False(t, Exists(dir))
	a, err := Open(dir)
	require.NoError(t, err)
	assert.True(t, Exists(dir))
	require.NoError(t, os.Remove(a.Path()))
	assert.False(t, Exists(dir))
	assert.NoFileExists(t, a.Path())
}
