package mail

import (
	"errors"
	"fmt"
	"neighbour/internal/core/kind/misbehave"
	"path"
	"strings"
	"sync"
)

// Rules are how the server misbehaves, for tests of what an app does then. Addresses
// are patterns with * and ?, whatever their letters' size.
type Rules struct {
	// Refuse are the recipients that are refused (550).
	Refuse []string `json:"refuse"`
	// Drop are the recipients of mails in the midst of which the connection is cut.
	Drop []string `json:"drop"`
	// Misbehave is what it does wrong with every mail.
	Misbehave misbehave.Rules `json:"misbehave"`
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
	if r.Misbehave.Clock != 0 {
		return errors.New("clock: a mail server has no clock that its clients see")
	}
	if key, err := r.Misbehave.Check(); err != nil {
		return fmt.Errorf("%s: %w", key, err)
	}
	return nil
}

// InWords says what the rules do, "" for nothing.
func (r Rules) InWords() string {
	var parts []string
	if len(r.Refuse) > 0 {
		parts = append(parts, "refuses "+strings.Join(r.Refuse, ", "))
	}
	if len(r.Drop) > 0 {
		parts = append(parts, "cuts the connection for "+strings.Join(r.Drop, ", "))
	}
	if words := r.Misbehave.InWords(); words != "" {
		parts = append(parts, words)
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
