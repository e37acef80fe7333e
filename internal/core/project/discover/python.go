package discover

import (
	"cmp"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"neighbour/internal/core/machine/lazyregexp"
)

func (r *reader) readPython(folder string) {
	at := func(name string) string { return filepath.Join(folder, name) }
	var names []string
	found, version := "", ""
	if text := r.read(at("requirements.txt")); text != "" {
		var own []string
		for line := range strings.Lines(text) {
			if m := requirement.FindStringSubmatch(line); m != nil && !strings.HasPrefix(line, "#") {
				own = append(own, strings.ToLower(m[1]))
			}
		}
		r.depends(at("requirements.txt"), text, own)
		names, found = append(names, own...), at("requirements.txt")
	}
	if text := r.read(at("pyproject.toml")); text != "" {
		var m struct {
			Project struct {
				Dependencies []string
				Python       string `toml:"requires-python"`
			}
			Tool struct {
				Poetry struct{ Dependencies map[string]any }
			}
		}
		if err := toml.Unmarshal([]byte(text), &m); err != nil {
			r.note(at("pyproject.toml"), 0, "can't be read: "+err.Error())
		}
		var own []string
		for _, d := range m.Project.Dependencies {
			if n := requirement.FindStringSubmatch(d); n != nil {
				own = append(own, strings.ToLower(n[1]))
			}
		}
		for n := range m.Tool.Poetry.Dependencies {
			own = append(own, strings.ToLower(n))
		}
		version = m.Project.Python
		r.depends(at("pyproject.toml"), text, own)
		names, found = append(names, own...), cmp.Or(found, at("pyproject.toml"))
	}
	app := r.pythonApp(folder, names)
	if app == nil {
		return
	}
	env := r.pythonEnv(folder, found == at("requirements.txt"))
	add := func(called, run string, why Finding) *Service {
		s := r.program(folder, called, run, why)
		s.uses("python", version)
		if env.prepare != "" {
			s.Lines = append(s.Lines, env.prepare)
		}
		return s
	}
	s := add(r.called(folder, ""), env.python+" "+app.run, Finding{File: at(app.file), What: app.what})
	s.Port = app.port
	if !app.reloads {
		s.Lines = append(s.Lines, "reload = "+list([]string{path.Join(filepath.ToSlash(folder), "**/*.py")}))
	}
	r.readSource(s, at(app.file), r.read(at(app.file)))
	switch {
	case app.file == "manage.py":
		r.migrates(s, env.python+" manage.py migrate", Finding{File: at("manage.py"), What: "the framework's migrations, which run before the server"}, path.Join(filepath.ToSlash(folder), "**/migrations/*.py"))
	case r.has(at("alembic.ini")):
		r.migrates(s, env.python+" -m alembic upgrade head", Finding{File: at("alembic.ini"), What: "migrations, which run before the server"}, path.Join(filepath.ToSlash(folder), "**/versions/*.py"))
	}
	for _, name := range []string{"settings.py", "config/settings.py"} {
		r.readSettings(s, at(name))
	}
	settings, _ := filepath.Glob(filepath.Join(r.dir, folder, "*", "settings.py"))
	for _, path := range settings {
		if rel, err := filepath.Rel(r.dir, path); err == nil && !slices.Contains(r.p.Files, rel) {
			r.readSettings(s, rel)
		}
	}
}

// pythonApp is a program in Python, as it is found by what it imports.
type pythonApp struct {
	file, run, what string
	port            int
	reloads         bool // it looks at its files itself
}

var (
	// makes finds the variable that holds an application, or the function that makes one.
	makesFastAPI = lazyregexp.New(`(?m)^(\w+)\s*(?::\s*\w+\s*)?=\s*(?:fastapi\.)?(?:FastAPI|Starlette)\(`)
	makesFlask   = lazyregexp.New(`(?m)^(\w+)\s*=\s*(?:flask\.)?Flask\(|^def (create_app|make_app)\(`)
	flaskImport  = lazyregexp.New(`(?m)^\s*(?:from flask import|import flask)\b`)
	runsItself   = lazyregexp.New(`(?m)^if __name__ == ["']__main__["']`)
	packageName  = lazyregexp.New(`^[a-z_][a-z0-9_]*$`)
)

