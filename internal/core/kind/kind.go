// Package kind defines what Neighbour knows about a sort of service. Each
// kind is a package of its own below this one; the list of them is in
// package catalogue.
package kind

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/declaration/wire"
	"neighbour/internal/core/machine/probe"
)

// Kind is a sort of service.
type Kind interface {
	// Info is what holds for all services of the kind.
	Info() Info
	// Settings makes an empty value of the kind's own keys, a pointer to a
	// struct with toml tags.
	Settings() any
	// Find looks for the installed program. Its error names what is missing
	// and how to get it; a *MissingError where a package is missing.
	Find(in *Instance) (Program, error)
	// Launch says how to start the server.
	Launch(in *Instance) (Launch, error)
	// Facts are the values that a service offers others; all of Info.Facts.
	Facts(in *Instance) (map[string]Fact, error)
	// Probe is the check by the server's own protocol; nil where only the
	// program itself could tell.
	Probe(in *Instance) (probe.Probe, error)
}

// Preparer is implemented by kinds that must do something once before the
// first start. Prepare calls report with each step before it is done, and
// does nothing if all is done already.
type Preparer interface {
	Prepare(ctx context.Context, in *Instance, report func(step string)) error
}

// Provisioner is implemented by kinds that set something up in a server that
// accepts connections before it counts as ready.
type Provisioner interface {
	Provision(in *Instance) Provisioning
}

// Provisioning is one start of a server. Its check is used in place of the
// kind's until it is answered well; then Provision is called, which may go on
// with what the check has opened.
type Provisioning interface {
	probe.Probe
	Provision(ctx context.Context, report func(step string)) error
}

// Selfer is implemented by kinds whose declaration refers to values of the
// service itself, as ${self.NAME}.
type Selfer interface {
	Self(in *Instance, name string) (Fact, error)
}

// Consoler is implemented by kinds that have an interactive client.
type Consoler interface {
	// Console is its command, connected to the service.
	Console(in *Instance) ([]string, error)
}

// Client is implemented by kinds whose clients read variables of their own,
// by custom or standard.
type Client interface {
	ClientVariables(in *Instance) (map[string]string, error)
}

// CheckNames reports, under a key, the names that are empty, longer than
// limit bytes, hold one of the banned characters, or are there twice.
func CheckNames(key string, names []string, limit int, banned string, report func(key, message, remedy string)) {
	for i, name := range names {
		if name == "" || len(name) > limit || strings.ContainsAny(name, banned) {
			remedy := fmt.Sprintf("use 1 to %d characters", limit)
			if printable := strings.Trim(banned, "\x00\n"); printable != "" {
				remedy += ", none of them one of " + printable
			}
			report(key, fmt.Sprintf("%q can't be a name here", name), remedy)
		}
		if slices.Contains(names[:i], name) {
			report(key, fmt.Sprintf("%q is there twice", name), "remove one")
		}
	}
}

// UserFacts returns the names of the facts of declared users: each has a password,
// and an address with it, as "reader.password" and "reader.url".
func UserFacts(users []string) []string {
	var names []string
	for _, u := range users {
		names = append(names, u+".url", u+".password")
	}
	return names
}

// AddUserFacts adds the facts of declared users, whose passwords are secrets
// of their own. Address makes a user's address.
func AddUserFacts(in *Instance, facts map[string]Fact, users []string, address func(user, password string) string) error {
	for _, u := range users {
		password, err := in.UserPassword(u)
		if err != nil {
			return err
		}
		facts[u+".url"], facts[u+".password"] = Fact{Value: address(u, password), Secret: true}, Fact{Value: password, Secret: true}
	}
	return nil
}

// CheckSettings reports settings of a server that Neighbour itself makes.
func CheckSettings(settings map[string]string, ours []string, report func(key, message, remedy string)) {
	for name, value := range settings {
		if slices.Contains(ours, strings.ReplaceAll(name, "-", "_")) {
			report("settings."+name, "Neighbour sees to this setting itself", "remove it")
		}
		if name == "" || strings.ContainsAny(name, " =\n") || strings.Contains(value, "\n") {
			report("settings."+name, "can't be a setting", "write its name and its value, on one line")
		}
	}
}

