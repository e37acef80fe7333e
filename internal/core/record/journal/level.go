package journal

import (
	"bytes"
	"fmt"
	"strings"
)

// Level is how much an entry matters, as it says itself.
type Level uint8

// The levels. None is that of an entry which doesn't say.
const (
	None Level = iota
	Debug
	Info
	Warn
	Error
)

var levelNames = [...]string{None: "", Debug: "debug", Info: "info", Warn: "warn", Error: "error"}

func (l Level) String() string { return levelNames[l] }

// MarshalText returns the level's name.
func (l Level) MarshalText() ([]byte, error) { return []byte(l.String()), nil }

// UnmarshalText reads a level's name.
func (l *Level) UnmarshalText(text []byte) error {
	for i, name := range levelNames {
		if name == string(text) {
			*l = Level(i)
			return nil
		}
	}
	return fmt.Errorf("there is no level %q; there are debug, info, warn and error", text)
}

// levelWords are the words for levels that are in use, in lower case.
var levelWords = map[string]Level{
	"trace": Debug, "trc": Debug, "debug": Debug, "dbg": Debug, "verbose": Debug, "fine": Debug, "finest": Debug,
	"debug1": Debug, "debug2": Debug, "debug3": Debug, "debug4": Debug, "debug5": Debug,
	"info": Info, "inf": Info, "information": Info, "informational": Info, "notice": Info, "note": Info, "log": Info, "system": Info,
	"warn": Warn, "warning": Warn, "wrn": Warn,
	"error": Error, "err": Error, "severe": Error, "fatal": Error, "ftl": Error, "panic": Error, "critical": Error, "crit": Error,
	"emerg": Error, "emergency": Error, "alert": Error,
}

// levelWord returns the level that a word names, in any case.
func levelWord(word []byte) (Level, bool) {
	if len(word) < 3 || len(word) > 13 {
		return None, false
	}
	var lower [13]byte
	for i, c := range word {
		if c >= 'A' && c <= 'Z' {
			c += 'a' - 'A'
		}
		lower[i] = c
	}
	l, ok := levelWords[string(lower[:len(word)])]
	return l, ok
}

// levelNumber returns the level of a number in JSON, where 10 is trace and 60
// fatal.
func levelNumber(n int) Level {
	switch {
	case n >= 50:
		return Error
	case n >= 40:
		return Warn
	case n >= 30:
		return Info
	}
	return Debug
}

// severity returns the level of a syslog priority (RFC 5424, section 6.2.1).
func severity(priority int) Level {
	switch s := priority & 7; {
	case s <= 3:
		return Error
	case s == 4:
		return Warn
	case s <= 6:
		return Info
	}
	return Debug
}

// plainErrors begin lines that tell of an error without naming a level.
var plainErrors = []string{"panic: ", "fatal error: ", "Traceback (most recent call last)", "Uncaught ", "Unhandled ", "npm ERR! ", "npm error ", "PHP Fatal error:", "PHP Parse error:", "Exception in thread"}

// levelOfPlain returns the level of a text that names none in the usual places.
func levelOfPlain(b []byte) Level {
	if len(b) == 0 {
		return None
	}
	if raised(b) && !bytes.HasPrefix(b, []byte("Warning")) {
		if word, _, _ := bytes.Cut(b, []byte{':'}); bytes.HasSuffix(word, []byte("Warning")) {
			return Warn
		}
		return Error
	}
	for _, p := range plainErrors {
		if b[0] == p[0] && strings.HasPrefix(string(b[:min(len(b), len(p))]), p) {
			return Error
		}
	}
	if rest, php := bytes.CutPrefix(b, []byte("PHP ")); php {
		switch word, _, _ := bytes.Cut(rest, []byte(": ")); string(word) {
		case "Warning", "Deprecated", "Core Warning", "Compile Warning", "User Warning":
			return Warn
		case "Notice", "Strict Standards":
			return Info
		case "message": // PHP's server says this of what a page says
			return levelOfPlain(bytes.TrimSpace(rest[len("message: "):]))
		case "Recoverable fatal error", "Core Error", "Compile Error":
			return Error
		}
	}
	return levelOfRequest(b)
}

// levelOfRequest returns the level of a line of a web server's log of requests by
// the status of its answer: an error from 500, a warning from 400. The lines
// are those of the common and the combined log format, "GET / HTTP/1.1" 500,
// and those that begin with the status, 500 GET / or [500]: GET /.
func levelOfRequest(b []byte) Level {
	status := b
	if i := bytes.Index(b, []byte(" HTTP/")); i >= 0 {
		rest := b[i+len(" HTTP/"):]
		end := bytes.IndexByte(rest[:min(len(rest), 5)], '"')
		if end < 0 || len(rest) < end+2 || rest[end+1] != ' ' {
			return None
		}
		status = rest[end+2:]
	} else {
		status = bytes.TrimPrefix(status, []byte{'['})
		after, ok := bytes.CutPrefix(status[min(len(status), 3):], []byte("]:"))
		if !ok {
			after = status[min(len(status), 3):]
		}
		if len(after) < 3 || after[0] != ' ' || after[1] < 'A' || after[1] > 'Z' || !bytes.Contains(after[:min(len(after), 10)], []byte(" /")) {
			return None
		}
	}
	if len(status) < 3 || !digits(status[:3]) || len(status) > 3 && status[3] != ' ' && status[3] != ']' {
		return None
	}
	switch status[0] {
	case '5':
		return Error
	case '4':
		return Warn
	}
	return None
}
