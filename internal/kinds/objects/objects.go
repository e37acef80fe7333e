// Package objects is the kind of the built-in store of buckets and objects.
package objects

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/core/machine/probe"
	"neighbour/internal/core/machine/words"
	emulator "neighbour/internal/emulator/objects"
)

// Kind is the kind.
type Kind struct{ kind.Emulated }

// Settings are its keys.
type Settings struct {
	Buckets   []string          `toml:"buckets" doc:"buckets that are there from the beginning; left out: one with the service's name"`
	Public    []string          `toml:"public" doc:"those of them that everybody may read"`
	Fill      map[string]string `toml:"fill" doc:"what buckets hold when they are made: { photos = \"assets/photos\" }"`
	Keep      *bool             `toml:"keep" doc:"false: it is as at the beginning after each start"`
	Misbehave misbehave.Rules   `toml:"misbehave" doc:"what it does wrong, for tests"`
}

// Check reports what can't be meant.
func (s *Settings) Check(report func(key, message, remedy string)) {
	for i, name := range s.Buckets {
		if err := emulator.CheckName(name); err != nil {
			report(fmt.Sprintf("buckets[%d]", i), err.Error(), "")
		} else if slices.Contains(s.Buckets[:i], name) {
			report(fmt.Sprintf("buckets[%d]", i), strconv.Quote(name)+" is there twice", "")
		}
	}
	for i, name := range s.Public {
		if !slices.Contains(s.Buckets, name) {
			report(fmt.Sprintf("public[%d]", i), strconv.Quote(name)+" is none of the buckets", "name it in buckets, too")
		}
	}
	for name := range s.Fill {
		if !slices.Contains(s.Buckets, name) {
			report("fill."+name, strconv.Quote(name)+" is none of the buckets", "name it in buckets, too")
		}
	}
	kind.CheckMisbehave(s.Misbehave, report)
}

// FactNames returns those of the declared buckets.
func (s *Settings) FactNames() []string {
	var out []string
	for _, name := range s.Buckets {
		out = append(out, name+".url")
	}
	return out
}

const example = `
[service.photos]
kind = "objects"
buckets = ["tools"]

[service.api]
run = "node server.js"
env.S3_ENDPOINT = "${photos.url}"
env.S3_ACCESS_KEY = "${photos.access_key}"
env.S3_SECRET_KEY = "${photos.secret_key}"
`

// Info describes the kind.
func (Kind) Info() kind.Info {
	return kind.Info{Name: "objects", Changes: changes, Example: example, About: "object storage, built in", Check: "HTTP", Listens: true, UsualPort: 4135, HTTP: true, Below: true, Aside: true, Facts: []string{"url", "host", "port", "access_key", "secret_key", "region"}}
}

// Settings makes empty settings.
func (Kind) Settings() any { return &Settings{} }

// Find returns this program itself.
func (Kind) Find(in *kind.Instance) (kind.Program, error) { return kind.Program{Path: in.Self}, nil }

const (
	access = "app"
	region = "us-east-1"
)

// Launch starts the emulator as a process of its own.
func (Kind) Launch(in *kind.Instance) (kind.Launch, error) {
	s := in.Service.Settings.(*Settings)
	secret, err := in.Secret("secret_key")
	if err != nil {
		return kind.Launch{}, err
	}
	options := []string{"--dir", in.Data, "--access", access}
	buckets := s.Buckets
	if len(buckets) == 0 && emulator.CheckName(in.Service.Name) == nil {
		buckets = []string{in.Service.Name}
	}
	for _, name := range buckets {
		options = append(options, "--bucket", name)
		if slices.Contains(s.Public, name) {
			options = append(options, "--public", name)
		}
		if folder := s.Fill[name]; folder != "" {
			if !filepath.IsAbs(folder) {
				folder = filepath.Join(in.Root, folder)
			}
			if info, err := os.Stat(folder); err != nil || !info.IsDir() {
				return kind.Launch{}, fmt.Errorf("fill.%s: there is no folder %s", name, folder)
			}
			options = append(options, "--fill", name+"="+folder)
		}
	}
	for _, name := range in.Names {
		options = append(options, "--name", name)
	}
	if s.Keep != nil && !*s.Keep {
		options = append(options, "--forget")
	}
	l, err := kind.Emulate(in, "objects", s.Misbehave, options...)
	l.Env = []string{emulator.SecretVariable + "=" + secret}
	return l, err
}

func address(in *kind.Instance) string { return "http://127.0.0.1:" + strconv.Itoa(in.Port) }

// Facts returns how to reach it.
func (Kind) Facts(in *kind.Instance) (map[string]kind.Fact, error) {
	secret, err := in.Secret("secret_key")
	if err != nil {
		return nil, err
	}
	facts := map[string]kind.Fact{"url": {Value: address(in)}, "host": {Value: "127.0.0.1"}, "port": {Value: strconv.Itoa(in.Port)},
		"access_key": {Value: access}, "secret_key": {Value: secret, Secret: true}, "region": {Value: region}}
	for _, name := range in.Service.Settings.(*Settings).Buckets {
		facts[name+".url"] = kind.Fact{Value: address(in) + "/" + name}
	}
	return facts, nil
}

// ClientVariables are those that the clients of the protocol read by themselves.
func (Kind) ClientVariables(in *kind.Instance) (map[string]string, error) {
	secret, err := in.Secret("secret_key")
	return map[string]string{"AWS_ENDPOINT_URL_S3": address(in), "AWS_ACCESS_KEY_ID": access, "AWS_SECRET_ACCESS_KEY": secret, "AWS_REGION": region}, err
}

// Probe asks whether it is ready.
func (Kind) Probe(in *kind.Instance) (probe.Probe, error) {
	return probe.Func(func(ctx context.Context) (string, error) {
		r, err := http.NewRequestWithContext(ctx, http.MethodGet, address(in)+emulator.ReadyPath, nil)
		if err != nil {
			return "", err
		}
		client := http.Client{Transport: &http.Transport{DisableKeepAlives: true}}
		answer, err := client.Do(r)
		if err != nil {
			return "", errors.New(probe.Explain(err))
		}
		defer answer.Body.Close()
		_, _ = io.Copy(io.Discard, io.LimitReader(answer.Body, 1<<10))
		if answer.StatusCode != http.StatusOK || answer.Header.Get("Server") != "neighbour" {
			return "", fmt.Errorf("answers %s, which is another server's", answer.Status)
		}
		return "answers", nil
	}), nil
}

// Notes tell what it holds.
func (Kind) Notes(in *kind.Instance) (notes []string, wrong string) {
	s, err := emulator.ReadSummary(in.Data)
	if err != nil {
		return nil, ""
	}
	if len(s.Buckets) == 0 {
		return []string{"no buckets yet"}, ""
	}
	var out []string
	for i, b := range s.Buckets {
		if i == 4 && len(s.Buckets) > 5 {
			out = append(out, words.Count(len(s.Buckets)-i, "more bucket"))
			break
		}
		text := fmt.Sprintf("%s in %s, %s", words.Count(int(b.Objects), "object"), b.Name, words.Bytes(uint64(b.Bytes)))
		if b.Public {
			text += ", public"
		}
		out = append(out, text)
	}
	return out, ""
}

var _ declare.FactNamer = (*Settings)(nil)
