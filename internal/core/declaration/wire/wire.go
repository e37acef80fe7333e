// Package wire resolves the references of a declaration: which variable of
// which service gets which value, and from which fact.
package wire

import (
	"fmt"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"

	"neighbour/internal/core/declaration/declare"
)

// Fact is a value that a service offers.
type Fact struct {
	Value  string `json:"value"`
	Secret bool   `json:"secret,omitempty"`
}

// Source is where references get their values.
type Source struct {
	Declaration *declare.Declaration
	// Copy is the name of the fresh copy of the project that this is of, CopyNumber its number
	// among those that were made at once, from 1; "" and 0 for the project itself.
	Copy       string
	CopyNumber int
	// Facts returns the facts of a service.
	Facts func(service string) (map[string]Fact, error)
	// Getenv looks up a variable for ${env.NAME}; nil: os.LookupEnv.
	Getenv func(name string) (string, bool)
	// Self looks up ${self.NAME}; nil: there are none.
	Self func(name string) (Fact, error)
}

// Variable is one variable of a service's environment.
type Variable struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	// Declared is the text as the file has it; empty for a variable that
	// Neighbour adds by itself, which Because explains.
	Declared string `json:"declared,omitempty"`
	Because  string `json:"because,omitempty"`
	// Where is its place in the file, "neighbour.toml:12:3".
	Where string `json:"where,omitempty"`
	// From are the facts that it was made of, as "ledger.url".
	From []string `json:"from,omitempty"`
	// Secret says that the value holds a password.
	Secret bool `json:"secret,omitempty"`
}

// resolve looks up one reference.
func (s Source) resolve(r *declare.Reference) (value string, secret bool, err error) {
	switch {
	case r.Env != "":
		getenv := s.Getenv
		if getenv == nil {
			getenv = os.LookupEnv
		}
		v, set := getenv(r.Env)
		if v == "" && r.HasDefault {
			return r.Default, false, nil
		}
		if !set {
			return "", false, fmt.Errorf("%s: the variable %s is not set; set it before the start, or write a default: ${env.%s:-value}", r.Source, r.Env, r.Env)
		}
		return v, false, nil
	case r.Self != "":
		if s.Self == nil {
			return "", false, fmt.Errorf("%s stands only in the declaration of a kind", r.Source)
		}
		f, err := s.Self(r.Self)
		return f.Value, f.Secret, err
	case r.Copy == "number":
		return strconv.Itoa(s.CopyNumber), false, nil
	case r.Copy == "name":
		return s.Copy, false, nil
	case r.Project == "name":
		return s.Declaration.Name, false, nil
	case r.Project == "dir":
		return s.Declaration.Dir, false, nil
	}
	facts, err := s.Facts(r.Service)
	if err != nil {
		return "", false, fmt.Errorf("%s: %w", r.Source, err)
	}
	f, ok := facts[r.Fact]
	if !ok {
		err := fmt.Errorf("%s: %s offers no fact %q", r.Source, r.Service, r.Fact)
		if near := declare.Nearest(r.Fact, slices.Sorted(maps.Keys(facts))); near != "" {
			err = fmt.Errorf("%w\ndid you mean ${%s.%s}?", err, r.Service, near)
		}
		return "", false, err
	}
	return f.Value, f.Secret, nil
}

// Expand resolves the references of a text.
func (s Source) Expand(text string) (string, error) {
	v, err := s.expand(text, nil)
	return v.Value, err
}

// Fact resolves the references of a text, and says whether a secret is in it.
func (s Source) Fact(text string) (Fact, error) {
	v, err := s.expand(text, nil)
	return Fact{Value: v.Value, Secret: v.Secret}, err
}

// ForDisplay resolves the references of a text that is shown. It stays as it
// is where a secret is in it, or a reference can't be resolved.
func (s Source) ForDisplay(text string) string {
	v, err := s.expand(text, nil)
	if err != nil || v.Secret {
		return text
	}
	return v.Value
}

// Argv resolves the references of a command and returns the arguments to
// execute: the command's own words if it is a plain one, so that the process
// is the program itself, otherwise those of a shell that runs it.
func (s Source) Argv(c declare.Command) ([]string, error) {
	var words []string
	if len(c.Args) > 0 {
		for _, a := range c.Args {
			words = append(words, a.Value)
		}
	} else if plain, ok := declare.PlainWords(c.Line.Value); ok {
		words = plain
	} else {
		line, err := s.expandShell(c.Line.Value)
		return []string{declare.Shell, "-c", line}, err
	}
	for i, w := range words {
		v, err := s.Expand(w)
		if err != nil {
			return nil, err
		}
		words[i] = v
	}
	return words, nil
}

