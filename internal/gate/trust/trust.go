// Package trust finds the lists of certificate authorities that programs of this machine go by,
// says whether an authority is on them, and puts it there or takes it away. Nothing is done
// that was not shown before.
package trust

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"neighbour/internal/core/declaration/wire"
	"neighbour/internal/core/machine/lazyregexp"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"
)

// Store is a list of authorities.
type Store struct {
	// Kind is "system", "browsers" or "java".
	Kind string
	// About says whose list it is, Place where it is.
	About, Place string
	// Trusted reports whether the authority is on it, Earlier whether certificates are that an
	// authority of this user had before this one, as when its folder was deleted.
	Trusted, Earlier bool
	// Problem says why that is not known, or can't be changed; Remedy what to do about it.
	Problem, Remedy string
	// Add and Remove are what puts the authority on it, and takes it away. Both take earlier
	// certificates away, too.
	Add, Remove []Step
}

// Step is one thing to do: a command, or a file to write or to delete.
type Step struct {
	Command []string
	// Write is the path of the file that gets the certificate, Delete of the one that goes.
	Write, Delete string
	// Root says that it needs the rights of the administrator.
	Root bool
}

// String says exactly what is done.
func (s Step) String() string {
	switch {
	case s.Write != "":
		return "write the certificate to " + s.Write
	case s.Delete != "":
		return "delete " + s.Delete
	}
	return wire.QuoteCommand(s.Command)
}

// Machine is where stores are looked for. The zero value finds none.
type Machine struct {
	// Root is the root of the file system, Home the user's folder.
	Root, Home string
	// Path finds a program.
	Path func(name string) (string, error)
}

// Here is this machine, for this user.
func Here() Machine {
	home, _ := os.UserHomeDir()
	return Machine{Root: "/", Home: home, Path: program}
}

// program finds a program that the user or root may call: what changes the system's list is
// in a folder that is in root's PATH only.
func program(name string) (string, error) {
	path, err := exec.LookPath(name)
	if err == nil {
		return path, nil
	}
	for _, folder := range []string{"/usr/local/sbin", "/usr/sbin", "/sbin"} {
		if path, err := exec.LookPath(filepath.Join(folder, name)); err == nil {
			return path, nil
		}
	}
	return "", err
}

// Authority is the authority that is trusted or not.
type Authority struct {
	Certificate *x509.Certificate
	// File is where its certificate is.
	File string
	// Name is what it is called in lists.
	Name string
}

// fileName is the name of its certificate among those of others. Each has its own.
func (a Authority) fileName() string { return a.alias() + ".crt" }

func (a Authority) alias() string {
	sum := sha256.Sum256(a.Certificate.Raw)
	return "neighbour-" + hex.EncodeToString(sum[:6])
}

// The layouts of systems: where an authority is put, and what makes the lists anew.
var systems = []struct {
	about, folder, bundle string
	command               []string
}{
	{"Debian and those made from it", "usr/local/share/ca-certificates", "etc/ssl/certs/ca-certificates.crt", []string{"update-ca-certificates"}},
	{"Fedora and those made from it", "etc/pki/ca-trust/source/anchors", "etc/pki/ca-trust/extracted/pem/tls-ca-bundle.pem", []string{"update-ca-trust", "extract"}},
	{"Arch and those made from it", "etc/ca-certificates/trust-source/anchors", "etc/ssl/certs/ca-certificates.crt", []string{"trust", "extract-compat"}},
}

// Stores finds the lists of a machine.
func (m Machine) Stores(ctx context.Context, a Authority) []Store {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	out := m.system(a)
	out = append(out, m.browsers(ctx, a)...)
	return append(out, m.java(ctx, a)...)
}

