package discover

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/deps"
	"neighbour/internal/core/machine/lazyregexp"
)

// depends notes the libraries of a manifest.
func (r *reader) depends(file, text string, names []string) {
	slices.Sort(names)
	for _, n := range slices.Compact(names) {
		kindName := kind.OfLibrary(n)
		if kindName == "" {
			continue
		}
		if kind.SQL(kindName) {
			r.sql = cmp.Or(r.sql, kindName)
		}
		r.clients[filepath.Dir(file)] = append(r.clients[filepath.Dir(file)], kindName)
		r.server(kindName, Finding{file, lineOf(text, n), fmt.Sprintf("the app uses %s, a client of %s", n, kind.HintsOf(kindName).Title)})
	}
}

func (r *reader) readManifests(folder string) {
	at := func(name string) string { return filepath.Join(folder, name) }
	r.readNode(folder, at("package.json"))
	r.readComposer(folder, at("composer.json"))
	r.readGo(folder, at("go.mod"))
	r.readPython(folder)
	r.readRuby(folder, at("Gemfile"))
}

// program proposes a program of a folder.
func (r *reader) program(folder, called, run string, why Finding) *Service {
	s := &Service{On: true, Kind: "program", folder: folder, Name: r.free(name(called, "app")), Lines: []string{fmt.Sprintf("run = %q", run)}, Why: []Finding{why}}
	if folder != "." {
		s.Lines = append(s.Lines, fmt.Sprintf("dir = %q", filepath.ToSlash(folder)))
	}
	r.p.Services = append(r.p.Services, s)
	return s
}

// called returns what a program is called after: its folder, or the project.
func (r *reader) called(folder, project string) string {
	if folder != "." {
		return filepath.Base(folder)
	}
	return cmp.Or(project[strings.LastIndexByte(project, '/')+1:], filepath.Base(r.dir))
}

// uses adds the version of a runtime, where it is a constraint that we know.
func (s *Service) uses(runtime, version string) {
	if c := constraint(version); c != "" {
		s.Lines = append(s.Lines, fmt.Sprintf("uses = { %s = %q }", runtime, c))
	}
}

// prepare adds the command that installs packages, by files of the service's folder.
func (s *Service) prepare(run string, when ...string) {
	for i, w := range when {
		when[i] = path.Join(filepath.ToSlash(s.folder), w)
	}
	s.Lines = append(s.Lines, fmt.Sprintf("prepare = [{ run = %q, when = %s }]", run, list(when)))
}

// install has the packages of a folder of the project, "" for the service's own, installed before
// the service starts.
func (s *Service) install(packages deps.Set, dir string) {
	s.Lines = append(s.Lines, "prepare = ["+packages.Preparation(cmp.Or(dir, s.folder), s.folder)+"]")
}

var plainConstraint = lazyregexp.New(`^(>=|\^|~|=)?\s*v?(\d+(?:\.\d+){0,2})(?:\.[x*])?$`)

// constraint returns a simple constraint in the declaration's form; "" for others.
func constraint(text string) string {
	m := plainConstraint.FindStringSubmatch(strings.TrimSpace(text))
	if m == nil {
		return ""
	}
	return m[1] + m[2]
}

func (r *reader) readComposer(folder, file string) {
	text := r.read(file)
	index := ""
	for _, dir := range []string{"public", "web", "htdocs", "www", "public_html", "."} {
		if r.has(filepath.Join(folder, dir, "index.php")) {
			index = filepath.Join(folder, dir)
			break
		}
	}
	if text == "" && (index == "" || folder != "." || r.servers["php"] != nil) {
		return
	}
	var m struct {
		Name    string
		Require map[string]string
	}
	why := Finding{File: filepath.Join(index, "index.php"), What: "a page made by PHP"}
	if text != "" {
		if err := json.Unmarshal([]byte(text), &m); err != nil {
			r.note(file, 0, "can't be read: "+err.Error())
			return
		}
		why = Finding{File: file, Line: lineOf(text, `"php"`), What: "an app in PHP"}
	}
	r.depends(file, text, slices.Collect(maps.Keys(m.Require)))
	if index == "" {
		return
	}
	php := r.server("php", why)
	php.folder = folder
	if php.Version == "" {
		php.Version = constraint(m.Require["php"])
	}
	var extensions []string
	for _, name := range slices.Sorted(maps.Keys(m.Require)) {
		if e, ok := strings.CutPrefix(name, "ext-"); ok {
			extensions = append(extensions, e)
		}
	}
	if len(extensions) > 0 {
		php.Lines = append(php.Lines, "extensions = "+list(extensions))
	}
	if text != "" && len(m.Require) > len(extensions)+1 {
		at := strings.TrimPrefix(filepath.ToSlash(folder), ".")
		php.install(deps.Composer(func(name string) bool { return r.has(filepath.Join(folder, name)) }), at)
	}
	r.readPages(php, folder, index)
	web := r.server("nginx", Finding{File: filepath.Join(index, "index.php"), What: "the page that all addresses lead to"})
	web.Lines = append(web.Lines, fmt.Sprintf("root = %q", filepath.ToSlash(index)))
	web.link("php", php)
}