// Noter is implemented by kinds that have something to say about a service's
// contents, and what of them doesn't work though the service is ready, "" for nothing. Notes must
// be quick, since it is called every few seconds.
type Noter interface {
	Notes(in *Instance) (notes []string, wrong string)
}

// Misbehaver is implemented by kinds whose services can be told to misbehave, for tests.
// Misbehaves says what a service does wrong now, "" for nothing. It must be quick, like
// Notes.
type Misbehaver interface {
	Misbehaves(in *Instance) string
}

// Explainer is implemented by kinds of web servers that can tell from their files why a request
// for an address (a path with its query) was answered with a status. Explain returns "" if
// there is nothing to tell.
type Explainer interface {
	Explain(in *Instance, address string, status int) string
}

// Warner is implemented by kinds that can tell before a start that something
// probably isn't meant as it is. Warn is called when the program is found.
type Warner interface {
	Warn(in *Instance) []string
}

// Info describes a kind.
type Info struct {
	Name  string
	About string // a few words: "PostgreSQL database"
	// Listens says that each of its services has a port; UsualPort is the
	// one to try first.
	Listens   bool
	UsualPort int
	// Check says in words what the kind's own check is: "login".
	Check string
	// Facts are the names of the facts, the most useful first.
	Facts []string
	// Packages are what provides the server, Example is a declaration of one.
	Packages Packages
	Example  string
	// Begin is the line that a service of the kind can't do without, as an
	// example; "" if there is none.
	Begin string
	// Machine says that the form of its data depends on the machine and on the server's version.
	// AtEnd says that all that it holds is on the disk only once it has ended.
	Machine, AtEnd bool
	// Fleeting are files of its data, below the data folder, that mean something only to the server
	// which has made them, such as the one with its pid: a copy of the data must not have them.
	Fleeting []string
	// HTTP says that the fact url of its services is one of HTTP, which browsers can open.
	HTTP bool
	// Below says that names below those of its services lead to them, too, and Aside that what
	// they show is not what people come to the project for.
	Below, Aside bool
	// Changes are the types of the events that its services tell for triggers, if it is an
	// Emitter. ChangesByKey says that a column must be named that grows with each new row.
	Changes      []string
	ChangesByKey bool
	// Takes says that its services can be sent messages: their source is a Taker.
	Takes bool
	// Accounts are set for servers that refuse to run as root: the users to
	// run them as, the preferred first.
	Accounts []string
	// Elsewhere says that its services are not ours to start: there is no
	// process, only the declared check, or the kind's own.
	Elsewhere bool
	// AnyFact says that which facts its services have is not known from the declaration.
	AnyFact bool
	// NoProcess says that there is nothing to start: what it holds is used as it
	// is, and only checked.
	NoProcess bool
	// NoData says that its services keep nothing: there is nothing to save, to restore or to empty.
	NoData bool
	// InheritEnv gives the server the keeper's whole environment, as a
	// program of the user's expects; others get only the basics, so that
	// nothing on the machine changes what they do.
	InheritEnv bool
}

// Launch is how to start a server.
type Launch struct {
	Argv   []string
	Env    []string // added to the environment
	Dir    string   // the working folder, absolute
	Signal string   // asks it to end: "TERM"
}

// Fact is a value that a service offers.
type Fact = wire.Fact

// RefusedError is a server's refusal of a text that the declaration passes on
// to it.
type RefusedError struct {
	Err  error
	At   declare.Position // of the line
	Text string           // the line
}

func (e *RefusedError) Error() string { return e.Err.Error() }
func (e *RefusedError) Unwrap() error { return e.Err }

// Address returns the facts of a server that has no common form of URL.
func Address(in *Instance) map[string]Fact {
	port := strconv.Itoa(in.Port)
	return map[string]Fact{"address": {Value: "127.0.0.1:" + port}, "host": {Value: "127.0.0.1"}, "port": {Value: port}}
}

// URL returns the facts of a server that anybody may use.
func URL(in *Instance, scheme string) map[string]Fact {
	port := strconv.Itoa(in.Port)
	return map[string]Fact{"url": {Value: scheme + "://127.0.0.1:" + port}, "host": {Value: "127.0.0.1"}, "port": {Value: port}}
}
