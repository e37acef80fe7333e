package declare

import (
	"path/filepath"
	"strings"

	"neighbour/internal/core/machine/lazyregexp"
)

// SourceLine is a line of the declaration.
type SourceLine struct {
	Number int    `json:"number"` // from 1
	Text   string `json:"text"`
	Marked bool   `json:"marked,omitempty"` // the one that is meant
}

// Excerpt returns the lines around one of a file of the declaration, named as
// in a Place, with what looks like a password left out; nil if the file is none
// of the declaration's.
func (f Files) Excerpt(file string, line, around int) []SourceLine {
	var src []byte
	switch file {
	case filepath.Base(f.Path):
		src = f.Main
	case LocalFileName:
		src = f.Local
	}
	lines := strings.Split(strings.TrimSuffix(string(src), "\n"), "\n")
	if src == nil || line < 1 || line > len(lines) {
		return nil
	}
	var out []SourceLine
	for n := max(1, line-around); n <= min(len(lines), line+around); n++ {
		out = append(out, SourceLine{n, withoutSecrets(strings.TrimRight(lines[n-1], "\r")), n == line})
	}
	return out
}

var (
	secretKey    = lazyregexp.New(`(?i)((?:^|[^a-z])["']?[\w.-]*(?:pass|pwd|secret|token|credential|(?:api|access|private)_?key|private)[\w.-]*["']?\s*=\s*)("(?:\\.|[^"\\])*"|'[^']*')`)
	addressLogin = lazyregexp.New(`(\w+://[^\s:/@"']*:)[^\s/@"']+@`)
)

// withoutSecrets masks the values of keys that sound like passwords, and the
// passwords of addresses. References to facts stay, since they hold none.
func withoutSecrets(line string) string {
	line = secretKey.ReplaceAllStringFunc(line, func(found string) string {
		m := secretKey.FindStringSubmatch(found)
		if strings.Contains(m[2], "${") {
			return found
		}
		return m[1] + `"••••••••"`
	})
	return addressLogin.ReplaceAllString(line, "${1}••••••••@")
}
