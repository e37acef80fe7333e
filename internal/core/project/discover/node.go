package discover

import (
	"encoding/json"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"neighbour/internal/core/machine/deps"
)

// tools serve an app while it is worked on.
var tools = map[string]struct {
	port int // where nobody says another
	// readsPort says that it listens on that of the variable PORT, option on that of its option
	// --port, and server that it runs what answers, and builds no pages.
	readsPort, option, server bool
	// source is what it runs, from the package's folder.
	source string
}{
	"vite": {port: 5173, option: true}, "svelte-kit": {port: 5173, option: true}, "astro": {port: 4321, option: true}, "ng": {port: 4200, option: true}, "gatsby": {port: 8000, option: true}, "parcel": {port: 1234, option: true},
	"next": {port: 3000, readsPort: true}, "nuxt": {port: 3000, readsPort: true}, "react-scripts": {port: 3000, readsPort: true},
	"fastify": {port: 3000, readsPort: true, server: true}, "nest": {port: 3000, server: true, source: "src/main.ts"},
}

func (r *reader) readNode(folder, file string) {
	text := r.read(file)
	if text == "" {
		return
	}
	var m struct {
		Name         string
		Engines      map[string]string
		Scripts      map[string]string
		Dependencies map[string]string
		Development  map[string]string `json:"devDependencies"`
		Workspaces   workspaces
	}
	if err := json.Unmarshal([]byte(text), &m); err != nil {
		r.note(file, 0, "can't be read: "+err.Error())
		return
	}
	r.depends(file, text, slices.Collect(maps.Keys(m.Dependencies)))
	if folder == "." {
		r.members = append(m.Workspaces, r.pnpmWorkspaces()...)
	}
	// What several packages share is installed once, in the project's folder.
	base, in := folder, ""
	if folder != "." && r.isMember(folder) {
		base, in = ".", "."
	}
	packages := deps.Node(func(name string) bool { return r.has(filepath.Join(base, name)) })
	tool := packages.Tool
	var main *Service
	propose := func(script, called string) *Service {
		run := tool + " run " + script
		if tool == "npm" && script == "start" {
			run = "npm start"
		}
		command, line := m.Scripts[script], lineOf(text, `"`+script+`"`)
		s := r.program(folder, called, run, Finding{file, line, fmt.Sprintf("the script %q runs: %s", script, command)})
		s.uses("node", m.Engines["node"])
		if packages.When != "package.json" || len(m.Dependencies)+len(m.Development) > 0 {
			s.install(packages, in)
		}
		r.readCommand(s, folder, file, line, command)
		if fields := strings.Fields(command); len(fields) > 1 && slices.Contains(interpreters, filepath.Base(fields[0])) && !watches(command) {
			s.Lines = append(s.Lines, "reload = "+list([]string{filepath.ToSlash(filepath.Join(folder, "**/*.{js,mjs,cjs,ts}"))}))
		}
		return s
	}
	for _, script := range mainScripts {
		if m.Scripts[script] == "" {
			continue
		}
		if main != nil {
			other := propose(script, r.called(folder, m.Name)+"-"+script)
			other.On, other.Port = false, 0
			other.Off = fmt.Sprintf("another script of the same app is on: %s", main.Name)
			continue
		}
		main = propose(script, r.called(folder, m.Name))
		main.startsAll = folder == "." && len(r.members) > 0 && startsMembers.MatchString(m.Scripts[script])
		for _, word := range strings.Fields(m.Scripts[script]) {
			t, known := tools[filepath.Base(word)]
			if !known || strings.Contains(m.Scripts[script], "build") {
				continue
			}
			main.page = !t.server && len(r.clients[folder]) == 0
			main.readsPort = main.readsPort || t.readsPort
			if t.option && !portOption.MatchString(m.Scripts[script]) && !strings.ContainsAny(m.Scripts[script], "&|;") {
				main.withPort = tool + " run " + script + " --port $PORT"
				if tool == "npm" {
					main.withPort = "npm run " + script + " -- --port $PORT"
				}
				main.Lines[0] = fmt.Sprintf("run = %q", main.withPort)
			}
			if t.source != "" {
				r.readSource(main, filepath.Join(folder, t.source), r.read(filepath.Join(folder, t.source)))
			}
			main.setPort(strconv.Itoa(t.port), Finding{file, lineOf(text, `"`+script+`"`), fmt.Sprintf("%s listens on port %d", filepath.Base(word), t.port)})
		}
	}
	if main != nil {
		r.readConnections(folder, main)
		npx := map[string]string{"npm": "npx", "yarn": "yarn", "pnpm": "pnpm exec", "bun": "bunx"}[tool]
		r.readPrisma(folder, main, npx)
		defer func() { // unless a script does it
			if !slices.ContainsFunc(r.p.Errands, func(e *Errand) bool { return e.With == main }) {
				r.readMigrations(folder, main, npx, func(name string) bool { return m.Dependencies[name] != "" || m.Development[name] != "" })
			}
		}()
	}
	for _, script := range slices.Sorted(maps.Keys(m.Scripts)) {
		if slices.Contains(mainScripts, script) {
			continue
		}
		words := strings.FieldsFunc(script, func(r rune) bool { return !unicode.IsLetter(r) })
		has := func(names []string) bool {
			return slices.ContainsFunc(words, func(w string) bool { return slices.Contains(names, w) })
		}
		onceOnly := has(onceScripts)
		if len(words) == 0 || has(otherScripts) || !onceOnly && (!has(runningScripts) || !runsApp(m.Scripts[script])) {
			continue
		}
		if main != nil && r.sql != "" && slices.Contains(migrateScripts, script) {
			r.migrates(main, tool+" run "+script, Finding{file, lineOf(text, `"`+script+`"`), fmt.Sprintf("the script %q, which runs before the app", script)}, r.migrationFiles(folder)...)
			continue
		}
		called := script
		if folder != "." {
			called = filepath.Base(folder) + "-" + script
		}
		s := propose(script, called)
		if s.Port = 0; main != nil {
			s.link("env_of", main)
		}
		switch {
		case onceOnly:
			s.Lines = append(s.Lines, "once = true")
			s.On, s.Off = false, "it runs once before the app, and not every app wants that at each first start"
		case words[0] == "dev" || words[0] == "start" || words[0] == "watch":
			s.On = main == nil
			s.Off = "it may be a part of another script that is on"
		}
		if s.On {
			s.Off = ""
		}
	}
}

