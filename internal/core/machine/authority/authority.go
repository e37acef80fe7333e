// Package authority is a certificate authority of one user of one machine, which can vouch
// for names of local use and for nothing else, whoever may get hold of its key.
package authority

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"sync"
	"syscall"
	"time"

	"neighbour/internal/core/machine/atomicfile"
)

// The files of an authority, in its folder.
const (
	certificateFile = "authority.pem"
	keyFile         = "authority-key.pem"
)

// How long certificates hold. Some programs take no leaf that holds for more than 398 days.
const (
	authorityLife = 10 * 365 * 24 * time.Hour
	leafLife      = 90 * 24 * time.Hour
	// early is how long before its end a leaf is made anew.
	early = 30 * 24 * time.Hour
	// before is how long before its making a certificate holds, for clocks that are behind.
	before = 24 * time.Hour
)

// Authority signs certificates. Its methods may be called at the same time.
type Authority struct {
	dir string
	now func() time.Time
	key crypto.Signer

	mu          sync.Mutex
	certificate *x509.Certificate
	leaves      map[string]*leaf
}

// Open opens the authority in a folder, and makes it if there is none. Several processes
// may do so at the same time: they get the same one. Its error is a *DamagedError if there
// are files that can't be used.
func Open(dir string) (*Authority, error) { return open(dir, time.Now) }

func open(dir string, now func() time.Time) (*Authority, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("the certificate authority can't be kept: %w", err)
	}
	unlock, err := atomicfile.Lock(filepath.Join(dir, "lock"))
	if err != nil {
		return nil, fmt.Errorf("the certificate authority can't be opened: %w", err)
	}
	defer unlock()
	a := &Authority{dir: dir, now: now, leaves: map[string]*leaf{}}
	if a.key, err = a.readKey(); err != nil {
		return nil, err
	}
	if a.key == nil {
		if a.key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
			return nil, err
		}
		if err := a.writeKey(); err != nil {
			return nil, err
		}
		// A certificate of another key is of no use any more.
		return a, a.certify()
	}
	if a.certificate, err = a.readCertificate(); err != nil || a.certificate != nil {
		return a, err
	}
	return a, a.certify()
}

// DamagedError says that a file of the authority can't be used.
type DamagedError struct {
	Path string
	Why  string
}

func (e *DamagedError) Error() string {
	return fmt.Sprintf("%s %s; move %s away, and the next start makes a new authority, which has to be trusted anew", e.Path, e.Why, filepath.Dir(e.Path))
}

func (a *Authority) readKey() (crypto.Signer, error) {
	path := filepath.Join(a.dir, keyFile)
	damaged := func(why string) error { return &DamagedError{path, why} }
	info, err := os.Lstat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, nil
	case err != nil:
		return nil, damaged("can't be read: " + err.Error())
	case !info.Mode().IsRegular():
		return nil, damaged("is no file")
	case info.Mode().Perm()&0o077 != 0:
		return nil, damaged("can be read by others, who may have made certificates with it")
	}
	if st, ok := info.Sys().(*syscall.Stat_t); ok && int(st.Uid) != os.Getuid() {
		return nil, damaged("belongs to somebody else")
	}
	block, err := readPEM(path, "PRIVATE KEY")
	if err != nil {
		return nil, damaged(err.Error())
	}
	parsed, err := x509.ParsePKCS8PrivateKey(block)
	if err != nil {
		return nil, damaged("is no key: " + err.Error())
	}
	key, ok := parsed.(*ecdsa.PrivateKey)
	if !ok {
		return nil, damaged("is not a key of this authority's kind")
	}
	return key, nil
}

func (a *Authority) writeKey() error {
	b, err := x509.MarshalPKCS8PrivateKey(a.key)
	if err != nil {
		return err
	}
	return atomicfile.Write(filepath.Join(a.dir, keyFile), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: b}), 0o600)
}

