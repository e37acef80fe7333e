package cli

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/cli/command"
	"neighbour/internal/core/declaration/declare"
	_ "neighbour/internal/kinds/catalogue"
)

// An errand's name in the place of a command runs it, and nothing else is touched.
func TestErrandsAsCommands(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "neighbour.toml"), []byte("[service.api]\nrun = \"x\"\n[errand.overdue]\nrun = \"x\"\n"), 0o644))
	a := &command.App{}
	root := newRoot(a)
	for _, c := range []struct{ args, want []string }{
		{[]string{"-C", dir, "overdue", "--dry-run"}, []string{"-C", dir, "run", "overdue", "--dry-run"}},
		{[]string{"-C" + dir, "overdue"}, []string{"-C" + dir, "run", "overdue"}},
		{[]string{"--dir=" + dir, "overdue", "status"}, []string{"--dir=" + dir, "run", "overdue", "status"}},
		{[]string{"--dir", dir, "status", "overdue"}, nil},
		{[]string{"-C", dir, "overdu"}, nil},
		{[]string{"-C", dir, "--help", "overdue"}, nil},
		{[]string{"-C", filepath.Join(dir, "none"), "overdue"}, nil},
		{[]string{"-C"}, nil},
		{nil, nil},
	} {
		want := c.want
		if want == nil {
			want = c.args
		}
		assert.Equal(t, want, spelledOut(a, root, c.args), c.args)
	}
}

// The declaration knows the names that errands must leave alone, and no other.
func TestCommandNamesAreKept(t *testing.T) {
	root := newRoot(&command.App{})
	root.InitDefaultHelpCmd()
	root.InitDefaultCompletionCmd()
	names := []string{"__complete", "__completeNoDesc"}
	for _, c := range root.Commands() {
		names = append(names, c.Name())
	}
	assert.ElementsMatch(t, declare.CommandNames, names)
}

// typed is a command of ours in a text: what follows the program's name, up to what is no word or flag.
var typed = regexp.MustCompile(`neighbour((?: (?:-C|--copy) [^\s;]+)?(?: (?:--)?[a-z][a-z-]*)+)`)

// Whatever tells users to type a command names one that there is, with flags that it has.
func TestNamedCommandsExist(t *testing.T) {
	root := newRoot(&command.App{})
	root.InitDefaultHelpCmd()
	root.InitDefaultCompletionCmd()
	prose := []string{"has", "is", "and", "or", "ends", "for", "on", "in", "to", "of", "declares", "starts", "made", "does", "by", "the", "with", "itself", "alone"} // behind the name in a sentence
	n, wrong := 0, []string(nil)
	require.NoError(t, filepath.WalkDir("..", func(path string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if e.IsDir() && slices.Contains([]string{"node_modules", "testdata"}, e.Name()) {
			return filepath.SkipDir
		}
		if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		ast.Inspect(f, func(node ast.Node) bool {
			l, ok := node.(*ast.BasicLit)
			if !ok || l.Kind != token.STRING {
				return true
			}
			for _, m := range typed.FindAllStringSubmatch(l.Value, -1) {
				words := strings.Fields(m[1])
				for len(words) > 0 && strings.HasPrefix(words[0], "-") { // what comes before a command
					words = words[min(2, len(words)):]
				}
				if len(words) == 0 || slices.Contains(prose, words[0]) || words[0] == "starts" && len(words) > 1 && words[1] != "compare" {
					continue
				}
				c, _, err := root.Find(words[:1])
				if err != nil || c == root {
					wrong = append(wrong, fmt.Sprintf("%s: there is no command %s: %s", path, words[0], l.Value))
					continue
				}
				n++
				if deeper, _, err := root.Find(words); err == nil {
					c = deeper
				}
				for _, w := range words {
					flag, is := strings.CutPrefix(w, "--")
					if is && flag != "" && c.Flags().Lookup(flag) == nil && root.PersistentFlags().Lookup(flag) == nil && !(c.Name() == "run" && words[1] != w) {
						wrong = append(wrong, fmt.Sprintf("%s: %s has no --%s: %s", path, c.CommandPath(), flag, l.Value))
					}
				}
			}
			return true
		})
		return nil
	}))
	assert.Empty(t, strings.Join(wrong, "\n"))
	assert.Greater(t, n, 60, "they are found")
}
