package authority

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"
)

// ownDomains are those whose names are no other machine's (RFC 6761). NetworkDomains are those of
// names that other machines of a network may have: RFC 6762 (local), RFC 8375 (home.arpa), and
// ICANN's resolution 2024.07.29.06 (internal). An authority issues certificates for these only if it was asked to.
var (
	ownDomains     = []string{"localhost", "test"}
	NetworkDomains = []string{"local", "home.arpa", "internal"}
)

// mostLeaves is how many leaves are remembered.
const mostLeaves = 10_000

type leaf struct {
	until       time.Time // when it is made anew
	certificate *tls.Certificate
}

// NameError says that the authority can't vouch for a name.
type NameError struct {
	Name string
	// Domains are those for whose names it issues certificates.
	Domains []string
}

func (e *NameError) Error() string {
	text := fmt.Sprintf("no certificate is made for %q: this machine's own authority issues certificates only for names that end in %s, and for loopback addresses", e.Name, strings.Join(e.Domains, ", "))
	for _, d := range NetworkDomains {
		if below(e.Name, d) {
			text += "; names that end in " + d + " may be other machines', so it has to be asked for them: neighbour trust --renew --also " + d
		}
	}
	return text
}

// below reports whether a name is a domain, or below it.
func below(name, domain string) bool {
	return name == domain || strings.HasSuffix(name, "."+domain)
}

// ExpiredError says that the authority's own certificate holds no more, or not yet.
type ExpiredError struct{ From, Until, Now time.Time }

func (e *ExpiredError) Error() string {
	at, form := e.Until.In(e.Now.Location()), "2 January 2006"
	early := e.Now.Before(e.From)
	if early {
		at = e.From.In(e.Now.Location())
	}
	if at.Format(form) == e.Now.Format(form) {
		form += ", 15:04"
	}
	if early {
		return fmt.Sprintf("this machine's own authority holds from %s on, and the clock says %s: is it right?", at.Format(form), e.Now.Format(form))
	}
	return fmt.Sprintf("this machine's own authority held until %s, and the clock says %s: if it is right, renew it with: neighbour trust --renew", at.Format(form), e.Now.Format(form))
}

// Domains returns the domains for whose names the authority can issue certificates.
func (a *Authority) Domains() []string { return a.Certificate().PermittedDNSDomains }

// Covers reports whether the authority can vouch for a name or an address.
func (a *Authority) Covers(name string) bool { return covers(a.Domains(), name) }

func covers(domains []string, name string) bool {
	if ip := net.ParseIP(name); ip != nil {
		return ip.IsLoopback()
	}
	if !validName(name) {
		return false
	}
	return slices.ContainsFunc(domains, func(d string) bool { return below(name, d) })
}

// validName reports whether a name is one of a host, in lower case (RFC 1123, section 2.1).
func validName(name string) bool {
	if name == "" || len(name) > 253 {
		return false
	}
	for label := range strings.SplitSeq(name, ".") {
		if label == "" || len(label) > 63 || label[0] == '-' || label[len(label)-1] == '-' {
			return false
		}
		for _, c := range []byte(label) {
			if (c < 'a' || c > 'z') && (c < '0' || c > '9') && c != '-' && c != '_' {
				return false
			}
		}
	}
	return true
}

// Leaf returns a certificate for exactly one name or address, with its key: the one that it
// gave before, or a new one if there is none that holds for long enough. Its error is a
// *NameError for names that the authority can't vouch for, and an *ExpiredError if its own
// certificate doesn't hold.
func (a *Authority) Leaf(name string) (*tls.Certificate, error) {
	name = strings.TrimSuffix(strings.ToLower(strings.Trim(name, "[]")), ".")
	if domains := a.Domains(); !covers(domains, name) {
		return nil, &NameError{name, domains}
	}
	if err := a.Valid(); err != nil {
		return nil, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	now := a.now()
	if l := a.leaves[name]; l != nil && now.Before(l.until) && now.After(l.certificate.Leaf.NotBefore) {
		return l.certificate, nil
	}
	c, err := a.sign([]string{name}, now)
	if err != nil {
		return nil, err
	}
	if len(a.leaves) >= mostLeaves { // whoever asks for that many names gets no more memory
		clear(a.leaves)
	}
	a.leaves[name] = &leaf{until: c.Leaf.NotAfter.Add(-early), certificate: c}
	return c, nil
}

// sign makes a certificate for names and addresses that the authority can vouch for.
func (a *Authority) sign(names []string, now time.Time) (*tls.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	number, err := serial()
	if err != nil {
		return nil, err
	}
	until := now.Add(leafLife)
	if until.After(a.certificate.NotAfter) {
		until = a.certificate.NotAfter
	}
	from := now.Add(-before)
	if from.Before(a.certificate.NotBefore) {
		from = a.certificate.NotBefore
	}
	c := &x509.Certificate{
		SerialNumber: number, Subject: pkix.Name{Organization: []string{"Neighbour, names of this machine only"}}, NotBefore: from, NotAfter: until,
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, BasicConstraintsValid: true,
	}
	for _, name := range names {
		if domains := a.certificate.PermittedDNSDomains; !covers(domains, name) {
			return nil, &NameError{name, domains}
		}
		if ip := net.ParseIP(name); ip != nil {
			c.IPAddresses = append(c.IPAddresses, ip)
		} else {
			c.DNSNames = append(c.DNSNames, name)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, c, a.certificate, key.Public(), a.key)
	if err != nil {
		return nil, err
	}
	parsed, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, err
	}
	return &tls.Certificate{Certificate: [][]byte{der, a.certificate.Raw}, PrivateKey: key, Leaf: parsed}, nil
}

// ForHello returns the leaf for the name that a client asks for (RFC 6066, section 3), or
// for the address that it has reached, as tls.Config.GetCertificate.
func (a *Authority) ForHello(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	name := hello.ServerName
	if name == "" && hello.Conn != nil {
		host, _, err := net.SplitHostPort(hello.Conn.LocalAddr().String())
		if err != nil {
			return nil, err
		}
		name = host
	}
	return a.Leaf(name)
}

// Renew gives the authority a new certificate for the key that it has, by which it issues
// certificates for names of this machine, and for those of the network that end in one of also.
func (a *Authority) Renew(also ...string) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	clear(a.leaves)
	return a.certify(also...)
}
