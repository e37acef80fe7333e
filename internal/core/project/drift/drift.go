// Package drift compares env files with what a declaration gives: which of their lines say
// something else, and which lead to other servers than the project's.
package drift

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"neighbour/internal/core/declaration/wire"
	"neighbour/internal/core/kind"
)

// Result says how what an env file says of a variable compares with what
// the declaration provides.
type Result string

// The comparisons.
const (
	Same      Result = "same"
	Different Result = "different"
	Elsewhere Result = "points elsewhere" // to another host, port, user, password or database
	Missing   Result = "missing"          // provided, and not in the file
	Unused    Result = "unused"           // in the file, and nothing of ours
)

// Drift is a variable in an env file compared with ours.
type Drift struct {
	Name   string `json:"name"`
	Line   int    `json:"line,omitempty"` // in the file; 0 if it is missing there
	Result Result `json:"result"`
	// Service is the one whose facts the comparison is with.
	Service string `json:"service,omitempty"`
	// Ours and Theirs are the values; Secret says that one of them holds a
	// password.
	Ours   string `json:"ours,omitempty"`
	Theirs string `json:"theirs,omitempty"`
	Secret bool   `json:"secret,omitempty"`
	// Parts say what differs, one by one: "port 5432, ours is 5433".
	Parts []string `json:"parts,omitempty"`
	// Port is the one that the file's value leads to on this machine, 0 if that
	// isn't known.
	Port int `json:"port,omitempty"`
	// Provided says that the service's environment has the variable, which for
	// most readers of env files goes before the file.
	Provided bool `json:"provided,omitempty"`
}

// target is where something leads.
type target struct{ host, port, user, password, database string }

// targetOf reads an address.
func targetOf(u *url.URL) target {
	password, _ := u.User.Password()
	return target{u.Hostname(), u.Port(), u.User.Username(), password, strings.Trim(u.Path, "/")}
}

func targetOfFacts(facts map[string]kind.Fact) target {
	return target{facts["host"].Value, facts["port"].Value, facts["user"].Value, facts["password"].Value, facts["database"].Value}
}

// differences lists what differs of what both say. Passwords are not told.
func (theirs target) differences(ours target) []string {
	var out []string
	add := func(what, a, b string) {
		if a != "" && b != "" && a != b {
			out = append(out, fmt.Sprintf("%s %s, ours is %s", what, a, b))
		}
	}
	if !(wire.Local(theirs.host) && wire.Local(ours.host)) {
		add("host", theirs.host, ours.host)
	}
	add("port", theirs.port, ours.port)
	add("user", theirs.user, ours.user)
	if theirs.password != ours.password && ours.password != "" && (theirs.password != "" || theirs.user != "") {
		out = append(out, "another password")
	}
	add("database", theirs.database, ours.database)
	return out
}

// Server is a service that an env file may point to.
type Server struct {
	Name, Kind string
	Facts      map[string]kind.Fact
}

// Compare compares the variables of an env file with those that a service
// gets, and those that the service doesn't get with the project's servers. A
// production file's values are not told.
func Compare(entries []wire.EnvEntry, ours []wire.Variable, servers []Server, production bool) []Drift {
	// The last of several counts, as it does for the readers.
	values := map[string]wire.EnvEntry{}
	for _, e := range entries {
		values[e.Name] = e
	}
	var out []Drift
	for _, v := range ours {
		e, there := values[v.Name]
		d := Drift{Name: v.Name, Line: e.Line, Ours: v.Value, Theirs: e.Value, Secret: v.Secret || holdsPassword(e), Provided: true, Result: Different}
		if len(v.From) > 0 {
			d.Service, _, _ = strings.Cut(v.From[0], ".")
		}
		switch {
		case !there && v.Declared == "":
			continue // Neighbour gives it by itself
		case !there:
			d.Result, d.Theirs = Missing, ""
		case e.Value == v.Value:
			d.Result = Same
		default:
			d.Result, d.Parts = compareValues(v, e.Value)
		}
		out = append(out, d)
	}
	provided := func(name string) bool {
		return slices.ContainsFunc(ours, func(v wire.Variable) bool { return v.Name == name })
	}
	done := map[string]bool{}
	for _, e := range entries {
		if values[e.Name].Line != e.Line || provided(e.Name) {
			continue
		}
		d := Drift{Name: e.Name, Line: e.Line, Theirs: e.Value, Secret: holdsPassword(e), Result: Unused}
		if server, theirs, ok := leadsTo(e, entries, servers); ok && !done[server.Name+" "+theirs.key] {
			done[server.Name+" "+theirs.key] = true
			d.Service, d.Result = server.Name, Same
			d.Port, _ = strconv.Atoi(theirs.port)
			if d.Parts = theirs.differences(targetOfFacts(server.Facts)); len(d.Parts) > 0 {
				d.Result = Elsewhere
			}
		} else if ok {
			continue // told with the first variable of its prefix
		}
		out = append(out, d)
	}
	if production {
		for i := range out {
			out[i].Ours, out[i].Theirs, out[i].Parts = "", "", nil
		}
	}
	return out
}

