// Package misbehave has emulators do what servers do on a bad day, so that an application
// can be tried with it: be slow, fail, refuse. What they do then is each protocol's own.
package misbehave

import (
	"encoding/json"
	"errors"
	"fmt"
	"log"
	"math/rand/v2"
	"os"
	"strings"
	"sync"
	"time"

	"neighbour/internal/core/atomicfile"
)

// Rules are how an emulator misbehaves. The zero value is not at all.
type Rules struct {
	Slow      time.Duration `toml:"slow" json:"slow,omitempty" doc:"how long every answer waits"`
	Spread    time.Duration `toml:"spread" json:"spread,omitempty" doc:"by how much that differs, in both directions"`
	Errors    int           `toml:"errors" json:"errors,omitempty" doc:"of how many requests in a hundred are answered with an error"`
	Throttled int           `toml:"throttled" json:"throttled,omitempty" doc:"how many in a hundred are refused, since there were too many"`
	Cut       int           `toml:"cut" json:"cut,omitempty" doc:"how many in a hundred lose the connection in the midst of the answer"`
	Full      bool          `toml:"full" json:"full,omitempty" doc:"nothing can be written for want of room"`
	ReadOnly  bool          `toml:"read_only" json:"read_only,omitempty" doc:"nothing may be written"`
	Clock     time.Duration `toml:"clock" json:"clock,omitempty" doc:"how far its clock is ahead"`
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

// Follow follows a file, which need not be there.
func Follow(file string, logger *log.Logger) *Follower {
	if file == "" {
		return nil
	}
	f := &Follower{file: file, log: logger}
	f.Rules()
	return f
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
	if now.Sub(f.looked) < freshness {
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
