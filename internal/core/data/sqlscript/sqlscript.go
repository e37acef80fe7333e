// Package sqlscript splits files of SQL into statements, as the server's own
// client does before it sends them one by one: psql for PostgreSQL, the client
// mariadb for MariaDB and MySQL, sqlite3 for SQLite. Commands of those clients
// themselves are no SQL, and are refused by name.
package sqlscript

import (
	"fmt"
	"strings"

	"neighbour/internal/core/machine/lazyregexp"
)

// Dialect is whose SQL it is.
type Dialect int

// The dialects.
const (
	PostgreSQL Dialect = iota
	MariaDB            // and MySQL
	SQLite
)

// client is what the clients are called.
func (d Dialect) client() string { return [...]string{"psql", "the client mariadb", "sqlite3"}[d] }

// Statement is one statement, without the delimiter that ends it.
type Statement struct {
	Text string
	Line int // where it begins, counted from 1
	// Data are the rows that follow a COPY … FROM STDIN, as the file has them;
	// Copies says that there may be some.
	Data   string
	Copies bool
}

// words are the first words of the statement in capitals, n at most, without
// what is in comments.
func (s Statement) words(n int) []string {
	text := comments.ReplaceAllString(s.Text, " ")
	found := word.FindAllString(text, n)
	for i := range found {
		found[i] = strings.ToUpper(found[i])
	}
	return found
}

var (
	comments = lazyregexp.New(`(?s)/\*[^!M].*?\*/|--[^\n]*(?:\n|$)`)
	word     = lazyregexp.New(`[A-Za-z_]\w*`)
)

// First returns the statement's first word in capitals: "CREATE"; "" if it has
// none.
func (s Statement) First() string {
	if w := s.words(1); len(w) > 0 {
		return w[0]
	}
	return ""
}

// Control is what a statement does to the transaction that it is in.
type Control int

// The ways of controlling a transaction.
const (
	None Control = iota
	Begin
	End // by commit or rollback
)

// Control returns what the statement does to the transaction that it is in.
func (s Statement) Control() Control {
	w := s.words(3)
	if len(w) == 0 {
		return None
	}
	switch w[0] {
	case "BEGIN":
		return Begin
	case "START":
		if len(w) > 1 && w[1] == "TRANSACTION" {
			return Begin
		}
	case "COMMIT", "END", "ABORT":
		return End
	case "ROLLBACK":
		if len(w) < 2 || w[1] != "TO" && !(len(w) == 3 && (w[1] == "WORK" || w[1] == "TRANSACTION") && w[2] == "TO") {
			return End
		}
	}
	return None
}

// Error is what is wrong in a script, and on which line.
type Error struct {
	Line int
	What string
}

func (e *Error) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.What) }

// Split returns the statements of a script. It fails with an *Error if something
// is not closed, or where a command of the client stands.
func Split(d Dialect, script string) ([]Statement, error) {
	s := &splitter{dialect: d, text: strings.TrimPrefix(script, "\ufeff"), delimiter: ";"}
	err := s.split()
	return s.found, err
}

// splitter goes through a script. Lines are counted when they are needed.
type splitter struct {
	dialect   Dialect
	text      string
	at        int
	delimiter string
	found     []Statement

	begun   int // where the current statement begins; -1: it has not
	parens  int // how many parentheses are open
	blocks  int // how deep in BEGIN ATOMIC … END (PostgreSQL)
	words   []string
	counted int // up to where the lines are counted
	lines   int
}

// line returns the line of a place, which is not before the last one asked for.
func (s *splitter) line(at int) int {
	if at < s.counted {
		return 1 + strings.Count(s.text[:at], "\n")
	}
	s.lines += strings.Count(s.text[s.counted:at], "\n")
	s.counted = at
	return s.lines + 1
}

func (s *splitter) fail(at int, format string, args ...any) error {
	return &Error{s.line(at), fmt.Sprintf(format, args...)}
}