// Scripts of a package.json, by what their names say. Of the main ones, the
// first that is there is proposed; the words are parts of the names of others.
var (
	mainScripts    = []string{"dev", "start:dev", "develop", "start", "serve"}
	runningScripts = []string{"dev", "start", "serve", "server", "worker", "workers", "queue", "jobs", "scheduler", "cron", "consumer", "consumers", "api", "watch"}
	onceScripts    = []string{"migrate", "migrations", "migration", "seed", "setup"}
	migrateScripts = []string{"migrate", "migrations", "db:migrate", "migrate:up", "migrate:latest"}
	otherScripts   = []string{"test", "tests", "lint", "build", "format", "check", "typecheck", "rollback", "down", "undo", "create", "make", "generate", "new", "drop", "reset", "deploy", "prod", "production", "pre", "post", "ci", "clean", "debug", "revert", "status", "preview"}
)

// runsApp reports whether a script's command runs a program of the project's own, or a server that is
// known: scripts are told by what they run, and not by their names alone.
func runsApp(command string) bool {
	for _, part := range strings.FieldsFunc(command, func(r rune) bool { return r == '&' || r == '|' || r == ';' }) {
		for _, word := range strings.Fields(part) {
			name := filepath.Base(word)
			if strings.Contains(word, "=") || name == "cross-env" || name == "npx" || name == "exec" {
				continue // what comes before a program
			}
			_, tool := tools[name]
			if tool || slices.Contains(interpreters, name) || sourceFile.MatchString(word) || slices.Contains([]string{"npm", "yarn", "pnpm", "go", "cargo"}, name) {
				return true
			}
			break
		}
	}
	return false
}

// watches reports whether a command looks at its files itself.
func watches(command string) bool {
	for _, word := range strings.Fields(command) {
		name := filepath.Base(word)
		if _, tool := tools[name]; tool || slices.Contains([]string{"nodemon", "ts-node-dev", "tsx", "--watch", "watch", "-w", "concurrently"}, name) || strings.HasPrefix(name, "--watch") {
			return true
		}
	}
	return false
}