var goRequire = lazyregexp.New(`(?m)^\s*(?:require\s+)?([a-z0-9.-]+\.[a-z]+/\S+)\s+v\S+(.*)$`)

func (r *reader) readGo(folder, file string) {
	text := r.read(file)
	if text == "" {
		return
	}
	var names []string
	for _, m := range goRequire.FindAllStringSubmatch(text, -1) {
		if !strings.Contains(m[2], "indirect") {
			names = append(names, m[1])
		}
	}
	r.depends(file, text, names)
	module, version := "", ""
	for line := range strings.Lines(text) {
		switch f := strings.Fields(line); {
		case len(f) == 2 && f[0] == "module":
			module = majorSuffix.ReplaceAllString(f[1], "")
		case len(f) == 2 && f[0] == "go":
			version = f[1]
		}
	}
	mains := []string{folder}
	commands, _ := filepath.Glob(filepath.Join(r.dir, folder, "cmd", "*", "*.go"))
	for _, c := range commands {
		rel, _ := filepath.Rel(r.dir, filepath.Dir(c))
		if !slices.Contains(mains, rel) {
			mains = append(mains, rel)
		}
	}
	for _, other := range r.folders() {
		in, err := filepath.Rel(folder, other)
		if err == nil && filepath.IsLocal(in) && !slices.Contains(mains, other) && !r.has(filepath.Join(other, "go.mod")) {
			mains = append(mains, other)
		}
	}
	for _, dir := range mains {
		files, _ := filepath.Glob(filepath.Join(r.dir, dir, "*.go"))
		for _, f := range files {
			rel, _ := filepath.Rel(r.dir, f)
			src := ""
			if !strings.HasSuffix(rel, "_test.go") {
				src = r.read(rel)
			}
			if !mainPackage.MatchString(src) {
				continue
			}
			run := "go run ."
			called := r.called(folder, module)
			if dir != folder {
				in, _ := filepath.Rel(folder, dir)
				run, called = "go run ./"+filepath.ToSlash(in), filepath.Base(dir)
			}
			s := r.program(folder, called, run, Finding{rel, lineOf(src, "package main"), "a program in Go"})
			if c := constraint(version); c != "" {
				s.uses("go", ">="+c)
			}
			r.readSource(s, rel, src)
			break
		}
	}
}

// majorSuffix is the end of a module's path that tells its major version and
// is no name (Go modules reference, "Major version suffixes").
var majorSuffix = lazyregexp.New(`(/|\.)v[0-9]+$`)

var mainPackage = lazyregexp.New(`(?m)^package main\b`)

var requirement = lazyregexp.New(`^\s*["']?([A-Za-z0-9][A-Za-z0-9._-]*)`)

var gem = lazyregexp.New(`(?m)^\s*gem\s+["']([^"']+)["']`)
var rubyVersion = lazyregexp.New(`(?m)^\s*ruby\s+["']([^"']+)["']`)

var sinatra = lazyregexp.New(`(?m)^\s*require ["']sinatra(?:/\w+)?["']`)

func (r *reader) readRuby(folder, file string) {
	text := r.read(file)
	if text == "" {
		return
	}
	var names []string
	for _, m := range gem.FindAllStringSubmatch(text, -1) {
		names = append(names, m[1])
	}
	r.depends(file, text, names)
	run, port, why, reload := "", 0, "", ""
	switch {
	case slices.Contains(names, "rails"):
		run, port, why = "bundle exec rails server -p 3000", 3000, "rails"
	case r.has(filepath.Join(folder, "config.ru")) && slices.Contains(names, "puma"):
		run, port, why = "bundle exec puma -p 9292", 9292, "puma"
	case r.has(filepath.Join(folder, "config.ru")):
		run, port, why = "bundle exec rackup -p 9292", 9292, "config.ru"
	default:
		main := ""
		for _, name := range []string{"app.rb", "server.rb", "main.rb", "config/app.rb"} {
			if sinatra.MatchString(r.peek(filepath.Join(folder, name))) {
				main = name
				break
			}
		}
		if main == "" {
			return
		}
		run, port, why = "bundle exec ruby "+main+" -p $PORT", 4567, main
		reload = "reload = " + list([]string{filepath.ToSlash(filepath.Join(folder, "**/*.rb"))})
	}
	s := r.program(folder, r.called(folder, ""), run, Finding{file, lineOf(text, why), "an app in Ruby, served by " + why})
	s.Port = port
	if reload != "" {
		s.Lines = append(s.Lines, reload)
	}
	if m := rubyVersion.FindStringSubmatch(text); m != nil {
		s.uses("ruby", m[1])
	}
	s.prepare("bundle install", "Gemfile", "Gemfile.lock")
	if slices.Contains(names, "sidekiq") {
		r.program(folder, "worker", "bundle exec sidekiq", Finding{file, lineOf(text, "sidekiq"), "sidekiq runs the app's jobs"})
	}
}

func (r *reader) note(file string, line int, what string) {
	r.p.Notes = append(r.p.Notes, Finding{file, line, what})
}
