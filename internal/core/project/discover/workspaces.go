package discover

import (
	"encoding/json"
	"path/filepath"
	"slices"

	"github.com/bmatcuk/doublestar/v4"
	"go.yaml.in/yaml/v4"

	"neighbour/internal/core/machine/lazyregexp"
)

// workspaces are patterns of folders, in either of the forms that package.json has for them: a
// list, or a table with one.
type workspaces []string

func (w *workspaces) UnmarshalJSON(b []byte) error {
	var list []string
	if json.Unmarshal(b, &list) == nil {
		*w = list
		return nil
	}
	var table struct{ Packages []string }
	_ = json.Unmarshal(b, &table) // another form means nothing to us
	*w = table.Packages
	return nil
}

// pnpmWorkspaces returns the patterns of a file that pnpm has for them.
func (r *reader) pnpmWorkspaces() []string {
	var file struct{ Packages []string }
	_ = yaml.Unmarshal([]byte(r.read("pnpm-workspace.yaml")), &file)
	return file.Packages
}

// isMember reports whether the package in a folder is installed with the project's.
func (r *reader) isMember(folder string) bool {
	return slices.ContainsFunc(r.members, func(pattern string) bool {
		is, err := doublestar.Match(filepath.ToSlash(filepath.Clean(pattern)), filepath.ToSlash(folder))
		return err == nil && is
	})
}

// startsMembers finds the scripts that run those of all packages.
var startsMembers = lazyregexp.New(`\b(?:turbo|nx|lerna|concurrently|npm-run-all|run-p|wsrun|workspaces?|foreach)\b|\s-ws\b|\bpnpm (?:run )?(?:-r|--recursive|--filter|--parallel)\b`)
