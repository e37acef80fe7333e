// Package misbehave has emulators do what servers do on a bad day, so that an application
// can be tried with it: be slow, fail, refuse. What they do then is each protocol's own.
package misbehave

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"log"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"neighbour/internal/core/machine/atomicfile"
)

// Rules are how an emulator misbehaves. The zero value is not at all.
type Rules struct {
	Slow      time.Duration `toml:"slow" doc:"how long every answer waits"`
	Spread    time.Duration `toml:"spread" doc:"by how much that differs, in both directions"`
	Errors    int           `toml:"errors" doc:"of how many requests in a hundred are answered with an error"`
	Throttled int           `toml:"throttled" doc:"how many in a hundred are refused, since there were too many"`
	Cut       int           `toml:"cut" doc:"how many in a hundred lose the connection in the midst of the answer"`
	Full      bool          `toml:"full" doc:"nothing can be written for want of room"`
	ReadOnly  bool          `toml:"read_only" doc:"nothing may be written"`
	Clock     time.Duration `toml:"clock" doc:"how far its clock is ahead"`
}

// written are rules as JSON has them, with lengths of time as texts: "200ms".
type written struct {
	Slow      string `json:"slow,omitempty"`
	Spread    string `json:"spread,omitempty"`
	Errors    int    `json:"errors,omitempty"`
	Throttled int    `json:"throttled,omitempty"`
	Cut       int    `json:"cut,omitempty"`
	Full      bool   `json:"full,omitempty"`
	ReadOnly  bool   `json:"read_only,omitempty"`
	Clock     string `json:"clock,omitempty"`
}

// MarshalJSON writes the rules with lengths of time as texts.
func (r Rules) MarshalJSON() ([]byte, error) {
	text := func(d time.Duration) string {
		if d == 0 {
			return ""
		}
		return d.String()
	}
	return json.Marshal(written{text(r.Slow), text(r.Spread), r.Errors, r.Throttled, r.Cut, r.Full, r.ReadOnly, text(r.Clock)})
}

// UnmarshalJSON reads what MarshalJSON writes, and nothing else.
func (r *Rules) UnmarshalJSON(b []byte) error {
	var w written
	d := json.NewDecoder(bytes.NewReader(b))
	d.DisallowUnknownFields()
	if err := d.Decode(&w); err != nil {
		return err
	}
	*r = Rules{Errors: w.Errors, Throttled: w.Throttled, Cut: w.Cut, Full: w.Full, ReadOnly: w.ReadOnly}
	for name, of := range map[string]struct {
		text string
		to   *time.Duration
	}{"slow": {w.Slow, &r.Slow}, "spread": {w.Spread, &r.Spread}, "clock": {w.Clock, &r.Clock}} {
		if of.text == "" {
			continue
		}
		var err error
		if *of.to, err = time.ParseDuration(of.text); err != nil {
			return fmt.Errorf("%s: write for example \"200ms\"", name)
		}
	}
	return nil
}

// Check reports what can't be meant: under which key, and why.
func (r Rules) Check() (key string, err error) {
	for key, d := range map[string]time.Duration{"slow": r.Slow, "spread": r.Spread} {
		if d < 0 || d > time.Hour {
			return key, fmt.Errorf("%v is no time to wait: write 0s to 1h", d)
		}
	}
	if r.Spread > r.Slow {
		return "spread", fmt.Errorf("%v is more than slow, which is %v", r.Spread, r.Slow)
	}
	for key, n := range map[string]int{"errors": r.Errors, "throttled": r.Throttled, "cut": r.Cut} {
		if n < 0 || n > 100 {
			return key, fmt.Errorf("%d is not how many in a hundred: write 0 to 100", n)
		}
	}
	if r.Errors+r.Throttled+r.Cut > 100 {
		return "errors", errors.New("errors, throttled and cut are more than a hundred together")
	}
	if r.Clock < -10*365*24*time.Hour || r.Clock > 10*365*24*time.Hour {
		return "clock", fmt.Errorf("%v is more than ten years", r.Clock)
	}
	return "", nil
}

