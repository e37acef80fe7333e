package project

import (
	"crypto/sha256"
	"encoding/hex"
	"os"
	"slices"
	"strings"
)

// keepersOwn are variables that say where a keeper itself has its things. They stay as they are
// for as long as it runs: another value would lead it away from what runs. A name that ends in _
// stands for all that begin so.
var keepersOwn = []string{"HOME", "TMPDIR", "XDG_", "NEIGHBOUR_"}

// ofTerminal are variables that differ from terminal to terminal, and say nothing about programs.
var ofTerminal = []string{"_", "PWD", "OLDPWD", "SHLVL", "TERM", "TERM_", "COLORTERM", "COLUMNS", "LINES", "WINDOWID", "STY", "TMUX", "TMUX_", "SSH_", "DISPLAY", "WAYLAND_", "DBUS_", "DESKTOP_", "SESSION_", "VTE_", "GPG_", "PS1", "PROMPT_", "HIST", "LS_COLORS", "LESS", "LESS_", "INVOCATION_ID", "JOURNAL_STREAM", "SYSTEMD_", "MAIL", "SUDO_"}

func named(name string, of []string) bool {
	return slices.ContainsFunc(of, func(n string) bool {
		return name == n || strings.HasSuffix(n, "_") && n != "_" && strings.HasPrefix(name, n)
	})
}

// UseEnvironment has this process, a keeper, start services from now on with the environment of
// whoever asks for it, NAME=value each: a change of PATH in a shell counts for the next start from
// it. What is declared goes before, and what the keeper needs for itself stays. With none, nothing
// changes. What runs keeps what it was started with.
func (p *Project) UseEnvironment(environment []string) {
	if len(environment) == 0 {
		return
	}
	given := map[string]string{}
	for _, v := range environment {
		if name, value, is := strings.Cut(v, "="); is && name != "" && !named(name, keepersOwn) {
			given[name] = value
		}
	}
	path := os.Getenv("PATH")
	for _, v := range os.Environ() {
		name, _, _ := strings.Cut(v, "=")
		if _, stays := given[name]; !stays && name != "" && !named(name, keepersOwn) {
			_ = os.Unsetenv(name)
		}
	}
	for name, value := range given {
		_ = os.Setenv(name, value)
	}
	if os.Getenv("PATH") != path { // what services run on may be another
		p.chosen.mu.Lock()
		p.chosen.all = nil
		p.chosen.mu.Unlock()
	}
}

// OtherInherited returns the names of the variables that a program which runs inherited, by their
// digests, and would inherit with another value now, sorted; none if it is not known what it
// inherited. Those of terminals are left out.
func OtherInherited(given map[string]string, declared func(name string) bool) []string {
	if len(given) == 0 {
		return nil
	}
	differs := func(name string) bool {
		return name != "" && !declared(name) && !named(name, keepersOwn) && !named(name, ofTerminal)
	}
	var out []string
	now := map[string]bool{}
	for _, v := range os.Environ() {
		name, value, _ := strings.Cut(v, "=")
		now[name] = true
		if differs(name) && given[name] != Digest(value) {
			out = append(out, name)
		}
	}
	for name := range given {
		if differs(name) && !now[name] {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Digest stands for a value where the value itself, which may be a password, is not to be kept.
func Digest(value string) string {
	sum := sha256.Sum256([]byte(value))
	return hex.EncodeToString(sum[:8])
}
