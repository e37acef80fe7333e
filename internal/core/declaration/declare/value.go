package declare

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/Masterminds/semver/v3"

	"neighbour/internal/core/machine/lazyregexp"
)

// Text is a value that may hold references, with its place in the file.
type Text struct {
	Value string
	At    Position
	width int
}

// Word is a value without references, with its place in the file.
type Word struct {
	Value string
	At    Position
	width int
	// skipped says that the text begins on the line after At.
	skipped bool
}

// LineAt returns the place of a line of the text, counted from 0.
func (w Word) LineAt(i int) Position {
	at := w.At
	if w.skipped {
		i++
	}
	if i > 0 {
		at.Line, at.Column = at.Line+i, 1
	}
	return at
}

// ServiceName names another service: "${engine}", or just "engine". The
// service that has it needs the other.
type ServiceName struct {
	Name  string
	At    Position
	width int
}

// serviceNameOf reads the name of a service with or without the ${} around it.
func serviceNameOf(text string) string {
	if strings.HasPrefix(text, "${") && strings.HasSuffix(text, "}") && !strings.Contains(text, ".") {
		return text[2 : len(text)-1]
	}
	return text
}

// Command is a command to run: a line, or a list of arguments.
type Command struct {
	Line Text
	Args []Text
}

// IsZero reports whether there is no command.
func (c Command) IsZero() bool { return c.Line.Value == "" && len(c.Args) == 0 }

// String returns the command as the file has it.
func (c Command) String() string {
	if len(c.Args) == 0 {
		return c.Line.Value
	}
	words := make([]string, len(c.Args))
	for i, a := range c.Args {
		words[i] = a.Value
	}
	return strings.Join(words, " ")
}

// shellWords are built into the shell and so are no programs of their own.
var shellWords = []string{".", ":", "cd", "command", "eval", "exec", "exit", "export", "read", "set", "shift", "source", "trap", "ulimit", "umask", "unset", "wait",
	"if", "for", "while", "until", "case", "{", "!"}

// PlainWords splits a command line that means the same without a shell:
// words, some of them perhaps in quotes or with references, and nothing that
// a shell acts on. It returns false for any other line.
func PlainWords(line string) ([]string, bool) {
	var words []string
	var word strings.Builder
	inWord := false
	for i := 0; i < len(line); i++ {
		switch c := line[i]; c {
		case ' ', '\t':
			if inWord {
				words = append(words, word.String())
				word.Reset()
				inWord = false
			}
		case '\'', '"':
			end := strings.IndexByte(line[i+1:], c)
			if end < 0 {
				return nil, false
			}
			quoted := line[i+1 : i+1+end]
			if c == '"' && (strings.ContainsAny(quoted, "`\\") || strings.Count(quoted, "$") != strings.Count(quoted, "${")) {
				return nil, false
			}
			word.WriteString(quoted)
			inWord = true
			i += end + 1
		case '$':
			end := strings.IndexByte(line[i:], '}')
			if !strings.HasPrefix(line[i:], "${") || end < 0 {
				return nil, false
			}
			word.WriteString(line[i : i+end+1])
			inWord = true
			i += end
		case '|', '&', ';', '<', '>', '(', ')', '`', '\\', '*', '?', '[', '\n', '\r':
			return nil, false
		case '#', '~':
			if !inWord {
				return nil, false
			}
			word.WriteByte(c)
		case '=':
			if len(words) == 0 { // a variable before the command
				return nil, false
			}
			word.WriteByte(c)
			inWord = true
		default:
			word.WriteByte(c)
			inWord = true
		}
	}
	if inWord {
		words = append(words, word.String())
	}
	if len(words) == 0 || slices.Contains(shellWords, words[0]) {
		return nil, false
	}
	return words, true
}

// Size is an amount of memory or of space, in bytes.
type Size int64

