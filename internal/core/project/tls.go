package project

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/authority"
)

// certified are the services with a fact about their certificate that something refers to.
type certified struct {
	once sync.Once
	all  map[string]bool
}

// wantsTLS reports whether a fact about a service's certificate is referred to.
func (p *Project) wantsTLS(service string) bool {
	p.certified.once.Do(func() {
		p.certified.all = map[string]bool{}
		for _, s := range p.Services {
			for _, ref := range s.References() {
				if name, fact, _ := strings.Cut(ref, "."); slices.Contains(declare.TLSFacts, fact) {
					p.certified.all[name] = true
				}
			}
		}
	})
	return p.certified.all[service]
}

// tlsFacts are the files for a service that ends TLS itself. They are made at its start.
func (p *Project) tlsFacts(in *kind.Instance) map[string]kind.Fact {
	pair := authority.PairIn(in.Run)
	return map[string]kind.Fact{"tls_cert": {Value: pair.Certificate}, "tls_key": {Value: pair.Key}, "ca": {Value: authority.CertificateIn(AuthorityDir())}}
}

// ensureTLS makes a service's certificate, if anything refers to it.
func (p *Project) ensureTLS(in *kind.Instance) error {
	if !p.wantsTLS(in.Service.Name) {
		return nil
	}
	a, err := authority.Open(AuthorityDir())
	if err != nil {
		return fmt.Errorf("no certificate can be made for %s: %w", in.Service.Name, err)
	}
	names := []string{"localhost", "127.0.0.1", "::1", hostLabel(in.Service.Name) + "." + hostLabel(p.Name) + ".localhost"}
	for _, n := range p.GateNames() {
		if host := n.pattern.Host; n.Service == in.Service.Name && !n.pattern.Below && a.Covers(host) && !slices.Contains(names, host) {
			names = append(names, host)
		}
	}
	pair, err := a.WritePair(in.Run, names...)
	if err != nil || in.Account == nil {
		return err
	}
	for _, path := range []string{pair.Certificate, pair.Key} {
		if err := os.Chown(path, in.Account.UID, in.Account.GID); err != nil {
			return fmt.Errorf("%s can't have its certificate: %w", filepath.Base(in.Account.Name), err)
		}
	}
	return nil
}