func (m Machine) system(a Authority) []Store {
	if runtime.GOOS == "darwin" {
		const chain = "/Library/Keychains/System.keychain"
		return []Store{{Kind: "system", About: "macOS, and most browsers", Place: chain, Trusted: exec.Command("security", "verify-cert", "-c", a.File).Run() == nil,
			Add:    []Step{{Command: []string{"security", "add-trusted-cert", "-d", "-r", "trustRoot", "-k", chain, a.File}, Root: true}},
			Remove: []Step{{Command: []string{"security", "remove-trusted-cert", "-d", a.File}, Root: true}}}}
	}
	for _, s := range systems {
		folder := filepath.Join(m.Root, s.folder)
		command, err := m.Path(s.command[0])
		if info, there := os.Stat(folder); there != nil || !info.IsDir() || err != nil {
			continue
		}
		file := filepath.Join(folder, a.fileName())
		update := Step{Command: append([]string{command}, s.command[1:]...), Root: true}
		updateAll := update
		if s.command[0] == "update-ca-certificates" { // which leaves what is gone in the list otherwise
			updateAll.Command = append(slices.Clone(update.Command), "--fresh")
		}
		var earlier []Step
		others, _ := filepath.Glob(filepath.Join(folder, "neighbour-*.crt"))
		for _, other := range others {
			if b, err := os.ReadFile(other); err == nil && len(a.earlier(b)) > 0 {
				earlier = append(earlier, Step{Delete: other, Root: true})
			}
		}
		add := Store{Kind: "system", About: "curl, Python, Go, Ruby, PHP", Place: filepath.Join(m.Root, s.bundle), Trusted: inBundle(filepath.Join(m.Root, s.bundle), a.Certificate), Earlier: len(earlier) > 0,
			Add: append(slices.Clone(earlier), Step{Write: file, Root: true}, update), Remove: append(slices.Clone(earlier), Step{Delete: file, Root: true}, updateAll)}
		if add.Earlier {
			add.Add[len(add.Add)-1] = updateAll
		}
		return []Store{add}
	}
	return []Store{{Kind: "system", About: "curl, Python, Go, Ruby, PHP", Place: m.Root, Problem: "this system keeps its authorities in a way that is not known here", Remedy: "add " + a.File + " as its handbook says"}}
}

// earlier returns the certificates in a file's text that an authority of the same user had
// before.
func (a Authority) earlier(text []byte) []*x509.Certificate {
	var out []*x509.Certificate
	for block, rest := pem.Decode(text); block != nil; block, rest = pem.Decode(rest) {
		if c, err := x509.ParseCertificate(block.Bytes); err == nil && c.Subject.CommonName == a.Certificate.Subject.CommonName && !c.Equal(a.Certificate) {
			out = append(out, c)
		}
	}
	return out
}

// inBundle reports whether a file of certificates has one.
func inBundle(path string, c *x509.Certificate) bool {
	b, err := os.ReadFile(path)
	if err != nil {
		return false
	}
	return has(b, c)
}

// has reports whether a text has a certificate.
func has(text []byte, c *x509.Certificate) bool {
	for block, rest := pem.Decode(text); block != nil; block, rest = pem.Decode(rest) {
		if bytes.Equal(block.Bytes, c.Raw) {
			return true
		}
	}
	return false
}

// browsers finds the databases of NSS, which Chromium and Firefox go by.
func (m Machine) browsers(ctx context.Context, a Authority) []Store {
	places := map[string]string{}
	for pattern, about := range map[string]string{
		".pki/nssdb":                                     "Chromium and those made from it",
		"snap/chromium/current/.pki/nssdb":               "Chromium, as a snap",
		".mozilla/firefox/*":                             "Firefox",
		"snap/firefox/common/.mozilla/firefox/*":         "Firefox, as a snap",
		"Library/Application Support/Firefox/Profiles/*": "Firefox",
	} {
		found, _ := filepath.Glob(filepath.Join(m.Home, pattern))
		for _, dir := range found {
			if _, err := os.Stat(filepath.Join(dir, "cert9.db")); err == nil {
				places[dir] = about
			}
		}
	}
	nssdb := filepath.Join(m.Home, ".pki/nssdb")
	if _, known := places[nssdb]; !known && m.anyProgram("chromium", "chromium-browser", "google-chrome", "brave-browser", "microsoft-edge") {
		places[nssdb] = "Chromium and those made from it"
	}
	certutil, missing := m.Path("certutil")
	var out []Store
	for _, dir := range sortedKeys(places) {
		s := Store{Kind: "browsers", About: places[dir], Place: dir}
		var listed []byte
		switch _, err := os.Stat(filepath.Join(dir, "cert9.db")); {
		case missing != nil:
			s.Problem, s.Remedy = "certutil is not installed, which reads and changes it", "on Debian: sudo apt-get install libnss3-tools"
		case errors.Is(err, fs.ErrNotExist):
			s.Add = []Step{{Command: []string{"mkdir", "-p", dir}}, {Command: []string{certutil, "-d", "sql:" + dir, "-N", "--empty-password"}}}
		default:
			listed, _ = exec.CommandContext(ctx, certutil, "-d", "sql:"+dir, "-L", "-n", a.Name, "-a").Output()
		}
		if s.Problem == "" {
			s.Trusted, s.Earlier = has(listed, a.Certificate), len(a.earlier(listed)) > 0
			for range bytes.Count(listed, []byte("-----BEGIN")) { // each takes one of them away
				s.Remove = append(s.Remove, Step{Command: []string{certutil, "-d", "sql:" + dir, "-D", "-n", a.Name}})
			}
			if s.Earlier {
				s.Add = append(s.Add, s.Remove...)
			}
			s.Add = append(s.Add, Step{Command: []string{certutil, "-d", "sql:" + dir, "-A", "-t", "C,,", "-n", a.Name, "-i", a.File}})
		}
		out = append(out, s)
	}
	return out
}

