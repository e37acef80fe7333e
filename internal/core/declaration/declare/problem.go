package declare

import (
	"fmt"
	"slices"
	"strings"
)

// Position is a place in a file; both numbers count from 1, the column in
// characters.
type Position struct {
	// File is the file's name, or its path if it is not in the project's folder.
	File         string
	Line, Column int
}

// String returns the place as editors and compilers write it.
func (p Position) String() string { return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column) }

// Problem is one thing that is wrong in a declaration.
type Problem struct {
	Position Position // its line is 0 when the problem is with the file as a whole
	Key      string   // the full key, "service.api.port"; may be empty
	Source   string   // the line itself
	Width    int      // how many characters of the line are meant, at least 1
	Message  string   // what is wrong
	Remedy   string   // what to write or do instead; may be empty
}

// Error returns the problem as several lines of plain text: the place, what is
// wrong, the line with its mark, and the remedy.
func (p Problem) Error() string {
	var b strings.Builder
	if p.Position.Line > 0 {
		b.WriteString(p.Position.String() + ": ")
	} else {
		b.WriteString(p.Position.File + ": ")
	}
	if p.Key != "" {
		fmt.Fprintf(&b, "%s: ", p.Key)
	}
	b.WriteString(p.Message)
	if p.Position.Line > 0 {
		number := fmt.Sprint(p.Position.Line)
		margin := strings.Repeat(" ", len(number))
		line := strings.ReplaceAll(p.Source, "\t", " ")
		fmt.Fprintf(&b, "\n    %s | %s", number, line)
		fmt.Fprintf(&b, "\n    %s | %s%s", margin, strings.Repeat(" ", max(0, p.Position.Column-1)), strings.Repeat("^", max(1, p.Width)))
	}
	if p.Remedy != "" {
		fmt.Fprintf(&b, "\n    %s", p.Remedy)
	}
	return b.String()
}

// Problems is everything that is wrong in a declaration, in the order of the
// file. It is the error that Parse and Load return for a bad declaration.
type Problems []Problem

func (ps Problems) Error() string {
	lines := make([]string, len(ps))
	for i, p := range ps {
		lines[i] = p.Error()
	}
	return strings.Join(lines, "\n")
}

func (ps Problems) sort() {
	slices.SortStableFunc(ps, func(a, b Problem) int {
		if a.Position.File != b.Position.File {
			return strings.Compare(rank(a.Position.File), rank(b.Position.File))
		}
		if a.Position.Line != b.Position.Line {
			return a.Position.Line - b.Position.Line
		}
		return a.Position.Column - b.Position.Column
	})
}

// rank puts the declaration itself before the files that belong to it.
func rank(file string) string {
	if file == FileName {
		return ""
	}
	return file
}

// Nearest returns the candidate that a misspelt word most probably means, or
// "" if none is close.
func Nearest(word string, candidates []string) string {
	best, bestDistance := "", len([]rune(word))/3+2
	for _, c := range candidates {
		d := distance(strings.ToLower(word), strings.ToLower(c))
		if d < bestDistance && d < len([]rune(c)) {
			best, bestDistance = c, d
		}
	}
	return best
}

// distance counts the insertions, deletions, replacements and swaps of
// neighbouring letters that turn a into b.
func distance(a, b string) int {
	x, y := []rune(a), []rune(b)
	rows := make([][]int, len(x)+1)
	for i := range rows {
		rows[i] = make([]int, len(y)+1)
		rows[i][0] = i
	}
	for j := range rows[0] {
		rows[0][j] = j
	}
	for i := 1; i <= len(x); i++ {
		for j := 1; j <= len(y); j++ {
			cost := 1
			if x[i-1] == y[j-1] {
				cost = 0
			}
			rows[i][j] = min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+cost)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] {
				rows[i][j] = min(rows[i][j], rows[i-2][j-2]+1)
			}
		}
	}
	return rows[len(x)][len(y)]
}