// pythonApp looks for an application in a folder, in the places where they are, nil for none.
func (r *reader) pythonApp(folder string, libraries []string) *pythonApp {
	if r.has(filepath.Join(folder, "manage.py")) {
		return &pythonApp{file: "manage.py", run: "manage.py runserver $PORT", what: "a program in Python", port: 8000, reloads: true}
	}
	var files []string
	for _, pattern := range []string{"*.py", "app/*.py", "src/*.py", "*/__init__.py", "*/main.py", "*/app.py", "src/*/__init__.py", "src/*/main.py", "src/*/app.py"} {
		found, _ := filepath.Glob(filepath.Join(r.dir, folder, pattern))
		for _, f := range found {
			rel, err := filepath.Rel(filepath.Join(r.dir, folder), f)
			if first, _, nested := strings.Cut(filepath.ToSlash(rel), "/"); err == nil && !slices.Contains(files, rel) && (!nested || packageName.MatchString(first) && !slices.Contains(passedBy, first)) {
				files = append(files, rel)
			}
		}
	}
	rank := func(file string) int {
		return slices.Index([]string{"wsgi.py", "server.py", "main.py", "app.py"}, filepath.Base(file))
	}
	slices.SortStableFunc(files, func(a, b string) int { return rank(b) - rank(a) })
	var plain *pythonApp
	for _, file := range files {
		src := r.peek(filepath.Join(folder, file))
		module, dir := moduleOf(file)
		in := ""
		if dir != "" {
			in = "--app-dir " + dir + " "
		}
		if m := makesFastAPI.FindStringSubmatch(src); m != nil {
			return &pythonApp{file, fmt.Sprintf("-m uvicorn %s%s:%s --reload --port $PORT", in, module, m[1]), "an app for ASGI, by what it imports", 8000, true}
		}
		if m := makesFlask.FindStringSubmatch(src); m != nil && (flaskImport.MatchString(src) || m[2] != "") {
			if dir != "" {
				module = dir + "/" + strings.ReplaceAll(module, ".", "/")
			}
			return &pythonApp{file, fmt.Sprintf("-m flask --app %s run --reload --port $PORT", module), "an app of Flask, by what it imports", 5000, true}
		}
		uses := func(names ...string) bool {
			return rank(file) >= 0 && !strings.Contains(file, "/") && slices.ContainsFunc(names, func(n string) bool { return slices.Contains(libraries, n) })
		}
		switch {
		case uses("fastapi", "uvicorn", "starlette"):
			return &pythonApp{file, fmt.Sprintf("-m uvicorn %s:app --reload --port $PORT", module), "an app for ASGI, by its packages", 8000, true}
		case uses("flask"):
			return &pythonApp{file, fmt.Sprintf("-m flask --app %s run --reload --port $PORT", module), "an app of Flask, by its packages", 5000, true}
		}
		if plain == nil && (rank(file) >= 0 && !strings.Contains(file, "/") || runsItself.MatchString(src) && strings.Contains(src, "PORT")) {
			plain = &pythonApp{file: file, run: filepath.ToSlash(file), what: "a program in Python"}
		}
	}
	return plain
}

// moduleOf returns the module that a file is, and the folder that it is imported from.
func moduleOf(file string) (module, dir string) {
	name := strings.TrimSuffix(strings.TrimSuffix(filepath.ToSlash(file), ".py"), "/__init__")
	if rest, in := strings.CutPrefix(name, "src/"); in {
		name, dir = rest, "src"
	}
	return strings.ReplaceAll(name, "/", "."), dir
}

// pythonEnv is how a project's Python is run: in an environment of its own.
type pythonEnv struct {
	python  string // the interpreter
	prepare string // the line that makes it; "" if that isn't known
}

func (r *reader) pythonEnv(folder string, requirements bool) pythonEnv {
	has := func(name string) bool { return r.has(filepath.Join(folder, name)) }
	at := func(name string) string { return path.Join(filepath.ToSlash(folder), name) } // as patterns are seen
	for _, t := range [][3]string{{"poetry.lock", "poetry", "poetry install"}, {"uv.lock", "uv", "uv sync"}, {"Pipfile.lock", "pipenv", "pipenv sync"}} {
		if has(t[0]) {
			return pythonEnv{t[1] + " run python", fmt.Sprintf("prepare = [{ run = %q, when = [%q] }]", t[2], at(t[0]))}
		}
	}
	dir := ".venv"
	if !has(dir) && has("venv") {
		dir = "venv"
	}
	install, when := "-e .", "pyproject.toml"
	switch {
	case !requirements && !has("pyproject.toml") && !has(dir): // its packages are the machine's
		return pythonEnv{"python3", ""}
	case !requirements && !has("pyproject.toml"):
		return pythonEnv{dir + "/bin/python", ""}
	}
	if requirements {
		install, when = "-r requirements.txt", "requirements.txt"
	}
	return pythonEnv{dir + "/bin/python", fmt.Sprintf("prepare = [{ run = %q, makes = [%q] }, { run = %q, when = [%q] }]",
		"python3 -m venv "+dir, at(dir), dir+"/bin/pip install "+install, at(when))}
}