func (s *splitter) split() error {
	s.begun = -1
	for s.at < len(s.text) {
		c := s.text[s.at]
		rest := s.text[s.at:]
		switch {
		case c == ' ' || c == '\t' || c == '\n' || c == '\r' || c == '\f' || c == '\v':
			s.at++
		case strings.HasPrefix(rest, "/*"):
			if err := s.comment(); err != nil {
				return err
			}
		case s.lineComment(rest):
			s.toLineEnd()
		case s.dialect == MariaDB && s.command(rest, "delimiter"):
			line, _, _ := strings.Cut(rest, "\n")
			f := strings.Fields(line)
			if len(f) < 2 {
				return s.fail(s.at, "DELIMITER without a delimiter")
			}
			s.delimiter = f[1]
			s.at += len(line)
		case s.begun < 0 && s.ownCommand(rest) != "":
			return s.fail(s.at, "%s is a command of %s and no SQL; take it out", s.ownCommand(rest), s.dialect.client())
		case s.begun < 0 && s.dialect == PostgreSQL && restriction.MatchString(rest):
			s.toLineEnd() // pg_dump writes it, and it changes nothing here
		case s.dialect == MariaDB && (strings.HasPrefix(rest, `\g`) || strings.HasPrefix(rest, `\G`)):
			s.end(2)
		case strings.HasPrefix(rest, s.delimiter) && s.ends():
			if err := s.finish(); err != nil {
				return err
			}
		case c == '\'' || c == '"' || c == '`' && s.dialect != PostgreSQL || c == '[' && s.dialect == SQLite:
			if err := s.quoted(c); err != nil {
				return err
			}
		case c == '$' && s.dialect == PostgreSQL && dollar.MatchString(rest) && !s.afterWord():
			if err := s.dollarQuoted(dollar.FindString(rest)); err != nil {
				return err
			}
		case c == '\\' && s.dialect == PostgreSQL:
			return s.fail(s.at, "%s is a command of psql and no SQL; take it out", strings.Fields(rest + " ")[0])
		case isWord(c):
			s.word()
		default:
			s.begin()
			switch c {
			case '(':
				s.parens++
			case ')':
				s.parens = max(0, s.parens-1)
			}
			s.at++
		}
	}
	s.end(0)
	return nil
}

var (
	dollar      = lazyregexp.New(`^\$(?:[A-Za-z_\x80-\xff][\w\x80-\xff]*)?\$`)
	restriction = lazyregexp.New(`^\\(?:un)?restrict\b`)
	copies      = lazyregexp.New(`(?is)^copy\b.*\bfrom\s+stdin\b`)
	dotCommand  = lazyregexp.New(`^\.[a-z]+`)
	sources     = lazyregexp.New(`(?i)^(?:source\s|\\[.!u]\s*\S|system\s)`)
)

// ownCommand returns the command of the client's own that stands here, "" if
// there is none.
func (s *splitter) ownCommand(rest string) string {
	switch {
	case s.dialect == SQLite && s.at == s.lineStart():
		return dotCommand.FindString(rest)
	case s.dialect == MariaDB && sources.MatchString(rest):
		return strings.Fields(rest)[0]
	}
	return ""
}

// command reports whether a command of the client's stands at the start of a
// line here.
func (s *splitter) command(rest, name string) bool {
	return len(rest) > len(name) && strings.EqualFold(rest[:len(name)], name) && (rest[len(name)] == ' ' || rest[len(name)] == '\t') &&
		strings.TrimSpace(s.text[s.lineStart():s.at]) == ""
}

func (s *splitter) lineStart() int { return strings.LastIndexByte(s.text[:s.at], '\n') + 1 }

func (s *splitter) lineComment(rest string) bool {
	if s.dialect == MariaDB {
		// "--" needs a blank after it there, and "#" begins one, too.
		return rest[0] == '#' || strings.HasPrefix(rest, "--") && (len(rest) == 2 || rest[2] <= ' ')
	}
	return strings.HasPrefix(rest, "--")
}

func (s *splitter) toLineEnd() {
	if i := strings.IndexByte(s.text[s.at:], '\n'); i >= 0 {
		s.at += i
	} else {
		s.at = len(s.text)
	}
}

// comment skips one of the form /* */. PostgreSQL's may hold others; MariaDB
// carries out what is in one that begins with /*! or /*M!.
func (s *splitter) comment() error {
	from, depth := s.at, 0
	rest := s.text[s.at:]
	if s.dialect == MariaDB && (strings.HasPrefix(rest, "/*!") || strings.HasPrefix(rest, "/*M!")) {
		s.begin()
	}
	for s.at < len(s.text) {
		switch rest := s.text[s.at:]; {
		case strings.HasPrefix(rest, "/*") && (depth == 0 || s.dialect == PostgreSQL):
			depth++
			s.at += 2
		case strings.HasPrefix(rest, "*/"):
			depth--
			s.at += 2
			if depth == 0 {
				return nil
			}
		default:
			s.at++
		}
	}
	return s.fail(from, "the comment that begins here is not closed")
}