func (m Machine) anyProgram(names ...string) bool {
	return slices.ContainsFunc(names, func(n string) bool { _, err := m.Path(n); return err == nil })
}

// java finds the lists of the Java runtimes.
func (m Machine) java(ctx context.Context, a Authority) []Store {
	places := map[string]bool{}
	for _, pattern := range []string{"usr/lib/jvm/*/lib/security/cacerts", "usr/lib/jvm/*/jre/lib/security/cacerts", "Library/Java/JavaVirtualMachines/*/Contents/Home/lib/security/cacerts"} {
		found, _ := filepath.Glob(filepath.Join(m.Root, pattern))
		for _, path := range found {
			if real, err := filepath.EvalSymlinks(path); err == nil {
				places[real] = true
			}
		}
	}
	if len(places) == 0 {
		return nil
	}
	keytool, missing := m.Path("keytool")
	var out []Store
	for _, path := range sortedKeys(places) {
		s := Store{Kind: "java", About: "Java", Place: path}
		if missing != nil {
			s.Problem, s.Remedy = "keytool is not in PATH, which reads and changes it", "it comes with the Java runtime"
			out = append(out, s)
			continue
		}
		with := func(command ...string) []string {
			return append([]string{keytool}, append(command, "-keystore", path, "-storepass", "changeit", "-noprompt")...)
		}
		list := with("-list")
		text, _ := exec.CommandContext(ctx, list[0], list[1:]...).Output()
		names := aliases(string(text), a.Certificate)
		s.Trusted = len(names) > 0
		for _, name := range named.FindAllString(string(text), -1) {
			one := with("-exportcert", "-rfc", "-alias", name)
			if b, err := exec.CommandContext(ctx, one[0], one[1:]...).Output(); err == nil && len(a.earlier(b)) > 0 {
				s.Earlier = true
				s.Add = append(s.Add, Step{Command: with("-delete", "-alias", name), Root: true})
			}
		}
		s.Remove = slices.Clone(s.Add)
		if !s.Trusted {
			s.Add = append(s.Add, Step{Command: with("-importcert", "-file", a.File, "-alias", a.alias()), Root: true})
		}
		for _, name := range names {
			s.Remove = append(s.Remove, Step{Command: with("-delete", "-alias", name), Root: true})
		}
		out = append(out, s)
	}
	return out
}

// named finds the names of our authorities, of whatever user, in a list of keytool.
var named = lazyregexp.New(`(?m)^(?:debian:)?neighbour-[0-9a-f]{12}(?:\.pem)?`)

// aliases returns the names that a certificate has in a list of keytool: what makes the system's
// list anew may have added it under one of its own.
func aliases(list string, c *x509.Certificate) []string {
	sum := sha256.Sum256(c.Raw)
	var print []string
	for _, b := range sum {
		print = append(print, fmt.Sprintf("%02X", b))
	}
	var out []string
	before := ""
	for line := range strings.Lines(list) {
		if strings.Contains(line, strings.Join(print, ":")) {
			name, _, _ := strings.Cut(before, ", ")
			out = append(out, name)
		}
		before = line
	}
	return out
}

func sortedKeys[V any](m map[string]V) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// Do carries steps out, with sudo where they need rights that this user doesn't have.
func Do(ctx context.Context, a Authority, steps []Step, run func(context.Context, []string) error) error {
	for _, s := range steps {
		command := s.Command
		switch {
		case s.Write != "":
			command = []string{"install", "-m", "644", a.File, s.Write}
		case s.Delete != "":
			command = []string{"rm", "-f", s.Delete}
		}
		if s.Root && os.Getuid() != 0 {
			command = append([]string{"sudo"}, command...)
		}
		if err := run(ctx, command); err != nil {
			return fmt.Errorf("%s: %w", strings.Join(command, " "), err)
		}
	}
	return nil
}
