package journal

import (
	"bytes"
	"encoding/json"
	"strconv"
	"strings"
	"time"
)

// said is what a line says of itself.
type said struct {
	level   Level
	at      time.Time // zero if it doesn't say, or not the day
	message string    // the line without its time, its level and its fields
	fields  string    // values with their names
}

// recognise reads a line in one of the shapes in common use: JSON, key=value,
// syslog, and a time or a level before the text, as most servers write it.
func recognise(line string) said {
	b := []byte(line)
	if bytes.IndexByte(b, '\x1b') >= 0 {
		b = withoutColours(b)
	}
	b = bytes.TrimSpace(b)
	if len(b) == 0 {
		return said{message: line}
	}
	if b[0] == '{' && b[len(b)-1] == '}' {
		if s, ok := readObject(b); ok {
			return s
		}
	}
	if s, ok := readPairs(b); ok {
		return s
	}
	h := readHead(b)
	if h.level == None && h.at.IsZero() && h.rest == 0 {
		return said{level: levelOfPlain(b), message: line}
	}
	s := said{level: h.level, at: h.at, message: strings.TrimSpace(string(b[h.rest:]))}
	if l := levelOfPlain([]byte(s.message)); s.level == None || l != None && fromPage(s.message) {
		s.level = l
	}
	return s
}

// fromPage reports whether PHP's server passes on what a page has said, whose
// level counts and not the server's own.
func fromPage(message string) bool { return strings.HasPrefix(message, "PHP message: ") }

// levelOf returns the level of a line, for a filter: recognise without the rest.
func levelOf(b []byte) Level {
	if bytes.IndexByte(b[:min(len(b), 200)], '\x1b') >= 0 {
		b = withoutColours(b)
	}
	b = bytes.TrimSpace(b)
	if len(b) == 0 {
		return None
	}
	if b[0] == '{' && b[len(b)-1] == '}' {
		s, _ := readObject(b)
		return s.level
	}
	if s, ok := readPairs(b); ok {
		return s.level
	}
	h := readHead(b)
	rest := bytes.TrimSpace(b[h.rest:])
	if h.level != None {
		if l := levelOfPlain(rest); l != None && fromPage(string(rest[:min(len(rest), 16)])) {
			return l
		}
		return h.level
	}
	return levelOfPlain(rest)
}

// Plain returns a line of output without colours.
func Plain(line string) string { return string(withoutColours([]byte(line))) }

// withoutColours takes out control sequences that end in a letter (ECMA-48,
// section 5.4), which is what programs write for colours.
func withoutColours(b []byte) []byte {
	out := make([]byte, 0, len(b))
	for i := 0; i < len(b); i++ {
		if b[i] != '\x1b' {
			out = append(out, b[i])
			continue
		}
		if i+1 < len(b) && b[i+1] == '[' {
			for i += 2; i < len(b) && (b[i] < 0x40 || b[i] > 0x7e); i++ {
			}
		}
	}
	return out
}

// The names that keys for the level, the time and the message have.
func keyMeans(key string) byte {
	switch strings.ToLower(key) {
	case "level", "lvl", "severity", "levelname", "loglevel", "log.level":
		return 'l'
	case "time", "ts", "timestamp", "@timestamp", "datetime", "t":
		return 't'
	case "msg", "message":
		return 'm'
	}
	return 0
}

// readObject reads a line of JSON.
func readObject(b []byte) (s said, ok bool) {
	d := json.NewDecoder(bytes.NewReader(b))
	d.UseNumber()
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return s, false
	}
	for d.More() {
		t, err := d.Token()
		key, isKey := t.(string)
		if err != nil || !isKey {
			return s, false
		}
		var raw json.RawMessage
		if d.Decode(&raw) != nil {
			return s, false
		}
		value := string(raw)
		if raw[0] == '"' {
			_ = json.Unmarshal(raw, &value)
		}
		s.take(key, value)
	}
	if _, err := d.Token(); err != nil {
		return s, false
	}
	return s, true
}

// take takes a value with its name, and says whether it tells the level or
// the message.
func (s *said) take(key, value string) (tells bool) {
	switch keyMeans(key) {
	case 'l':
		if n, err := strconv.Atoi(value); err == nil {
			s.level = levelNumber(n)
			return true
		}
		if l, known := levelWord([]byte(value)); known {
			s.level = l
			return true
		}
	case 't':
		if at, known := readStamp(value); known {
			s.at = at
			return false
		}
	case 'm':
		if s.message == "" {
			s.message = value
			return true
		}
	}
	s.field(pair(key, value))
	return false
}

// field adds a value with its name, or words beside those.
func (s *said) field(text string) {
	if s.fields != "" {
		s.fields += " "
	}
	s.fields += text
}

func pair(key, value string) string {
	if strings.ContainsAny(value, " \"=\n") && !strings.HasPrefix(value, "{") && !strings.HasPrefix(value, "[") {
		value = strconv.Quote(value)
	}
	return key + "=" + value
}

