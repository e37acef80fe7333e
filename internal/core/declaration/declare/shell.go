package declare

import (
	"slices"
	"strings"

	"neighbour/internal/core/machine/lazyregexp"
)

// Shell is the program that runs command lines which are more than a plain command.
const Shell = "/bin/sh"

// builtIn are commands of every shell (POSIX.1-2024, XCU 2.15 and 1.7), and those that most have,
// too. They need no program.
var builtIn = append([]string{"[", "alias", "bg", "echo", "false", "fg", "getopts", "hash", "jobs", "kill", "local", "printf", "pwd", "return", "test", "times", "true", "type"}, shellWords...)

var assignment = lazyregexp.New(`^[A-Za-z_][A-Za-z0-9_]*=`)

// ShellPrograms returns the programs without which a line for sh is sure to fail: those of its
// last list of commands joined by &&. It returns none where that depends on more than the line
// itself says, as with alternatives, loops, and programs of another folder.
func ShellPrograms(line string) []string {
	if strings.Contains(line, "||") || strings.ContainsAny(line, "`(){}\n\\") && !onlyReferences(line) {
		return nil
	}
	lists := splitUnquoted(line, ";")
	if len(lists) > 1 && begins(lists[0], "if", "for", "while", "until", "case") {
		return nil
	}
	for i := len(lists) - 1; i > 0 && strings.TrimSpace(lists[i]) == ""; i-- {
		lists = lists[:i]
	}
	for _, l := range lists[:len(lists)-1] {
		if begins(l, "cd", "export", "PATH", ".", "source") {
			return nil
		}
	}
	var names []string
	for _, part := range splitUnquoted(lists[len(lists)-1], "&&") {
		pipe := splitUnquoted(part, "|")
		words, ok := PlainWords(strings.TrimSpace(withoutRedirections(pipe[len(pipe)-1])))
		if first := strings.Fields(pipe[len(pipe)-1]); !ok && len(first) > 0 && (first[0] == "exec" || assignment.MatchString(first[0])) {
			words, ok = first, !strings.ContainsAny(pipe[len(pipe)-1], `"'$&`)
		}
		if !ok && begins(part, "echo", "true", ":") {
			continue
		}
		if !ok {
			return names
		}
		for len(words) > 0 && (words[0] == "exec" || assignment.MatchString(words[0])) {
			if strings.HasPrefix(words[0], "PATH=") {
				return names
			}
			words = words[1:]
		}
		switch {
		case len(words) == 0:
		case slices.Contains([]string{"cd", "test", "[", "command", "type", "if", "for", "while", "until", "case", "{", "!", ".", "source", "export"}, words[0]) || strings.Contains(words[0], "$"):
			return names // what follows depends on it
		case !slices.Contains(builtIn, words[0]):
			names = append(names, words[0])
		}
	}
	return names
}

// begins reports whether the first word of a command is one of these.
func begins(command string, words ...string) bool {
	first, _, _ := strings.Cut(strings.TrimSpace(command), " ")
	name, _, _ := strings.Cut(first, "=")
	return slices.Contains(words, first) || slices.Contains(words, name)
}

// onlyReferences reports whether the brackets of a line are those of references alone.
func onlyReferences(line string) bool {
	return !strings.ContainsAny(reference.ReplaceAllString(line, ""), "`(){}\n\\")
}

var reference = lazyregexp.New(`\$\{[^}]*\}`)

var redirection = lazyregexp.New(`\d?(?:>>?|<)\s*(?:&\d|[^\s|&;]+)`)

func withoutRedirections(command string) string { return redirection.ReplaceAllString(command, "") }

// splitUnquoted splits a text at each separator that is in no quotes.
func splitUnquoted(text, separator string) []string {
	var out []string
	var quote byte
	from := 0
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '\'' || c == '"':
			quote = c
		case strings.HasPrefix(text[i:], separator):
			out = append(out, text[from:i])
			i += len(separator) - 1
			from = i + 1
		}
	}
	return append(out, text[from:])
}