// quoted skips what stands in quotes. A doubled quote is one of the text; after a
// backslash any character is, in MariaDB's texts and in PostgreSQL's E'…'.
func (s *splitter) quoted(quote byte) error {
	escapes := s.dialect == MariaDB && quote != '`' ||
		s.dialect == PostgreSQL && quote == '\'' && s.at > 0 && (s.text[s.at-1] == 'e' || s.text[s.at-1] == 'E') && (s.at < 2 || !isWord(s.text[s.at-2]))
	s.begin()
	from, closing := s.at, quote
	if quote == '[' {
		closing = ']'
	}
	for s.at++; s.at < len(s.text); s.at++ {
		switch c := s.text[s.at]; {
		case c == '\\' && escapes:
			s.at++
		case c == closing:
			s.at++
			if quote != '[' && s.at < len(s.text) && s.text[s.at] == closing {
				continue
			}
			return nil
		}
	}
	s.at = len(s.text)
	return s.fail(from, "the text in quotes that begins here is not closed")
}

func (s *splitter) dollarQuoted(tag string) error {
	s.begin()
	from := s.at
	end := strings.Index(s.text[s.at+len(tag):], tag)
	if end < 0 {
		return s.fail(from, "the text that begins with %s here is not closed", tag)
	}
	s.at += len(tag) + end + len(tag)
	return nil
}

func (s *splitter) afterWord() bool { return s.at > 0 && isWord(s.text[s.at-1]) }

func isWord(c byte) bool {
	return c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c >= 0x80
}

// word takes a word, some of which tell where a statement ends that holds
// others.
func (s *splitter) word() {
	s.begin()
	from := s.at
	for s.at < len(s.text) && isWord(s.text[s.at]) {
		s.at++
	}
	w := strings.ToUpper(s.text[from:s.at])
	if len(s.words) < 6 {
		s.words = append(s.words, w)
	}
	if s.dialect != PostgreSQL || !s.makesRoutine() {
		return
	}
	switch { // as psql counts them
	case w == "BEGIN", w == "CASE" && s.blocks > 0:
		s.blocks++
	case w == "END" && s.blocks > 0:
		s.blocks--
	}
}

// makesRoutine reports whether the statement creates a function or procedure.
func (s *splitter) makesRoutine() bool {
	w := s.words
	if len(w) > 3 && w[0] == "CREATE" && w[1] == "OR" && w[2] == "REPLACE" {
		w = w[2:]
	}
	return len(w) > 1 && (w[0] == "CREATE" || w[0] == "REPLACE") && (w[1] == "FUNCTION" || w[1] == "PROCEDURE")
}

// makesTrigger reports whether the statement creates a trigger, whose own
// statements end with ";" each (sqlite3_complete).
func (s *splitter) makesTrigger() bool {
	w := s.words
	if len(w) > 0 && w[0] == "EXPLAIN" {
		w = w[1:]
	}
	if len(w) > 1 && (w[1] == "TEMP" || w[1] == "TEMPORARY") {
		w = append([]string{w[0]}, w[2:]...)
	}
	return len(w) > 1 && w[0] == "CREATE" && w[1] == "TRIGGER"
}

var triggerEnd = lazyregexp.New(`(?is);(?:\s|--[^\n]*\n|/\*.*?\*/)*end\s*$`)

// ends reports whether a delimiter here ends the statement.
func (s *splitter) ends() bool {
	switch s.dialect {
	case PostgreSQL:
		return s.parens == 0 && s.blocks == 0
	case SQLite:
		return s.begun < 0 || !s.makesTrigger() || triggerEnd.MatchString(s.text[s.begun:s.at])
	}
	return true
}

func (s *splitter) begin() {
	if s.begun < 0 {
		s.begun = s.at
	}
}

// end takes the statement that ends here, if there is one, and skips n bytes.
func (s *splitter) end(n int) {
	if s.begun >= 0 {
		text := strings.TrimSpace(s.text[s.begun:s.at])
		s.found = append(s.found, Statement{Text: text, Line: s.line(s.begun)})
	}
	s.at += n
	s.begun, s.parens, s.blocks, s.words = -1, 0, 0, nil
}

// finish is end at a delimiter, with the rows that may follow.
func (s *splitter) finish() error {
	was := len(s.found)
	s.end(len(s.delimiter))
	if s.dialect != PostgreSQL || len(s.found) == was {
		return nil
	}
	last := &s.found[len(s.found)-1]
	if last.Copies = copies.MatchString(last.Text); !last.Copies {
		return nil
	}
	from := s.at
	s.toLineEnd()
	if strings.TrimSpace(s.text[from:s.at]) != "" || s.at == len(s.text) {
		return s.fail(from, "after COPY … FROM STDIN; the rows begin on the next line")
	}
	s.at++
	begun := s.at
	for s.at < len(s.text) {
		line := s.at
		s.toLineEnd()
		if strings.TrimRight(s.text[line:s.at], "\r") == `\.` {
			last.Data = s.text[begun:line]
			return nil
		}
		s.at = min(s.at+1, len(s.text))
	}
	return s.fail(begun, `the rows that begin here don't end with a line \.`)
}
