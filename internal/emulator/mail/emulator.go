package mail

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"flag"
	"fmt"
	"log"
	"math/big"
	"net"
	"net/http"
	"strings"
	"time"

	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/emulator"
)

// Emulator is the mail server, run alone.
var Emulator = emulator.Emulator{Name: "mail", Options: func(flags *flag.FlagSet) emulator.Serve {
	dir := flags.String("dir", ".", "the folder for the messages")
	web := flags.String("web", "", "the address of the inbox as a page; left out: none")
	names := flags.String("names", "", "host names of the project, separated by blanks")
	refuse := flags.String("refuse", "", "recipients to refuse: patterns, separated by blanks")
	drop := flags.String("drop", "", "recipients of mails to cut the connection at")
	wrong := flags.String("misbehave", "", "the file that says how it misbehaves")
	starttls := flags.Bool("starttls", false, "offer STARTTLS with a certificate that nobody vouches for")
	return func(ctx context.Context, l net.Listener, log *log.Logger) error {
		store, err := OpenStore(*dir)
		if err != nil {
			return err
		}
		defer store.Close()
		s := &Server{Store: store, Names: strings.Fields(*names), Log: log, Misbehave: misbehave.Follow(*wrong, log)}
		if err := s.SetRules(Rules{Refuse: strings.Fields(*refuse), Drop: strings.Fields(*drop), Misbehave: s.Misbehave.Rules()}); err != nil {
			return &emulator.UsageError{Err: err}
		}
		if *starttls {
			if s.TLS, err = ownTLS(); err != nil {
				return err
			}
		}
		log.Printf("taking mail on %s, %d messages so far", l.Addr(), store.Latest().Count)
		if rules := s.Rules().InWords(); rules != "" {
			log.Printf("rules: %s", rules)
		}
		if *web == "" {
			return s.Serve(ctx, l)
		}
		page, err := net.Listen("tcp", *web)
		if err != nil {
			return err
		}
		log.Printf("the inbox is at http://%s", page.Addr())
		return s.serveBoth(ctx, l, page)
	}
}}

// serveBoth takes mail and serves the inbox until the context ends, or one of the
// two fails.
func (s *Server) serveBoth(ctx context.Context, l, page net.Listener) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	server := &http.Server{Handler: s.Web(), ReadHeaderTimeout: 10 * time.Second, ErrorLog: s.Log, BaseContext: func(net.Listener) context.Context { return ctx }}
	ended := make(chan error, 1)
	go func() {
		err := server.Serve(page)
		cancel()
		ended <- err
	}()
	err := s.Serve(ctx, l)
	_ = server.Close()
	if webErr := <-ended; !errors.Is(webErr, http.ErrServerClosed) {
		err = errors.Join(err, webErr)
	}
	return err
}

// ownTLS makes a certificate for this machine's names that nobody vouches for.
func ownTLS() (*tls.Config, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: "localhost"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(1, 0, 0),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, DNSNames: []string{"localhost"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1), net.IPv6loopback},
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		return nil, fmt.Errorf("no certificate can be made: %w", err)
	}
	return &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}, MinVersion: tls.VersionTLS12}, nil
}
