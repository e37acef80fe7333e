// Package static is the kind of the built-in web server for a folder.
package static

import (
	"fmt"
	"path/filepath"
	"strings"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/core/machine/probe"
	"neighbour/internal/kinds/webserver"
)

// Kind is the kind.
type Kind struct{ kind.Emulated }

// Settings are its keys.
type Settings struct {
	Root     string `toml:"root" doc:"the folder to serve"`
	Fallback string `toml:"fallback" doc:"the file served for addresses that are no file's: \"index.html\" for a single page"`
	Listing  bool   `toml:"listing" doc:"show folders without an index.html as a list"`
	// Hosts are lower case, as they are compared.
	Hosts     []string        `toml:"hosts" doc:"names that it answers to beside those of this machine, such as \"toolshed.test\"; others are refused"`
	Misbehave misbehave.Rules `toml:"misbehave" doc:"what it does wrong, for tests"`
}

// noWrites are the rules of misbehaviour that mean nothing where nothing is written.
var noWrites = []string{"full", "read_only"}

// Check reports a service without a folder.
func (s *Settings) Check(report func(key, message, remedy string)) {
	if s.Root == "" {
		report("root", "there is no folder to serve", `add root = "public"`)
	}
	if s.Fallback != "" && !filepath.IsLocal(s.Fallback) {
		report("fallback", fmt.Sprintf("%q is not a file in the folder", s.Fallback), `write for example "index.html"`)
	}
	kind.CheckMisbehave(s.Misbehave, report, noWrites...)
}

const example = `
[service.page]
kind = "static"
root = "dist"
fallback = "index.html"
`

// Info describes the kind.
func (Kind) Info() kind.Info {
	return kind.Info{Name: "static", NoData: true, Begin: `root = "public"`, Example: example, About: "files by HTTP, built in", Check: "HTTP", Listens: true, UsualPort: 8080, HTTP: true, Facts: []string{"url", "host", "port"}}
}

// Settings makes empty settings.
func (Kind) Settings() any { return &Settings{} }

func root(in *kind.Instance) string {
	dir := in.Service.Settings.(*Settings).Root
	if filepath.IsAbs(dir) {
		return dir
	}
	return filepath.Join(in.Root, dir)
}

func webRoot(in *kind.Instance) webserver.Root {
	s := in.Service.Settings.(*Settings)
	r := webserver.Root{Dir: root(in), Project: in.Root, Indexes: []string{"index.html"}, Other: s.Listing}
	if s.Fallback != "" {
		r.Indexes, r.Front = []string{s.Fallback}, true
	}
	return r
}

// Find returns this program itself; the folder must be there.
func (Kind) Find(in *kind.Instance) (kind.Program, error) {
	return kind.Program{Path: in.Self}, webRoot(in).Check()
}

// Warn says what is probably not meant as it is.
func (Kind) Warn(in *kind.Instance) []string { return webRoot(in).Warn() }

// Explain says why a request was answered as it was.
func (Kind) Explain(in *kind.Instance, address string, status int) string {
	return webRoot(in).Explain(address, status)
}

// Launch starts the server as a process of its own.
func (Kind) Launch(in *kind.Instance) (kind.Launch, error) {
	s := in.Service.Settings.(*Settings)
	options := []string{"--root", root(in), "--ready", webserver.ReadyPath, "--fallback", s.Fallback}
	if s.Listing {
		options = append(options, "--listing")
	}
	for _, h := range s.Hosts {
		options = append(options, "--host", strings.ToLower(h))
	}
	return kind.Emulate(in, "static", s.Misbehave, options...)
}

// Facts returns its address.
func (Kind) Facts(in *kind.Instance) (map[string]kind.Fact, error) { return kind.URL(in, "http"), nil }

// Probe asks for a page of its own, whatever there is to serve.
func (Kind) Probe(in *kind.Instance) (probe.Probe, error) { return webserver.Probe(in), nil }