// InWords says what the rules do, "" for nothing.
func (r Rules) InWords() string {
	var parts []string
	say := func(is bool, format string, args ...any) {
		if is {
			parts = append(parts, fmt.Sprintf(format, args...))
		}
	}
	switch {
	case r.Spread > 0:
		say(true, "waits %v to %v before each answer", r.Slow-r.Spread, r.Slow+r.Spread)
	case r.Slow > 0:
		say(true, "waits %v before each answer", r.Slow)
	}
	say(r.Errors > 0, "answers %d %% with an error", r.Errors)
	say(r.Throttled > 0, "refuses %d %% as too many", r.Throttled)
	say(r.Cut > 0, "cuts the connection of %d %%", r.Cut)
	say(r.Full, "is full")
	say(r.ReadOnly, "is read only")
	say(r.Clock != 0, "has its clock %v ahead", r.Clock)
	return strings.Join(parts, ", ")
}

// Fate is what becomes of a request.
type Fate int

// The fates of requests.
const (
	Well Fate = iota
	Failed
	Throttled
	Cut
)

// Draw returns how long a request waits, and what becomes of it.
func (r Rules) Draw() (time.Duration, Fate) {
	wait := r.Slow
	if r.Spread > 0 {
		wait += time.Duration(rand.Int64N(int64(2*r.Spread)+1)) - r.Spread
	}
	switch n := rand.IntN(100); {
	case n < r.Errors:
		return wait, Failed
	case n < r.Errors+r.Throttled:
		return wait, Throttled
	case n < r.Errors+r.Throttled+r.Cut:
		return wait, Cut
	}
	return wait, Well
}

// Read reads rules from a file; one that isn't there has none.
func Read(file string) (r Rules, err error) { return r, atomicfile.ReadJSON(file, &r) }

// Says is what the rules of a file do, in words; "" if it has none, or they can't be read.
func Says(file string) string {
	r, err := Read(file)
	if err != nil {
		return ""
	}
	return r.InWords()
}

// Write writes rules to a file, which an emulator may follow.
func Write(file string, r Rules) error {
	if key, err := r.Check(); err != nil {
		return fmt.Errorf("%s: %w", key, err)
	}
	if r == (Rules{}) {
		if err := os.Remove(file); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
		return nil
	}
	b, err := json.Marshal(r)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	return atomicfile.Write(file, b, 0o600)
}

// Follower knows the rules of a file as they are now. Its methods may be called at the
// same time, also of a nil one, which has none.
type Follower struct {
	file string
	log  *log.Logger

	mu     sync.Mutex
	looked time.Time
	was    os.FileInfo
	rules  Rules
}

// Follow follows a file, which need not be there. Without a file the rules are those that
// were set last.
func Follow(file string, logger *log.Logger) *Follower {
	f := &Follower{file: file, log: logger}
	f.Rules()
	return f
}

// Set has other rules hold, and writes them to the file.
func (f *Follower) Set(r Rules) error {
	if key, err := r.Check(); err != nil {
		return fmt.Errorf("%s: %w", key, err)
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.rules = r
	if f.file == "" {
		return nil
	}
	f.looked = time.Time{}
	return Write(f.file, r)
}

// freshness is how old what is known of the file may be.
const freshness = 50 * time.Millisecond

// Rules returns the rules that hold now.
func (f *Follower) Rules() Rules {
	if f == nil {
		return Rules{}
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	now := time.Now()
	if f.file == "" || now.Sub(f.looked) < freshness {
		return f.rules
	}
	f.looked = now
	is, err := os.Stat(f.file)
	if err != nil {
		is = nil
	}
	if f.was != nil && is != nil && os.SameFile(f.was, is) && f.was.ModTime().Equal(is.ModTime()) && f.was.Size() == is.Size() {
		return f.rules
	}
	f.was = is
	before := f.rules
	rules, err := Read(f.file)
	if err == nil {
		_, err = rules.Check()
	}
	if err != nil {
		f.log.Printf("misbehaviour: %v", err)
		rules = Rules{}
	}
	if f.rules = rules; rules != before {
		words := rules.InWords()
		if words == "" {
			words = "is well again"
		}
		f.log.Printf("it %s", words)
	}
	return f.rules
}
