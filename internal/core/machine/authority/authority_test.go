package authority

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"io"
	"log"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func roots(a *Authority) *x509.CertPool {
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(a.PEM())
	return pool
}

// A server with the authority's leaves is one that a client takes which trusts it, over
// HTTP/2, by any of its names and by its address.
func TestServer(t *testing.T) {
	t.Parallel()
	a, err := Open(t.TempDir())
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := &http.Server{TLSConfig: &tls.Config{GetCertificate: a.ForHello}, ErrorLog: log.New(io.Discard, "", 0),
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { _, _ = io.WriteString(w, r.Proto) })}
	go func() { _ = s.ServeTLS(l, "", "") }()
	t.Cleanup(func() { _ = s.Close() })
	get := func(host string, pool *x509.CertPool) (string, error) {
		client := http.Client{Transport: &http.Transport{ForceAttemptHTTP2: true, TLSClientConfig: &tls.Config{RootCAs: pool}, DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, network, l.Addr().String())
		}}}
		defer client.CloseIdleConnections()
		answer, err := client.Get("https://" + host)
		if err != nil {
			return "", err
		}
		defer answer.Body.Close()
		b, err := io.ReadAll(answer.Body)
		return string(b), err
	}
	for _, host := range []string{"toolshed.localhost", "api.toolshed.localhost", "TOOLSHED.test", "127.0.0.1", "localhost"} {
		proto, err := get(host, roots(a))
		require.NoError(t, err, host)
		assert.Equal(t, "HTTP/2.0", proto, host)
	}
	_, err = get("toolshed.localhost", x509.NewCertPool())
	assert.ErrorAs(t, err, new(x509.UnknownAuthorityError), "who doesn't trust it")
	_, err = get("shed.example.org", roots(a))
	assert.Error(t, err)
}

// Whoever has the key can't vouch for names of others with it.
func TestConstraints(t *testing.T) {
	t.Parallel()
	a, err := Open(t.TempDir())
	require.NoError(t, err)
	forge := func(c *x509.Certificate, by *x509.Certificate, key any) (*x509.Certificate, *ecdsa.PrivateKey) {
		own, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		c.SerialNumber, c.NotBefore, c.NotAfter = big.NewInt(7), time.Now().Add(-time.Hour), time.Now().Add(time.Hour)
		der, err := x509.CreateCertificate(rand.Reader, c, by, own.Public(), key)
		require.NoError(t, err)
		made, err := x509.ParseCertificate(der)
		require.NoError(t, err)
		return made, own
	}
	verify := func(c *x509.Certificate, name string, between ...*x509.Certificate) error {
		pool := x509.NewCertPool()
		for _, b := range between {
			pool.AddCert(b)
		}
		_, err := c.Verify(x509.VerifyOptions{Roots: roots(a), Intermediates: pool, DNSName: name})
		return err
	}
	for _, name := range []string{"bank.example", "nas.local", "api.internal", "router.home.arpa", "localhost.example", "test.com", "example", "xlocalhost", "8.8.8.8", "192.168.1.4"} {
		forged := &x509.Certificate{DNSNames: []string{name}}
		if ip := net.ParseIP(name); ip != nil {
			forged = &x509.Certificate{IPAddresses: []net.IP{ip}}
		}
		c, _ := forge(forged, a.Certificate(), a.key)
		var invalid x509.CertificateInvalidError
		require.ErrorAs(t, verify(c, name), &invalid, name)
		assert.Equal(t, x509.CANotAuthorizedForThisName, invalid.Reason, name)
		_, err := a.Leaf(name)
		assert.ErrorAs(t, err, new(*NameError), name)
	}
	below, key := forge(&x509.Certificate{IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}, a.Certificate(), a.key)
	c, _ := forge(&x509.Certificate{DNSNames: []string{"shed.localhost"}}, below, key)
	assert.Error(t, verify(c, "shed.localhost", below), "no authority is below it")
	c, _ = forge(&x509.Certificate{DNSNames: []string{"shed.localhost"}, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth, x509.ExtKeyUsageServerAuth}}, a.Certificate(), a.key)
	assert.NoError(t, verify(c, "shed.localhost"))
	_, err = c.Verify(x509.VerifyOptions{Roots: roots(a), KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}})
	assert.Error(t, err, "it is for servers")
}

func TestOneForAll(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "a", "b")
	var all sync.WaitGroup
	got := make([]string, 20)
	for i := range got {
		all.Go(func() {
			if a, err := Open(dir); assert.NoError(t, err) {
				got[i] = string(a.PEM())
			}
		})
	}
	all.Wait()
	for _, g := range got {
		require.Equal(t, got[0], g)
	}
	info, err := os.Stat(filepath.Join(dir, keyFile))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode())
	// Without its certificate it is made anew for the same key; what it signed holds.
	a, err := Open(dir)
	require.NoError(t, err)
	leaf, err := a.Leaf("shed.localhost")
	require.NoError(t, err)
	require.NoError(t, os.Remove(a.Path()))
	again, err := Open(dir)
	require.NoError(t, err)
	_, err = leaf.Leaf.Verify(x509.VerifyOptions{Roots: roots(again), DNSName: "shed.localhost"})
	assert.NoError(t, err)
}