// readCertificate returns nil if there is none.
func (a *Authority) readCertificate() (*x509.Certificate, error) {
	path := a.Path()
	block, err := readPEM(path, "CERTIFICATE")
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	damaged := func(why string) error { return &DamagedError{path, why} }
	if err != nil {
		return nil, damaged(err.Error())
	}
	c, err := x509.ParseCertificate(block)
	if err != nil {
		return nil, damaged("is no certificate: " + err.Error())
	}
	key, ok := c.PublicKey.(*ecdsa.PublicKey)
	if !ok || !key.Equal(a.key.Public()) {
		return nil, damaged("is not the certificate of " + keyFile)
	}
	if !c.IsCA || !c.PermittedDNSDomainsCritical || len(c.PermittedDNSDomains) == 0 {
		return nil, damaged("is a certificate that could vouch for any name")
	}
	return c, nil
}

func readPEM(path, what string) ([]byte, error) {
	b, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	block, rest := pem.Decode(b)
	if block == nil || block.Type != what || len(rest) != 0 {
		return nil, fmt.Errorf("does not hold one %s", what)
	}
	return block.Bytes, nil
}

// certify makes the authority's own certificate.
func (a *Authority) certify(also ...string) error {
	serial, err := serial()
	if err != nil {
		return err
	}
	now := a.now()
	c := &x509.Certificate{
		SerialNumber:          serial,
		Subject:               pkix.Name{CommonName: "Neighbour of " + owner(), Organization: []string{"Neighbour, names of this machine only"}},
		NotBefore:             now.Add(-before),
		NotAfter:              now.Add(authorityLife),
		KeyUsage:              x509.KeyUsageCertSign | x509.KeyUsageCRLSign,
		ExtKeyUsage:           []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		BasicConstraintsValid: true,
		IsCA:                  true,
		MaxPathLenZero:        true,
		// RFC 5280, section 4.2.1.10: whoever knows the extension refuses other names, and
		// whoever doesn't refuses the authority.
		PermittedDNSDomainsCritical: true,
		PermittedDNSDomains:         slices.Concat(ownDomains, also),
		PermittedIPRanges:           loopback,
	}
	der, err := x509.CreateCertificate(rand.Reader, c, c, a.key.Public(), a.key)
	if err != nil {
		return err
	}
	made, err := x509.ParseCertificate(der)
	if err != nil {
		return err
	}
	if err := atomicfile.Write(a.Path(), inPEM(made), 0o644); err != nil {
		return err
	}
	a.certificate = made
	return nil
}

// owner is the user whose authority it is, and the machine's name, so that somebody who
// finds it in a list of authorities knows where it comes from.
func owner() string {
	name := "user " + fmt.Sprint(os.Getuid())
	if u, err := user.Current(); err == nil {
		name = u.Username
	}
	if host, err := os.Hostname(); err == nil {
		name += " on " + host
	}
	// RFC 5280, appendix A.1, ub-common-name.
	const most = 64 - len("Neighbour of ")
	return name[:min(len(name), most)]
}

func serial() (*big.Int, error) { return rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127)) }

// Path returns the file of the authority's certificate, for programs that are to trust it.
func (a *Authority) Path() string { return filepath.Join(a.dir, certificateFile) }

// Certificate returns the authority's own certificate.
func (a *Authority) Certificate() *x509.Certificate {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.certificate
}

// Valid returns an *ExpiredError if the authority's own certificate doesn't hold now.
func (a *Authority) Valid() error {
	c, now := a.Certificate(), a.now()
	if now.Before(c.NotBefore) || now.After(c.NotAfter) {
		return &ExpiredError{c.NotBefore, c.NotAfter, now}
	}
	return nil
}

// PEM returns the authority's own certificate as it is in its file.
func (a *Authority) PEM() []byte { return inPEM(a.Certificate()) }

func inPEM(c *x509.Certificate) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})
}

// loopback are the addresses that the authority can vouch for.
var loopback = []*net.IPNet{
	{IP: net.IPv4(127, 0, 0, 0).To4(), Mask: net.CIDRMask(8, 32)},
	{IP: net.IPv6loopback, Mask: net.CIDRMask(128, 128)},
}
