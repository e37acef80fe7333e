// Package functions runs the functions of a folder: each is called over HTTP, and is a module
// with one handler that stays loaded in a small runner for its language, or a program that
// runs once for each call (RFC 3875). What is called is always what the files say now.
package functions

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"log"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/core/machine/lazyregexp"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/emulator"
)

// Defaults of what a function may use.
const (
	DefaultTime   = 30 * time.Second
	DefaultAtOnce = 4
)

// Limits are what each call of a function may use; what is 0 is the default.
type Limits struct {
	Time time.Duration `json:"time,omitempty"`
	// Memory is that of a process and all that it starts, in bytes; 0 is without limit.
	Memory int64 `json:"memory,omitempty"`
	// AtOnce is how many calls of a function are under way at a time. Others wait.
	AtOnce int `json:"at_once,omitempty"`
}

// or returns the limits with those of another where there are none.
func (l Limits) or(other Limits) Limits {
	return Limits{cmp.Or(l.Time, other.Time), cmp.Or(l.Memory, other.Memory), cmp.Or(l.AtOnce, other.AtOnce)}
}

// Declared is what is declared of a function.
type Declared struct {
	// Argv is a command that runs once for each call; empty for a module.
	Argv []string `json:"argv,omitempty"`
	// File is the module or program, from the folder.
	File string `json:"file,omitempty"`
	Limits
}

// Config says what is run.
type Config struct {
	// Dir is the folder of the functions.
	Dir       string              `json:"dir"`
	Functions map[string]Declared `json:"functions,omitempty"`
	Limits
	// Names are the host names by which they are called, beside those of this machine.
	Names []string `json:"names,omitempty"`
	// CORS are the pages of other sites that may call it.
	CORS emulator.Pages `json:"cors,omitempty"`
}

// Emulator runs functions alone.
var Emulator = emulator.Emulator{Name: "functions", Options: func(flags *flag.FlagSet) emulator.Serve {
	var c Config
	flags.StringVar(&c.Dir, "dir", ".", "the folder of the functions")
	config := flags.String("config", "", "a file with what is declared, as JSON")
	run := flags.String("run", "", "a folder for what it makes; left out: a temporary one")
	rules := flags.String("misbehave", "", "the file that says how it misbehaves")
	return func(ctx context.Context, l net.Listener, log *log.Logger) error {
		if *config != "" {
			b, err := os.ReadFile(*config)
			if err == nil {
				err = json.Unmarshal(b, &c)
			}
			if err != nil {
				return fmt.Errorf("%s: %w", *config, err)
			}
		}
		folder := *run
		if folder == "" {
			made, err := os.MkdirTemp("", "neighbour-functions-")
			if err != nil {
				return err
			}
			defer os.RemoveAll(made)
			folder = made
		}
		s, err := New(c, folder, log)
		if err != nil {
			return err
		}
		defer s.Close()
		s.Misbehave = misbehave.Follow(*rules, log)
		all, _ := s.look()
		log.Printf("%s at http://%s", words.Count(len(all), "function"), l.Addr())
		return s.Serve(ctx, l)
	}
}}

// function is one that can be called.
type function struct {
	name string
	// language is the runner that it needs, "" for a program.
	language string
	file     string   // absolute; "" for a command
	argv     []string // of a program or a command
	Limits
}

// runs says what it runs on, in a word.
func (f *function) runs() string {
	switch {
	case f.language != "":
		return f.language
	case f.file != "":
		return "program"
	}
	return "command"
}

// languages are the runners, by the endings of modules.
var languages = map[string]string{".js": "node", ".mjs": "node", ".cjs": "node", ".ts": "node", ".mts": "node", ".py": "python", ".php": "php"}

// validName is what a function can be called.
var validName = lazyregexp.New(`^[a-zA-Z0-9][a-zA-Z0-9_-]{0,62}$`)

// ValidName reports whether a function can have a name.
func ValidName(name string) bool { return validName.MatchString(name) }

// Found is a function of a folder.
type Found struct {
	Name string
	// Language is the runner that it needs: node, python or php; "" for a program.
	Language string
	File     string // absolute
}