// expandShell resolves the references of a shell's command line so that each
// value stays what it is, whatever characters it has: it is quoted as its
// place in the line asks for.
func (s Source) expandShell(line string) (string, error) {
	state := byte(0) // the quote that the line is within, or 0
	v, err := s.expand(line, func(literal, value string) string {
		for i := 0; i < len(literal); i++ {
			switch c := literal[i]; {
			case c == '\\' && state != '\'':
				i++
			case state == 0 && (c == '\'' || c == '"'):
				state = c
			case c == state:
				state = 0
			}
		}
		switch state {
		case '"':
			return strings.NewReplacer(`\`, `\\`, `"`, `\"`, "$", `\$`, "`", "\\`").Replace(value)
		case '\'':
			return strings.ReplaceAll(value, "'", `'\''`)
		}
		return "'" + strings.ReplaceAll(value, "'", `'\''`) + "'"
	})
	return v.Value, err
}

// expand resolves a text. If quote is given it gets the literal before each
// value and the value, and returns what to write for the value.
func (s Source) expand(text string, quote func(literal, value string) string) (Variable, error) {
	parts, errs := declare.Parts(text)
	if len(errs) > 0 {
		return Variable{}, errs[0]
	}
	var v Variable
	var b strings.Builder
	literal := ""
	for _, p := range parts {
		if p.Reference == nil {
			b.WriteString(p.Literal)
			literal += p.Literal
			continue
		}
		value, secret, err := s.resolve(p.Reference)
		if err != nil {
			return Variable{}, err
		}
		v.Secret = v.Secret || secret
		v.From = append(v.From, strings.Trim(p.Reference.Source, "${}"))
		if quote != nil {
			value = quote(literal, value)
			literal = ""
		}
		b.WriteString(value)
	}
	v.Value = b.String()
	return v, nil
}

// Environment lists the variables that a service gets beside the inherited
// ones, sorted by name: those declared, and PORT for a program that has a
// port, unless its own say otherwise.
func (s Source) Environment(svc *declare.Service, port int) ([]Variable, error) {
	vars, err := s.Texts("service."+svc.Name+".env", svc.Env)
	if err != nil {
		return nil, err
	}
	if _, own := svc.Env["PORT"]; !own && port != 0 && svc.Kind == declare.DefaultKind {
		vars = append(vars, Variable{Name: "PORT", Value: fmt.Sprint(port), Because: "the service's port"})
	}
	slices.SortFunc(vars, func(a, b Variable) int { return strings.Compare(a.Name, b.Name) })
	return vars, nil
}

// Texts resolves declared variables, which stand under a key of the file. They
// are sorted by name.
func (s Source) Texts(key string, texts map[string]declare.Text) ([]Variable, error) {
	var vars []Variable
	for name, text := range texts {
		v, err := s.expand(text.Value, nil)
		if err != nil {
			return nil, fmt.Errorf("%s.%s: %w", key, name, err)
		}
		v.Name, v.Declared, v.Where = name, text.Value, text.At.String()
		vars = append(vars, v)
	}
	slices.SortFunc(vars, func(a, b Variable) int { return strings.Compare(a.Name, b.Name) })
	return vars, nil
}

// Merge puts variables on top of an environment of NAME=value.
func Merge(base []string, vars []Variable) []string {
	own := map[string]bool{}
	for _, v := range vars {
		own[v.Name] = true
	}
	out := make([]string, 0, len(base)+len(vars))
	for _, b := range base {
		if name, _, _ := strings.Cut(b, "="); !own[name] {
			out = append(out, b)
		}
	}
	for _, v := range vars {
		out = append(out, v.Name+"="+v.Value)
	}
	return out
}

// Why says where the value comes from.
func (v Variable) Why() string {
	switch {
	case v.Because != "":
		return v.Because
	case len(v.From) == 0:
		return "as declared" + v.place()
	}
	return "from " + strings.Join(v.From, ", ") + v.place()
}

func (v Variable) place() string {
	if v.Where == "" {
		return ""
	}
	return " in " + v.Where
}

// QuoteCommand returns a command as it is typed in a POSIX shell.
func QuoteCommand(argv []string) string {
	words := make([]string, len(argv))
	for i, w := range argv {
		words[i] = QuoteShell(w)
	}
	return strings.Join(words, " ")
}

// QuoteShell quotes a value for a POSIX shell.
func QuoteShell(value string) string {
	if value != "" && strings.Trim(value, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_./:@%+,=") == "" {
		return value
	}
	return "'" + strings.ReplaceAll(value, "'", `'\''`) + "'"
}

// QuoteDotenv quotes a value for the readers of env files, in a form that all
// of them take alike. There is none for a few values, such as one with a
// single quote and a dollar; these are written with escapes, which only some
// of them take back, and everywhere is false.
func QuoteDotenv(value string) (text string, everywhere bool) {
	has := func(chars string) bool { return strings.ContainsAny(value, chars) }
	switch {
	case QuoteShell(value) == value:
		return value, true
	case !has("'\r") && !strings.HasSuffix(value, `\`):
		return "'" + value + "'", true
	case !has("\"\\$`"):
		return `"` + strings.ReplaceAll(value, "\r", `\r`) + `"`, true
	case !has("#$\r\n") && strings.TrimSpace(value) == value && !strings.ContainsAny(value[:1], "\"'`"):
		return value, true
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\r", `\r`, "$", `\$`, "`", "\\`").Replace(value) + `"`, false
}
