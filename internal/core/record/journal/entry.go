package journal

import (
	"bytes"
	"encoding/json"
	"fmt"
	"sort"
	"strconv"
	"strings"
	"time"
)

// Entry is what was printed at one time: a line, or several that belong
// together; or something that the keeper notes of a service.
type Entry struct {
	// Service is who printed it, or whom it is about; "" the project.
	Service string `json:"service"`
	// Event is what the keeper notes: "ready", "failed", …; "" for output.
	Event string `json:"event,omitempty"`
	// At is when it was printed: as it says itself, where that fits with when
	// it was seen, or else when it was seen. Zero if unknown.
	At    time.Time `json:"at"`
	Level Level     `json:"level"`
	// Text is as it was written, with \n between lines; Message is the text
	// without the time and the level, and without the other values that it
	// has with their names, which are Fields: "tool=drill days=3".
	Text    string `json:"text"`
	Message string `json:"message"`
	Fields  string `json:"fields,omitempty"`
	Place   Place  `json:"place"`
}

// Place is where an entry is on the time line: by when it was seen, then by
// the log, then by where it is in the log.
type Place struct {
	Seen   int64  // in milliseconds since 1970; 0: unknown
	Log    string // the service, or Events
	Offset int64
}

// Events is the log of what the keeper notes. At the same time it comes after
// the services' own.
const Events = "~"

// IsZero reports whether it is no place.
func (p Place) IsZero() bool { return p == Place{} }

// Compare orders places along the time line.
func (p Place) Compare(q Place) int {
	switch {
	case p.Seen != q.Seen:
		return compare(p.Seen, q.Seen)
	case p.Log != q.Log:
		return strings.Compare(p.Log, q.Log)
	}
	return compare(p.Offset, q.Offset)
}

func compare(a, b int64) int {
	switch {
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}

// At returns the place before everything that was seen at the time or later.
func At(t time.Time) Place { return Place{Seen: t.UnixMilli()} }

// String returns the place as one word: "1795435200000:812:api".
func (p Place) String() string {
	if p.IsZero() {
		return ""
	}
	return fmt.Sprintf("%d:%d:%s", p.Seen, p.Offset, p.Log)
}

// MarshalText returns the place as one word.
func (p Place) MarshalText() ([]byte, error) { return []byte(p.String()), nil }

// UnmarshalText reads what MarshalText made.
func (p *Place) UnmarshalText(text []byte) error {
	*p = Place{}
	if len(text) == 0 {
		return nil
	}
	seen, rest, ok := strings.Cut(string(text), ":")
	offset, log, ok2 := strings.Cut(rest, ":")
	var err1, err2 error
	p.Seen, err1 = strconv.ParseInt(seen, 10, 64)
	p.Offset, err2 = strconv.ParseInt(offset, 10, 64)
	p.Log = log
	if !ok || !ok2 || err1 != nil || err2 != nil {
		return fmt.Errorf("%q is no place in a log", text)
	}
	return nil
}

// entryLimit is how many bytes of an entry of several lines are kept.
const entryLimit = 64 << 10

// slack is how far the time that a line states may be from when it was seen.
const slack = 2 * time.Second

// entry makes an entry of a span.
func (c chunk) entry(log string, s span) Entry {
	offset := c.offset + int64(s.from)
	seen := c.times.at(offset)
	e := Entry{Service: log, At: fromMillis(seen), Place: Place{Seen: seen, Log: log, Offset: offset}}
	raw := bytes.TrimRight(c.data[s.from:s.to], "\r\n")
	first, more, several := bytes.Cut(raw[:min(len(raw), entryLimit)], []byte{'\n'})
	e.Text = text(first)
	if log == Events {
		e.readEvent()
		return e
	}
	said := recognise(e.Text)
	e.Level, e.Message, e.Fields = said.level, said.message, said.fields
	if several {
		var b strings.Builder
		for line := range bytes.SplitSeq(more, []byte{'\n'}) {
			b.WriteByte('\n')
			b.WriteString(text(line))
		}
		rest := strings.TrimRight(b.String(), "\n")
		e.Text += rest
		e.Message += rest
	}
	if !said.at.IsZero() && c.fits(offset, said.at) {
		e.At = said.at
	}
	return e
}

// fits reports whether a line may have been written at the time that it states:
// not before what was seen before it, and not after it was seen itself.
func (c chunk) fits(offset int64, at time.Time) bool {
	seen := c.times.at(offset)
	if seen == 0 {
		return true
	}
	before := seen
	if i := sort.Search(len(c.times), func(i int) bool { return c.times[i].Millis >= seen }); i > 0 {
		before = c.times[i-1].Millis
	}
	return !at.Before(time.UnixMilli(before).Add(-slack)) && !at.After(time.UnixMilli(seen).Add(slack))
}

// noted is an event as the log of events has it.
type noted struct {
	At      time.Time `json:"at"`
	Service string    `json:"service,omitempty"`
	Event   string    `json:"event"`
	Level   Level     `json:"level,omitempty"`
	Text    string    `json:"text"`
}

func (e *Entry) readEvent() {
	var n noted
	e.Service = ""
	if json.Unmarshal([]byte(e.Text), &n) != nil {
		e.Event, e.Message = "note", e.Text
		return
	}
	e.Service, e.Event, e.Level, e.Text, e.Message = n.Service, n.Event, n.Level, n.Text, n.Text
	if !n.At.IsZero() {
		e.At = n.At
	}
}
