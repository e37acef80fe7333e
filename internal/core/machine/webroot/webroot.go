// Package webroot says what the web servers never serve from a project,
// whatever folder they are given: its secrets.
package webroot

import (
	"path"
	"strings"
)

// PCRE is Hidden as a regular expression for servers that read those of Perl:
// it matches decoded paths.
const PCRE = `(^|/)(\.(?!well-known(/|$))|(?i:neighbour[^/]*\.toml)(/|$))`

// Hidden reports whether a path, slash-separated and decoded, is never served:
// dot files and what is in dot folders, such as .git, .env and Neighbour's own,
// other than .well-known (RFC 8615), and declarations.
func Hidden(name string) bool {
	for part := range strings.SplitSeq(path.Clean("/"+name), "/") {
		lower := strings.ToLower(part)
		if strings.HasPrefix(part, ".") && part != ".well-known" ||
			strings.HasPrefix(lower, "neighbour") && strings.HasSuffix(lower, ".toml") {
			return true
		}
	}
	return false
}
