package cli

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/cli/command"
)

// mentioned finds the commands that a text tells its readers of, with what may be their words.
var mentioned = regexp.MustCompile(`\bneighbour((?: +(?:[a-z][a-z-]*|--?[A-Za-z][a-z-]*|[A-Z][A-Z_]*(?:\.\.\.)?|%[sqdv]))+)`)

// What messages, help and the documents say is to be typed is a command, with options that it
// has, and without a name only if it needs none.
func TestAdvice(t *testing.T) {
	root := newRoot(&command.App{})
	root.InitDefaultCompletionCmd("bash")
	checked := 0
	check := func(path, text string) {
		for _, at := range mentioned.FindAllStringSubmatchIndex(text, -1) {
			words := strings.Fields(text[at[2]:at[3]])
			for len(words) >= 2 && (words[0] == "-C" || words[0] == "--copy") {
				words = words[2:]
			}
			if len(words) == 0 || slices.Contains([]string{"was", "has", "overdue", "for", "main"}, words[0]) || strings.ContainsAny(words[0][:1], "-%ABCDEFGHIJKLMNOPQRSTUVWXYZ") {
				continue // it is the program, or something stands for the command
			}
			checked++
			cmd, rest, err := root.Find(words)
			if !assert.NoError(t, err, "%s: neighbour %s", path, strings.Join(words, " ")) || cmd == root {
				assert.Fail(t, "no command", "%s: neighbour %s", path, strings.Join(words, " "))
				continue
			}
			if slices.Contains(rest, "--") {
				rest = rest[:slices.Index(rest, "--")]
			}
			for _, w := range rest {
				if strings.HasPrefix(w, "-") && cmd.Name() != "run" && // whose words are an errand's, too
					w != "-" && w != "--help" && w != "-h" {
					assert.True(t, hasOption(cmd, w), "%s: neighbour %s: %s", path, strings.Join(words, " "), w)
				}
			}
			ends := strings.Trim(text[at[1]:], ".)\n") == ""
			if ends && len(rest) == 0 && !cmd.HasSubCommands() && cmd.Args != nil {
				assert.NoError(t, cmd.Args(cmd, nil), "%s: neighbour %s", path, strings.Join(words, " "))
			}
		}
	}
	require.NoError(t, filepath.WalkDir("../..", func(path string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case d.IsDir() && slices.Contains([]string{".git", "testdata", "node_modules", ".neighbour"}, d.Name()):
			return filepath.SkipDir
		case strings.HasSuffix(path, ".md"):
			b, err := os.ReadFile(path)
			check(path, string(b))
			return err
		case !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go"):
			return nil
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if l, ok := n.(*ast.BasicLit); ok && l.Kind == token.STRING {
				if text, err := strconv.Unquote(l.Value); err == nil {
					check(path, text)
				}
			}
			return true
		})
		return nil
	}))
	assert.Greater(t, checked, 250)
}

func hasOption(cmd *cobra.Command, word string) bool {
	for _, flags := range []*pflag.FlagSet{cmd.Flags(), cmd.InheritedFlags()} {
		name, long := strings.CutPrefix(word, "--")
		if long && flags.Lookup(name) != nil || !long && len(word) == 2 && flags.ShorthandLookup(word[1:]) != nil {
			return true
		}
	}
	return false
}