// UnmarshalText reads a number with a unit: "512MB". A MB is 1024 × 1024
// bytes.
func (s *Size) UnmarshalText(text []byte) error {
	upper := strings.ToUpper(string(text))
	number := strings.TrimRight(upper, "KMGBI ")
	unit := strings.TrimSuffix(strings.TrimSpace(upper[len(number):]), "B")
	shift, known := map[string]int{"": 0, "K": 10, "KI": 10, "M": 20, "MI": 20, "G": 30, "GI": 30}[unit]
	n, err := strconv.ParseFloat(number, 64)
	if err != nil || !known || n <= 0 || n*float64(int64(1)<<shift) >= 1<<60 {
		return fmt.Errorf("%q is not a size; write for example \"512MB\" or \"1.5GB\"", text)
	}
	*s = Size(n * float64(int64(1)<<shift))
	return nil
}

// String returns the size with a unit that suits it: "512 MB".
func (s Size) String() string {
	for _, u := range []struct {
		name  string
		shift int
	}{{"GB", 30}, {"MB", 20}, {"KB", 10}} {
		if s >= 1<<u.shift {
			return strconv.FormatFloat(math.Round(float64(s)/float64(int64(1)<<u.shift)*10)/10, 'f', -1, 64) + " " + u.name
		}
	}
	return fmt.Sprintf("%d bytes", int64(s))
}

// Pattern is a regular expression of Go's syntax.
type Pattern struct{ *regexp.Regexp }

// UnmarshalText compiles the expression.
func (p *Pattern) UnmarshalText(text []byte) error {
	re, err := regexp.Compile(string(text))
	if err != nil {
		return fmt.Errorf("%q is not a regular expression: %w", text, err)
	}
	p.Regexp = re
	return nil
}

// Constraint limits a version: "15", ">=15.2, <17". Its zero value allows
// every version.
type Constraint struct {
	text string
	c    *semver.Constraints
}

// UnmarshalText reads a constraint.
func (c *Constraint) UnmarshalText(text []byte) error {
	parsed, err := semver.NewConstraint(string(text))
	if err != nil {
		return fmt.Errorf(`%q is not a version constraint; write "15", ">=15.2" or ">=15.2, <17"`, text)
	}
	if !satisfiable(string(text), parsed) {
		return fmt.Errorf(`no version can meet %q; write for example ">=15.2, <17"`, text)
	}
	c.text, c.c = string(text), parsed
	return nil
}

var numbers = lazyregexp.New(`\d+(?:\.\d+){0,2}`)

// satisfiable reports whether any version meets a constraint. The least version
// of each range that one can allow is nothing, a version that it names, or
// the one right after it, so these are tried.
func satisfiable(text string, c *semver.Constraints) bool {
	candidates := []*semver.Version{semver.New(0, 0, 0, "", "")}
	for _, named := range numbers.FindAllString(text, -1) {
		v, err := semver.NewVersion(named)
		if err != nil {
			continue
		}
		patch, minor, major := v.IncPatch(), v.IncMinor(), v.IncMajor()
		candidates = append(candidates, v, &patch, &minor, &major)
	}
	return slices.ContainsFunc(candidates, c.Check)
}

func (c Constraint) String() string { return c.text }

// Allows reports whether a version such as "15.8" or "7.0.15" meets the
// constraint. A version that can't be read meets only the empty constraint.
func (c Constraint) Allows(version string) bool {
	if c.c == nil {
		return true
	}
	v, err := semver.NewVersion(version)
	return err == nil && c.c.Check(v)
}

// Reference is a ${…} in a text.
type Reference struct {
	// Service and Fact are set for ${service.fact}.
	Service, Fact string
	// Env is set for ${env.NAME}; Default is used where the variable is not
	// set or empty, if HasDefault (${env.NAME:-default}).
	Env, Default string
	HasDefault   bool
	// Project is "name" or "dir" for ${project.name} and ${project.dir}.
	Project string
	// Copy is "number" or "name" for ${copy.number} and ${copy.name}.
	Copy string
	// Self is set for ${self.NAME}, a value of the service itself, in the
	// declaration of a kind.
	Self string
	// Offset is the place of the reference in the text, in bytes.
	Offset int
	// Source is the reference as written.
	Source string
}

