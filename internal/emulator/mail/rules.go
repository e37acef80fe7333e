package mail

import (
	"fmt"
	"path"
	"strings"
	"sync"
	"time"
)

// Rules are how the server misbehaves, for tests of what an app does then. Addresses
// are patterns with * and ?, whatever their letters' size.
type Rules struct {
	// Refuse are the recipients that are refused (550).
	Refuse []string `json:"refuse"`
	// Drop are the recipients of mails in the midst of which the connection is cut.
	Drop []string `json:"drop"`
	// Full has every mail refused for want of room (452).
	Full bool `json:"full"`
	// Delay is how long every mail waits before it is taken, in milliseconds.
	Delay int `json:"delay_ms"`
}

// Check reports what can't be meant.
func (r Rules) Check() error {
	for _, list := range [][]string{r.Refuse, r.Drop} {
		for _, p := range list {
			if _, err := path.Match(p, ""); err != nil || strings.TrimSpace(p) == "" {
				return fmt.Errorf("%q is no pattern for addresses: write *@bounce.example.org", p)
			}
		}
	}
	if r.Delay < 0 || r.Delay > int(time.Hour/time.Millisecond) {
		return fmt.Errorf("a delay of %d ms: write 0 to 3,600,000", r.Delay)
	}
	return nil
}

// InWords says what the rules do, "" for nothing.
func (r Rules) InWords() string {
	var parts []string
	if r.Full {
		parts = append(parts, "refuses every mail as if it were full")
	}
	if len(r.Refuse) > 0 {
		parts = append(parts, "refuses "+strings.Join(r.Refuse, ", "))
	}
	if len(r.Drop) > 0 {
		parts = append(parts, "cuts the connection for "+strings.Join(r.Drop, ", "))
	}
	if r.Delay > 0 {
		parts = append(parts, fmt.Sprintf("takes each mail after %v", time.Duration(r.Delay)*time.Millisecond))
	}
	return strings.Join(parts, "; ")
}

func matches(patterns []string, address string) bool {
	for _, p := range patterns {
		if ok, _ := path.Match(strings.ToLower(p), strings.ToLower(address)); ok {
			return true
		}
	}
	return false
}

// ruling holds the rules that hold now.
type ruling struct {
	mu    sync.Mutex
	rules Rules
}

func (r *ruling) get() Rules {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.rules
}

func (r *ruling) set(rules Rules) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.rules = rules
}
