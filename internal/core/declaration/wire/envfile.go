package wire

import (
	"fmt"
	"strings"
)

// EnvEntry is a variable of an env file, with its line, counted from 1.
type EnvEntry struct {
	Name, Value string
	Line        int
}

// EnvProblem is a line of an env file that is no variable.
type EnvProblem struct {
	Line    int
	Message string
}

// ParseEnvFile reads an env file as most readers of such files do: NAME=value
// on a line each, perhaps with "export" before it; values in single quotes
// are taken as they are, those in double quotes may go over several lines and
// have \n, \", \\ and \$; behind a blank, # begins a comment. A line that is
// none of this is a problem, and the rest is read all the same.
func ParseEnvFile(text string) (entries []EnvEntry, problems []EnvProblem) {
	lines := strings.Split(strings.TrimPrefix(text, "\ufeff"), "\n")
	for i := 0; i < len(lines); i++ {
		at := i + 1
		line := strings.TrimSpace(lines[i])
		if line == "" || line[0] == '#' {
			continue
		}
		name, value, ok := strings.Cut(strings.TrimPrefix(line, "export "), "=")
		if name = strings.TrimSpace(name); !ok || name == "" || strings.ContainsAny(name, " \t\"'") {
			problems = append(problems, EnvProblem{at, fmt.Sprintf("%.40q is not of the form NAME=value", line)})
			continue
		}
		value = strings.TrimSpace(value)
		if value == "" || !strings.ContainsAny(value[:1], `"'`+"`") {
			if c := strings.Index(value, " #"); c >= 0 {
				value = strings.TrimSpace(value[:c])
			} else if strings.HasPrefix(value, "#") {
				value = ""
			}
			entries = append(entries, EnvEntry{name, value, at})
			continue
		}
		quote := value[0]
		_, rest, _ := strings.Cut(lines[i], "=")
		rest = strings.TrimRight(rest[strings.IndexByte(rest, quote)+1:], "\r") // blanks in it count
		end := closing(rest, quote)
		for end < 0 && i+1 < len(lines) {
			i++
			rest += "\n" + strings.TrimRight(lines[i], "\r")
			end = closing(rest, quote)
		}
		if end < 0 {
			problems = append(problems, EnvProblem{at, fmt.Sprintf("the value of %s begins with %c, which isn't closed", name, quote)})
			i = at - 1 // what follows may be variables
			continue
		}
		value = rest[:end]
		if quote == '"' {
			value = strings.NewReplacer(`\n`, "\n", `\r`, "\r", `\"`, `"`, `\\`, `\`, `\$`, "$").Replace(value)
		}
		entries = append(entries, EnvEntry{name, value, at})
	}
	return entries, problems
}

// closing finds the quote that ends a value; only in double quotes can it be
// escaped.
func closing(s string, quote byte) int {
	for i := 0; i < len(s); i++ {
		switch {
		case s[i] == '\\' && quote == '"':
			i++
		case s[i] == quote:
			return i
		}
	}
	return -1
}