// Find lists the functions of a folder, sorted by name: modules of known languages, programs
// that may be executed, and folders with a module that is called index or main. What begins
// with a dot or an underscore is none, and neither are tests. Problems tells which names
// several files have, and which can't be names.
func Find(dir string) (all []Found, problems []string, err error) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, nil, err
	}
	by := map[string]Found{}
	for _, e := range entries {
		f, ok := find(dir, e.Name())
		if !ok {
			ending := filepath.Ext(e.Name())
			if languages[ending] != "" && !noFunction(e.Name()) && !ValidName(strings.TrimSuffix(e.Name(), ending)) {
				problems = append(problems, e.Name()+" is no function, for its name: use up to 63 of the letters a-z and A-Z, digits, - and _")
			}
			continue
		}
		if other, twice := by[f.Name]; twice {
			problems = append(problems, fmt.Sprintf("%s and %s are both the function %s; the first is called", filepath.Base(other.File), e.Name(), f.Name))
			continue
		}
		by[f.Name] = f
		all = append(all, f)
	}
	slices.SortFunc(all, func(a, b Found) int { return strings.Compare(a.Name, b.Name) })
	return all, problems, nil
}

// noFunction reports whether a file is not meant to be a function: it is hidden, a test, or what
// tools read.
func noFunction(base string) bool {
	for _, part := range []string{".test.", ".spec.", ".config."} {
		if strings.Contains(base, part) {
			return true
		}
	}
	return strings.HasPrefix(base, ".") || strings.HasPrefix(base, "_") || strings.HasSuffix(base, ".d.ts")
}

func find(dir, base string) (Found, bool) {
	name, path := base, filepath.Join(dir, base)
	if noFunction(base) {
		return Found{}, false
	}
	info, err := os.Stat(path)
	if err != nil {
		return Found{}, false
	}
	if info.IsDir() {
		for _, stem := range []string{"index", "main", "handler"} {
			for _, ending := range []string{".ts", ".mts", ".js", ".mjs", ".cjs", ".py", ".php"} {
				file := filepath.Join(path, stem+ending)
				if i, err := os.Stat(file); err == nil && i.Mode().IsRegular() && ValidName(name) {
					return Found{name, languages[ending], file}, true
				}
			}
		}
		return Found{}, false
	}
	ending := filepath.Ext(base)
	name = strings.TrimSuffix(base, ending)
	language, known := languages[ending]
	if !info.Mode().IsRegular() || !known && info.Mode()&0o111 == 0 || !ValidName(name) || strings.HasSuffix(name, "_test") {
		return Found{}, false
	}
	return Found{name, language, path}, true
}

// resolve returns all functions: those that are declared, and those of the folder.
func resolve(c Config) (map[string]*function, []string, error) {
	found, problems, err := Find(c.Dir)
	out := map[string]*function{}
	for _, f := range found {
		fn := &function{name: f.Name, language: f.Language, file: f.File, Limits: c.Limits}
		if f.Language == "" {
			fn.argv = []string{f.File}
		}
		out[f.Name] = fn
	}
	for name, d := range c.Functions {
		fn := out[name]
		if fn == nil {
			fn = &function{name: name}
		}
		fn.Limits = d.Limits.or(c.Limits)
		switch {
		case len(d.Argv) > 0:
			fn.language, fn.file, fn.argv = "", "", d.Argv
		case d.File != "":
			fn.file = filepath.Join(c.Dir, d.File)
			fn.language, fn.argv = languages[filepath.Ext(d.File)], nil
			if fn.language == "" {
				fn.argv = []string{fn.file}
			}
		case fn.file == "":
			problems = append(problems, fmt.Sprintf("%s is declared, and %s has no file of that name", name, c.Dir))
			continue
		}
		out[name] = fn
	}
	for _, fn := range out {
		fn.Limits = fn.Limits.or(Limits{Time: DefaultTime, AtOnce: DefaultAtOnce})
	}
	if errors.Is(err, os.ErrNotExist) && len(c.Functions) > 0 {
		err = nil
	}
	return out, problems, err
}