// readPairs reads a line of key=value pairs that has a level or a message.
func readPairs(b []byte) (s said, ok bool) {
	eq := bytes.IndexByte(b, '=')
	if eq <= 0 || eq > 16 || bytes.IndexByte(b[:eq], ' ') >= 0 {
		return s, false
	}
	text := string(b)
	for text != "" {
		key, after, found := strings.Cut(text, "=")
		if !found || key == "" || strings.ContainsAny(key, " \"[") {
			s.field(text) // words after the pairs
			break
		}
		var value string
		if strings.HasPrefix(after, `"`) {
			quoted, err := strconv.QuotedPrefix(after)
			if err != nil {
				return s, false
			}
			value, _ = strconv.Unquote(quoted)
			text = strings.TrimLeft(after[len(quoted):], " ")
		} else {
			value, text, _ = strings.Cut(after, " ")
			text = strings.TrimLeft(text, " ")
		}
		if s.take(key, value) {
			ok = true
		}
	}
	return s, ok
}

// head is the beginning of a line, with what comes after it at rest.
type head struct {
	level Level
	at    time.Time
	rest  int
}

// readHead reads what stands before the text of a line: a syslog priority, a
// process id, a time, a level, in the orders that are in use.
func readHead(b []byte) head {
	var h head
	if bytes.HasPrefix(b, []byte("panic: ")) { // no level, but what Go says
		return h
	}
	at := 0
	if b[0] == '<' { // syslog (RFC 5424, section 6.2.1)
		if end := bytes.IndexByte(b[:min(len(b), 6)], '>'); end > 1 {
			if n, err := strconv.Atoi(string(b[1:end])); err == nil {
				h.level = severity(n)
				at = end + 1
				if bytes.HasPrefix(b[at:], []byte("1 ")) {
					at += 2
				}
				h.rest = at
			}
		}
	}
	timed := false
	for tokens := 0; tokens < 5 && at < len(b); tokens++ {
		for at < len(b) && b[at] == ' ' {
			at++
		}
		if at == len(b) {
			break
		}
		if !timed {
			if t, n, ok := readTime(b[at:]); ok {
				timed, h.at = true, t
				at += n
				h.rest = at
				continue
			}
		}
		n, level, kind := readToken(b[at:], timed)
		switch kind {
		case 'l':
			if h.level == None || level > h.level {
				h.level = level
			}
			at += n
			h.rest = at
			return h
		case 'n': // a process or thread, before the time or the level
			at += n
		default:
			return h
		}
	}
	return h
}

// readToken reads a word of a line's head: a level ('l'), or a number or
// brackets before one ('n').
func readToken(b []byte, timed bool) (n int, level Level, kind byte) {
	if b[0] == '[' || b[0] == '<' && timed {
		end := bytes.IndexByte(b[:min(len(b), 48)], closing(b[0]))
		if end < 0 {
			return 0, None, 0
		}
		word := b[1:end]
		if i := bytes.LastIndexByte(word, ':'); i >= 0 { // Apache: [module:level]
			word = word[i+1:]
		}
		if l, ok := levelWord(bytes.TrimSpace(word)); ok {
			return end + 1 + colons(b[end+1:]), l, 'l'
		}
		if timed || digits(word) {
			return end + 1, None, 'n'
		}
		if _, _, ok := readTime(b[1:end]); ok {
			return end + 1, None, 'n'
		}
		return 0, None, 0
	}
	end := 0
	for end < len(b) && b[end] != ' ' && b[end] != ':' && b[end] != ']' && b[end] != '\t' {
		end++
	}
	word := b[:end]
	rest := b[end:]
	if timed && end == 1 { // Redis marks the level with one character
		switch word[0] {
		case '#':
			return 1, Warn, 'l'
		case '*', '-', '.':
			return 1, Info, 'l'
		}
	}
	upper := end > 0 && word[0] >= 'A' && word[0] <= 'Z'
	if l, ok := levelWord(word); ok {
		shouted := upper && bytes.Equal(word, bytes.ToUpper(word))
		if len(rest) > 0 && rest[0] == ':' || shouted || timed && len(rest) > 0 && rest[0] == ' ' && (upper || len(word) <= 7) {
			return end + colons(rest), l, 'l'
		}
	}
	// "812:M", "0", "812#812": who writes.
	if end > 0 && word[0] >= '0' && word[0] <= '9' && (digits(word) || bytes.IndexByte(word, '#') > 0) {
		switch {
		case timed:
			return end + colons(rest), None, 'n'
		case len(rest) > 2 && rest[0] == ':' && rest[2] == ' ':
			if _, _, ok := readTime(b[end+3:]); ok {
				return end + 2, None, 'n'
			}
		}
	}
	return 0, None, 0
}

func closing(c byte) byte {
	if c == '<' {
		return '>'
	}
	return ']'
}

func colons(b []byte) int {
	if len(b) > 0 && b[0] == ':' {
		return 1
	}
	return 0
}

func digits(b []byte) bool {
	for _, c := range b {
		if c < '0' || c > '9' {
			return false
		}
	}
	return len(b) > 0
}