// compareValues says how a value differs: part by part where both are
// addresses, or the variable is a part of one.
func compareValues(v wire.Variable, theirs string) (Result, []string) {
	a, err1 := url.Parse(theirs)
	b, err2 := url.Parse(v.Value)
	if err1 == nil && err2 == nil && a.Host != "" && b.Host != "" {
		if parts := targetOf(a).differences(targetOf(b)); len(parts) > 0 {
			return Elsewhere, parts
		}
		if kind.OfScheme(a.Scheme) == kind.OfScheme(b.Scheme) && a.Path == b.Path {
			return Same, nil // but for its options, or the name of this machine
		}
		return Different, nil
	}
	if len(v.From) == 0 {
		return Different, nil
	}
	_, part, ok := wire.SplitName(v.Name)
	if v.Declared == "${"+v.From[0]+"}" { // which says more than the name
		_, part, ok = strings.Cut(v.From[0], ".")
	}
	switch {
	case !ok:
		return Different, nil
	case part == "host" && wire.Local(theirs) && wire.Local(v.Value):
		return Same, nil
	case v.Secret || holdsPassword(wire.EnvEntry{Name: v.Name, Value: theirs}):
		return Elsewhere, []string{"another " + strings.ReplaceAll(part, "_", " ")}
	}
	part = strings.ReplaceAll(part, "_", " ")
	return Elsewhere, []string{fmt.Sprintf("%s %s, ours is %s", part, theirs, v.Value)}
}

// holdsPassword guesses whether a value is a secret.
func holdsPassword(e wire.EnvEntry) bool {
	name := strings.ToUpper(e.Name)
	for _, word := range []string{"PASS", "PWD", "SECRET", "TOKEN", "KEY", "CREDENTIAL"} {
		if strings.Contains(name, word) {
			return true
		}
	}
	u, err := url.Parse(e.Value)
	if err != nil || u.User == nil {
		return err != nil && strings.Contains(e.Value, "@")
	}
	_, has := u.User.Password()
	return has
}

// led is where variables lead, and what tells them from others.
type led struct {
	target
	key string
}

// leadsTo finds the server that a variable is about which the service doesn't
// get from us, and where it leads instead.
func leadsTo(e wire.EnvEntry, all []wire.EnvEntry, servers []Server) (Server, led, bool) {
	match := func(kindName string) (Server, bool) {
		i := slices.IndexFunc(servers, func(s Server) bool { return kind.Serves(s.Kind, kindName) })
		if i < 0 {
			return Server{}, false
		}
		return servers[i], true
	}
	if u, err := url.Parse(e.Value); err == nil && u.Host != "" {
		s, ok := match(kind.OfScheme(u.Scheme))
		return s, led{targetOf(u), e.Name}, ok && wire.Local(u.Hostname())
	}
	prefix, part, ok := wire.SplitName(e.Name)
	if !ok || part == "url" {
		return Server{}, led{}, false
	}
	first, _, _ := strings.Cut(prefix, "_")
	s, ok := match(kind.OfWord(first))
	if !ok {
		return Server{}, led{}, false
	}
	var t target
	for _, other := range all {
		p, what, ok := wire.SplitName(other.Name)
		if !ok || p != prefix {
			continue
		}
		switch what {
		case "host":
			t.host = other.Value
		case "port":
			t.port = other.Value
		case "user":
			t.user = other.Value
		case "password":
			t.password = other.Value
		case "database":
			t.database = other.Value
		}
	}
	if t.host == "" && t.port == "" || !wire.Local(t.host) {
		return Server{}, led{}, false
	}
	return s, led{t, prefix}, true
}
