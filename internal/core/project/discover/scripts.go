package discover

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"neighbour/internal/core/machine/lazyregexp"
)

var (
	portOption = lazyregexp.New(`(?:--port[= ]|\s-p[= ]?|PORT=)(\d{2,5})\b`)
	// What programs say of their port where none is given, and of variables,
	// in the common languages.
	portInSource  = lazyregexp.New(`(?i)(?:PORT["'\])]*\s*(?:\|\||\?\?|or|,|:)\s*["']?|\.listen\(\s*|\bport\s*[:=]\s*["']?:?|ListenAndServe\(\s*["'][^"':]*:)(\d{4,5})\b`)
	readsVariable = lazyregexp.New(`(?:process\.env\.|process\.env\[["']|import\.meta\.env\.|os\.Getenv\("|os\.LookupEnv\("|os\.environ\[["']|os\.environ\.get\(["']|os\.getenv\(["']|getenv\(["']|\$_ENV\[["']|\$_SERVER\[["']|ENV\[["']|ENV\.fetch\(["'])([A-Z][A-Z0-9_]+)`)
	sourceFile    = lazyregexp.New(`\.(?:js|mjs|cjs|ts|mts|py|rb|php|sh|go)$`)
)

// readCommand reads a script's command, and the files that it names.
func (r *reader) readCommand(s *Service, folder, file string, line int, command string) {
	if m := portOption.FindStringSubmatch(" " + command); m != nil {
		s.setPort(m[1], Finding{file, line, "the script has port " + m[1]})
	}
	interpreter := ""
	for _, word := range strings.Fields(command) {
		word = strings.Trim(word, `"'`)
		by := interpreter
		switch {
		case strings.HasPrefix(word, "-"): // an option between the interpreter and its script
			continue
		case slices.Contains(interpreters, filepath.Base(word)):
			interpreter = filepath.Base(word)
			continue
		}
		if !filepath.IsLocal(word) || by == "" && !sourceFile.MatchString(word) {
			continue
		}
		for _, path := range r.scripts(filepath.Join(folder, word), by) {
			if src := r.read(path); src != "" {
				r.readSource(s, path, src)
				by = ""
				break
			}
		}
		interpreter = by // whose script it was not, but the value of an option
	}
}

// interpreters take the file that they run as an argument, whatever it is called.
var interpreters = []string{"node", "nodemon", "bun", "tsx", "ts-node", "python", "python3", "ruby", "php", "sh", "bash"}

// scripts returns the files that an interpreter may mean by a path, the likeliest first: Node
// and those like it look for endings, and in a folder for its main file.
func (r *reader) scripts(path, interpreter string) []string {
	all := []string{path}
	switch interpreter {
	case "node", "nodemon", "bun", "tsx", "ts-node":
		for _, ending := range []string{".js", ".mjs", ".cjs", ".ts"} {
			all = append(all, path+ending)
		}
		var m struct{ Main string }
		if json.Unmarshal([]byte(r.read(filepath.Join(path, "package.json"))), &m) == nil && filepath.IsLocal(m.Main) {
			all = append(all, filepath.Join(path, m.Main), filepath.Join(path, m.Main)+".js")
		}
		all = append(all, filepath.Join(path, "index.js"))
	}
	return all
}

// readSource looks in a program's source for its port, and for the variables
// that it reads.
func (r *reader) readSource(s *Service, file, src string) {
	if m := portInSource.FindStringSubmatchIndex(src); m != nil {
		port := src[m[2]:m[3]]
		s.setPort(port, Finding{file, strings.Count(src[:m[2]], "\n") + 1, "it listens on port " + port})
	}
	r.readVariables(s, file, src)
}

// readVariables looks in a source for the variables that it reads.
func (r *reader) readVariables(s *Service, file, src string) {
	for _, m := range readsVariable.FindAllStringSubmatchIndex(src, -1) {
		name := src[m[2]:m[3]]
		s.readsPort = s.readsPort || name == "PORT"
		r.wanted = append(r.wanted, wanted{name: name, file: file, line: strings.Count(src[:m[2]], "\n") + 1, by: s})
	}
}

func (s *Service) setPort(text string, why Finding) {
	port, err := strconv.Atoi(text)
	if err != nil || port < 1 || port > 65535 || s.Port != 0 {
		return
	}
	s.Port = port
	s.because(why)
}

// wanted is a variable that the app reads.
type wanted struct {
	name, value string
	file        string
	line        int
	folder      string   // of the env file that has it
	by          *Service // the program whose source reads it; nil: an env file has it
}

// variablesOf are the variables of a service so far.
func (s *Service) has(name string) bool {
	return slices.ContainsFunc(s.Env, func(v Variable) bool { return v.Name == name })
}

func (w wanted) finding(format string, args ...any) Finding {
	return Finding{w.file, w.line, w.name + " " + fmt.Sprintf(format, args...)}
}