func TestDamagedFiles(t *testing.T) {
	t.Parallel()
	other, err := Open(t.TempDir())
	require.NoError(t, err)
	for name, c := range map[string]struct {
		file   string
		damage func(path string) error
		says   string
	}{
		"key that others can read":    {keyFile, func(p string) error { return os.Chmod(p, 0o640) }, "can be read by others"},
		"key that is cut off":         {keyFile, func(p string) error { return os.Truncate(p, 40) }, "does not hold one PRIVATE KEY"},
		"key that is a link":          {keyFile, func(p string) error { _ = os.Rename(p, p+"2"); return os.Symlink(p+"2", p) }, "is no file"},
		"empty certificate":           {certificateFile, func(p string) error { return os.Truncate(p, 0) }, "does not hold one CERTIFICATE"},
		"somebody else's certificate": {certificateFile, func(p string) error { return os.WriteFile(p, other.PEM(), 0o644) }, "is not the certificate of authority-key.pem"},
		"certificate with more": {certificateFile, func(p string) error {
			b, _ := os.ReadFile(p)
			return os.WriteFile(p, append(b, other.PEM()...), 0o644)
		}, "does not hold one CERTIFICATE"},
	} {
		dir := t.TempDir()
		_, err := Open(dir)
		require.NoError(t, err)
		require.NoError(t, c.damage(filepath.Join(dir, c.file)), name)
		_, err = Open(dir)
		var damaged *DamagedError
		require.ErrorAs(t, err, &damaged, name)
		assert.Contains(t, err.Error(), c.says, name)
		assert.Contains(t, err.Error(), "move "+dir+" away", name)
	}
}

// Leaves are renewed in time; an authority whose time is over says so, and can be renewed.
func TestTime(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
	a, err := open(t.TempDir(), func() time.Time { return now })
	require.NoError(t, err)
	leaf := func() *x509.Certificate {
		c, err := a.Leaf("shed.localhost")
		require.NoError(t, err)
		_, err = c.Leaf.Verify(x509.VerifyOptions{Roots: roots(a), DNSName: "shed.localhost", CurrentTime: now})
		require.NoError(t, err)
		return c.Leaf
	}
	first := leaf()
	now = now.Add(59 * 24 * time.Hour)
	assert.Equal(t, first, leaf(), "it holds for a month more")
	now = now.Add(2 * 24 * time.Hour)
	second := leaf()
	assert.NotEqual(t, first, second)
	assert.Less(t, second.NotAfter.Sub(second.NotBefore), 398*24*time.Hour)
	now = now.Add(-100 * 24 * time.Hour)
	_, err = a.Leaf("shed.localhost")
	assert.ErrorContains(t, err, "is it right?")
	now = a.Certificate().NotAfter.Add(-time.Hour)
	assert.Equal(t, a.Certificate().NotAfter, leaf().NotAfter, "no leaf outlives it")
	now = now.Add(2 * time.Hour)
	_, err = a.Leaf("shed.localhost")
	require.ErrorAs(t, err, new(*ExpiredError))
	require.NoError(t, a.Renew())
	leaf()
	_, err = a.Leaf("nas.internal")
	require.ErrorContains(t, err, "names that end in internal may be other machines', so it has to be asked for them")
	require.NoError(t, a.Renew("internal"))
	leaf()
	_, err = a.Leaf("nas.internal")
	require.NoError(t, err)
	_, err = a.Leaf("nas.local")
	require.ErrorAs(t, err, new(*NameError))
	again, err := Open(a.dir)
	require.NoError(t, err)
	assert.Equal(t, a.PEM(), again.PEM())
}

// Whatever a client asks for gets a certificate for exactly that, or none.
func TestAnyName(t *testing.T) {
	t.Parallel()
	a, err := Open(t.TempDir())
	require.NoError(t, err)
	rapid.Check(t, func(r *rapid.T) {
		name := rapid.OneOf(rapid.StringMatching(`([A-Za-z0-9-]{1,8}\.){0,3}(localhost|test|local|example|home\.arpa)\.?`), rapid.String(), rapid.SampledFrom([]string{"*.localhost", "..localhost", ".localhost", "-a.test", "::1", "[::1]", "127.9.9.9", "0.0.0.0", strings.Repeat("a.", 130) + "test"})).Draw(r, "name")
		c, err := a.ForHello(&tls.ClientHelloInfo{ServerName: name})
		if err != nil {
			assert.ErrorAs(r, err, new(*NameError))
			return
		}
		_, err = c.Leaf.Verify(x509.VerifyOptions{Roots: roots(a), DNSName: strings.TrimSuffix(name, ".")})
		assert.NoError(r, err)
		assert.Equal(r, 1, len(c.Leaf.DNSNames)+len(c.Leaf.IPAddresses))
		assert.NotContains(r, strings.Join(c.Leaf.DNSNames, ""), "*")
	})
}