// Part is a piece of a text: literal, or a reference.
type Part struct {
	Literal   string
	Reference *Reference
}

// ReferenceError is a ${…} that is not a reference.
type ReferenceError struct {
	Offset, Width   int
	Message, Remedy string
}

func (e *ReferenceError) Error() string { return e.Message }

var (
	environmentName = lazyregexp.New(`^[A-Za-z_][A-Za-z0-9_]*$`)
	serviceName     = lazyregexp.New(`^[a-z][a-z0-9_-]{0,39}$`)
)

// Parts splits a text at its references; $$ is a literal dollar, and a dollar
// before anything but a brace stands for itself. It reports every ${…} that
// is malformed and goes on behind it.
func Parts(text string) ([]Part, []*ReferenceError) {
	var parts []Part
	var errs []*ReferenceError
	var literal strings.Builder
	flush := func() {
		if literal.Len() > 0 {
			parts = append(parts, Part{Literal: literal.String()})
			literal.Reset()
		}
	}
	for i := 0; i < len(text); i++ {
		if text[i] != '$' || i+1 == len(text) {
			literal.WriteByte(text[i])
			continue
		}
		switch text[i+1] {
		case '$':
			literal.WriteByte('$')
			i++
		case '{':
			end := strings.IndexByte(text[i:], '}')
			if end < 0 {
				errs = append(errs, &ReferenceError{i, len(text) - i, "a reference begins with ${ and has no }", "close it with }, or write $${ for the characters themselves"})
				return parts, errs
			}
			ref, err := parseReference(text[i : i+end+1])
			if err != nil {
				err.Offset = i
				errs = append(errs, err)
			} else {
				ref.Offset = i
				flush()
				parts = append(parts, Part{Reference: ref})
			}
			i += end
		default:
			literal.WriteByte('$')
		}
	}
	flush()
	return parts, errs
}

func parseReference(source string) (*Reference, *ReferenceError) {
	inner := source[2 : len(source)-1]
	ref := &Reference{Source: source}
	owner, rest, dotted := strings.Cut(inner, ".")
	fail := func(message, remedy string) (*Reference, *ReferenceError) {
		return nil, &ReferenceError{Width: len(source), Message: message, Remedy: remedy}
	}
	switch {
	case !dotted && environmentName.MatchString(inner) && inner == strings.ToUpper(inner):
		return fail(fmt.Sprintf("%s names no service and no fact", source),
			fmt.Sprintf("for the variable of Neighbour's environment write ${env.%s}; for the shell's own write $$%s", inner, "{"+inner+"}"))
	case !dotted || owner == "" || rest == "":
		return fail(fmt.Sprintf("%s is not a reference", source), "write ${service.fact}, ${env.NAME}, ${project.name} or ${project.dir}; $$ is a dollar")
	case owner == "env":
		ref.Env, ref.Default, ref.HasDefault = strings.Cut(rest, ":-")
		if !environmentName.MatchString(ref.Env) {
			return fail(fmt.Sprintf("%q can't be a variable's name", ref.Env), "use letters, digits and _, not beginning with a digit")
		}
	case owner == "copy":
		if rest != "number" && rest != "name" {
			return fail(fmt.Sprintf("a copy has no fact %q", rest), "write ${copy.number} or ${copy.name}")
		}
		ref.Copy = rest
	case owner == "project":
		if rest != "name" && rest != "dir" {
			return fail(fmt.Sprintf("the project has no fact %q", rest), "write ${project.name} or ${project.dir}")
		}
		ref.Project = rest
	case owner == "self":
		ref.Self = rest
	default:
		ref.Service, ref.Fact = owner, rest
	}
	return ref, nil
}
