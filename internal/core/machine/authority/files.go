package authority

import (
	"bytes"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"software.sslmate.com/src/go-pkcs12"

	"neighbour/internal/core/machine/atomicfile"
)

// Files are what programs are pointed to so that they trust an authority. Those that don't
// exist are "".
type Files struct {
	// Certificate is the authority's own certificate, for programs that add it to those
	// that they trust.
	Certificate string
	// Bundle has the authorities that this machine trusts, too, for programs that take a
	// file in place of those.
	Bundle string
	// Java is the same for Java, in the format of RFC 7292, without a password.
	Java string
}

const (
	bundleFile = "bundle.pem"
	javaFile   = "bundle.p12"
)

// FilesIn returns the files of the authority in a folder.
func FilesIn(dir string) Files {
	there := func(name string) string {
		path := filepath.Join(dir, name)
		if info, err := os.Stat(path); err != nil || !info.Mode().IsRegular() {
			return ""
		}
		return path
	}
	return Files{there(certificateFile), there(bundleFile), there(javaFile)}
}

// Exists reports whether there is an authority in a folder: Open makes what is missing.
func Exists(dir string) bool {
	for _, name := range []string{certificateFile, keyFile} {
		if _, err := os.Stat(filepath.Join(dir, name)); err != nil {
			return false
		}
	}
	return true
}

// CertificateIn returns where the certificate of the authority in a folder is, whether it is
// there or not.
func CertificateIn(dir string) string { return filepath.Join(dir, certificateFile) }

// systemBundles are where systems keep the authorities that they trust, in one file: Debian and
// Arch, Fedora, macOS and others.
var systemBundles = []string{"/etc/ssl/certs/ca-certificates.crt", "/etc/pki/tls/certs/ca-bundle.crt", "/etc/ssl/cert.pem", "/etc/ssl/ca-bundle.pem"}

// WriteFiles makes the files that are not there, or are older than what they are made of.
// A machine without a list of its own authorities gets no bundles: a program that is pointed
// to one would trust nothing else.
func (a *Authority) WriteFiles() error {
	for _, path := range systemBundles {
		system, err := os.Stat(path)
		if err != nil {
			continue
		}
		own, err := os.Stat(a.Path())
		if err != nil {
			return err
		}
		newest := system.ModTime()
		if own.ModTime().After(newest) {
			newest = own.ModTime()
		}
		if made, err := os.Stat(filepath.Join(a.dir, javaFile)); err == nil && !made.ModTime().Before(newest) {
			return nil
		}
		return a.writeBundles(path)
	}
	return nil
}

func (a *Authority) writeBundles(system string) error {
	b, err := os.ReadFile(system)
	if err != nil {
		return fmt.Errorf("what this machine trusts can't be read: %w", err)
	}
	b = bytes.TrimSpace(b)
	all := append(append(bytes.Clone(b), '\n'), a.PEM()...)
	if err := atomicfile.Write(filepath.Join(a.dir, bundleFile), all, 0o644); err != nil {
		return err
	}
	var trusted []pkcs12.TrustStoreEntry
	for rest := all; ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		if c, err := x509.ParseCertificate(block.Bytes); err == nil { // some have what Go refuses
			trusted = append(trusted, pkcs12.TrustStoreEntry{Cert: c, FriendlyName: fmt.Sprint("authority ", len(trusted))})
		}
	}
	store, err := pkcs12.Passwordless.EncodeTrustStoreEntries(trusted, "")
	if err != nil {
		return err
	}
	return atomicfile.Write(filepath.Join(a.dir, javaFile), store, 0o644)
}

// Pair are the files of a certificate and of its key, for a server that ends TLS itself.
type Pair struct{ Certificate, Key string }

// PairIn returns where the pair of a server is kept, whether it is there or not.
func PairIn(dir string) Pair {
	return Pair{filepath.Join(dir, "tls.pem"), filepath.Join(dir, "tls-key.pem")}
}

// WritePair makes a certificate for several names, with its key, in a folder, unless there is
// one that holds for long enough. Who may read the key is left to the folder's owner.
func (a *Authority) WritePair(dir string, names ...string) (Pair, error) {
	p := PairIn(dir)
	if a.holds(p, names) {
		return p, nil
	}
	c, err := a.sign(names, a.now())
	if err != nil {
		return p, err
	}
	key, err := x509.MarshalPKCS8PrivateKey(c.PrivateKey)
	if err != nil {
		return p, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return p, err
	}
	if err := atomicfile.Write(p.Key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key}), 0o600); err != nil {
		return p, err
	}
	return p, atomicfile.Write(p.Certificate, append(inPEM(c.Leaf), a.PEM()...), 0o644)
}

// holds reports whether there is a pair that this authority has made for the names, and that
// holds for long enough.
func (a *Authority) holds(p Pair, names []string) bool {
	if _, err := os.Stat(p.Key); errors.Is(err, fs.ErrNotExist) {
		return false
	}
	b, err := os.ReadFile(p.Certificate)
	if err != nil {
		return false
	}
	block, _ := pem.Decode(b) // behind it is the authority's
	if block == nil {
		return false
	}
	c, err := x509.ParseCertificate(block.Bytes)
	if err != nil || a.now().After(c.NotAfter.Add(-early)) || c.CheckSignatureFrom(a.Certificate()) != nil {
		return false
	}
	for _, name := range names {
		if c.VerifyHostname(name) != nil {
			return false
		}
	}
	return true
}
