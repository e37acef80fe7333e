package project

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/declaration/wire"
	"neighbour/internal/core/machine/authority"
)

// AuthorityDir returns the folder of this user's certificate authority, "" for a user without
// a home.
func AuthorityDir() string {
	if dir := UserDir(); dir != "" {
		return filepath.Join(dir, "authority")
	}
	return ""
}

// EnsureAuthority makes this user's authority, if there is none, and the files that programs
// are pointed to. Nothing is trusted by that but by the programs of projects.
func (p *Project) EnsureAuthority() error {
	if !p.UsesGate() {
		return nil
	}
	a, err := authority.Open(AuthorityDir())
	if err != nil {
		return err
	}
	return a.WriteFiles()
}

// TrustsGate is why programs get variables about certificates.
const TrustsGate = "so that it trusts the names of the gate"

// javaWords are what commands that run on Java have in them.
var javaWords = []string{"java", "gradle", "mvn", "sbt", "kotlin", "lein"}

// runsJava reports whether a program runs on Java, as far as its command tells. Java prints a
// line for the variable that others have no use for.
func (p *Project) runsJava(s *declare.Service) bool {
	m, ok := s.Settings.(interface{ CommandLine() string })
	return ok && slices.ContainsFunc(javaWords, func(w string) bool { return strings.Contains(m.CommandLine(), w) })
}

// withAuthority has a program trust this user's own authority, beside those that it trusts
// anyway, so that it can call the other services by their https addresses. What is set already
// stays.
func (p *Project) withAuthority(s *declare.Service, vars []wire.Variable) []wire.Variable {
	if !p.Kind(s).Info().InheritEnv || !p.UsesGate() {
		return vars
	}
	files := authority.FilesIn(AuthorityDir())
	for _, v := range []struct{ name, file string }{
		{"NODE_EXTRA_CA_CERTS", files.Certificate}, {"SSL_CERT_FILE", files.Bundle}, {"REQUESTS_CA_BUNDLE", files.Bundle}, {"CURL_CA_BUNDLE", files.Bundle},
	} {
		if v.file == "" || os.Getenv(v.name) != "" || slices.ContainsFunc(vars, func(w wire.Variable) bool { return w.Name == v.name }) {
			continue
		}
		vars = append(vars, wire.Variable{Name: v.name, Value: v.file, Because: TrustsGate})
	}
	if files.Java != "" && p.runsJava(s) {
		const name = "JAVA_TOOL_OPTIONS"
		option := "-Djavax.net.ssl.trustStore=" + files.Java
		at := slices.IndexFunc(vars, func(w wire.Variable) bool { return w.Name == name })
		before := os.Getenv(name)
		if at >= 0 {
			before = vars[at].Value
		}
		if !strings.Contains(before, "javax.net.ssl.trustStore=") && !strings.Contains(files.Java, " ") {
			v := wire.Variable{Name: name, Value: strings.TrimSpace(before + " " + option), Because: TrustsGate}
			if at >= 0 {
				v.Declared, v.Where, v.From = vars[at].Declared, vars[at].Where, vars[at].From
				vars[at] = v
			} else {
				vars = append(vars, v)
			}
		}
	}
	slices.SortFunc(vars, func(a, b wire.Variable) int { return strings.Compare(a.Name, b.Name) })
	return vars
}
