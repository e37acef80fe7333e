package discover

import (
	"cmp"
	"fmt"
	"net/url"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"neighbour/internal/core/declaration/wire"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/lazyregexp"
	"neighbour/internal/core/machine/words"
)

// sharedEnvFiles are the names of env files that teammates share, and envFiles those of all.
var (
	sharedEnvFiles = []string{".env.example", ".env.sample", ".env.template", ".env.dist", ".env.defaults"}
	envFiles       = append(slices.Clone(sharedEnvFiles), ".env", ".env.local", ".env.development", ".env.development.local", ".env.test")
)

func (r *reader) readEnvFiles(folder string) {
	for _, name := range envFiles {
		file := filepath.Join(folder, name)
		text := r.read(file)
		entries, problems := wire.ParseEnvFile(text)
		for _, p := range problems {
			r.note(file, p.Line, p.Message)
		}
		for _, e := range entries {
			r.wanted = append(r.wanted, wanted{name: e.Name, value: e.Value, file: file, line: e.Line, folder: folder})
		}
	}
}

// wire finds out which server each variable leads to, and gives it to the
// programs that read it.
func (r *reader) wire() {
	r.ports()
	r.guessSQL()
	r.besideAddresses()
	for _, w := range r.wanted {
		switch {
		case w.value == "" && w.by == nil && !strings.HasSuffix(w.name, "_URL"):
			r.splitVariable(w)
		case strings.Contains(w.value, "://"):
			r.address(w)
		case w.by != nil:
			r.readBySource(w)
		default:
			r.splitVariable(w)
		}
	}
	r.common()
	r.unwired()
}

// guessSQL finds the kind of database where variables only speak of "DB".
func (r *reader) guessSQL() {
	for _, w := range r.wanted {
		prefix, _, _ := strings.Cut(w.name, "_")
		if kind.OfWord(prefix) != kind.AnySQL {
			continue
		}
		word := strings.ToLower(w.value)
		switch {
		case strings.HasSuffix(w.name, "_PORT") && kindOfPort(w.value) != "":
			r.sql = cmp.Or(r.sql, kindOfPort(w.value))
		case !strings.HasSuffix(w.name, "_CONNECTION") && !strings.HasSuffix(w.name, "_DRIVER") && !strings.HasSuffix(w.name, "_CLIENT") && !strings.HasSuffix(w.name, "_ENGINE") && !strings.HasSuffix(w.name, "_TYPE"):
		case strings.Contains(word, "pg") || strings.Contains(word, "postgres"):
			r.sql = "postgres"
		case strings.Contains(word, "mysql") || strings.Contains(word, "maria"):
			r.sql = "mariadb"
		}
	}
}

// kindOfPort returns the kind that usually has a port, written as a text.
func kindOfPort(port string) string {
	n, err := strconv.Atoi(port)
	if err != nil {
		return ""
	}
	return kind.OfPort(n)
}

// ports gives programs the port of their own env file.
func (r *reader) ports() {
	for _, w := range r.wanted {
		if w.by != nil || w.name != "PORT" && w.name != "APP_PORT" && w.name != "SERVER_PORT" {
			continue
		}
		for _, s := range r.programs(w) {
			if len(r.programs(w)) == 1 {
				s.setPort(w.value, w.finding("is %s", w.value))
			}
		}
	}
}

// programs returns those that a variable is for: the program whose source reads
// it, those in its folder, or all if it is the project's.
func (r *reader) programs(w wanted) []*Service {
	if w.by != nil {
		return []*Service{w.by}
	}
	var out []*Service
	for _, s := range r.p.Services {
		if (s.Kind == "program" || s.Kind == "php") && (w.folder == "." || s.folder == w.folder) {
			out = append(out, s)
		}
	}
	return out
}

// give gives a variable to the programs that it is for. Of the project's
// variables each gets what its packages are clients of.
func (r *reader) give(w wanted, target *Service, value string) {
	if !variableName.MatchString(w.name) {
		return
	}
	programs := r.programs(w)
	if w.by == nil && w.folder == "." && r.servers[target.Kind] == target {
		programs = slices.DeleteFunc(programs, func(s *Service) bool { return s.page })
		client := func(s *Service) bool { return slices.Contains(r.clients[s.folder], target.Kind) }
		if slices.ContainsFunc(programs, client) {
			programs = slices.DeleteFunc(programs, func(s *Service) bool { return !client(s) })
		}
	}
	for _, s := range programs {
		switch {
		case s == target || s.has(w.name):
		case target.leadsTo(s):
			r.note(w.file, w.line, fmt.Sprintf("%s would make %s and %s need each other, so %s is left as it is", w.name, s.Name, target.Name, w.name))
		default:
			s.Env = append(s.Env, Variable{w.name, value, target})
		}
	}
}

// leadsTo reports whether a service needs another, perhaps through others.
func (s *Service) leadsTo(other *Service) bool {
	return slices.ContainsFunc(s.Env, func(v Variable) bool { return v.Target == other || v.Target.leadsTo(other) }) ||
		slices.ContainsFunc(s.Links, func(l Link) bool { return l.Key != "env_of" && (l.Target == other || l.Target.leadsTo(other)) })
}

var variableName = lazyregexp.New(`^[A-Za-z_][A-Za-z0-9_]*$`)

// address reads a variable that holds an address.
func (r *reader) address(w wanted) {
	u, err := url.Parse(w.value)
	if err != nil {
		r.note(w.file, w.line, w.name+" holds an address that can't be read")
		return
	}
	kindName := kind.OfScheme(u.Scheme)
	switch {
	case kindName == "" && (u.Scheme == "http" || u.Scheme == "https"):
		r.page(w, u)
		return
	case kindName == "":
		if u.Scheme != "file" && u.Scheme != "sqlite" {
			r.note(w.file, w.line, fmt.Sprintf("%s holds an address of %s, which no kind of the catalogue is for", w.name, u.Scheme))
		}
		return
	case !wire.Local(u.Hostname()):
		r.note(w.file, w.line, fmt.Sprintf("%s points to %s, which is not on this machine; it is left as it is", w.name, u.Hostname()))
		return
	}
	where := u.Hostname()
	if p := u.Port(); p != "" {
		where += ":" + p
	}
	target := r.server(kindName, w.finding("points to %s on %s", kind.HintsOf(kindName).Title, where))
	database := strings.Trim(u.Path, "/")
	if kind.SQL(kindName) {
		target.database(database)
	}
	if !strings.HasSuffix(w.file, ".test") {
		r.give(w, target, addressOf(kindName, u, target, database))
	}
}

// databaseName is what is taken for a database's name; an env file may hold
// anything.
var databaseName = lazyregexp.New(`^[A-Za-z0-9_.-]{1,63}$`)

// hidden finds options that may be secret.
var hidden = lazyregexp.New(`(?i)pass|pwd|secret|token|key`)

// options are those of an address that can be taken over.
var options = lazyregexp.New(`^[A-Za-z0-9_=&.,%+-]+$`)

func (s *Service) database(name string) {
	if databaseName.MatchString(name) && !slices.Contains(s.databases, name) {
		s.databases = append(s.databases, name)
	}
}

// addressOf returns a variable's value made of facts. The server's own address
// does where the app's has the same form.
func addressOf(kindName string, u *url.URL, target *Service, database string) string {
	h := kind.HintsOf(kindName)
	whole := "${@." + h.Address + "}"
	switch {
	case h.Address == "address":
		return u.Scheme + "://" + whole
	case h.SQL:
		first := len(target.databases) == 0 || target.databases[0] == database
		if first && u.RawQuery == "" && (u.Scheme == "postgres" || u.Scheme == "mysql") {
			return whole
		}
		if first || !databaseName.MatchString(database) {
			database = "${@.database}"
		}
		text := u.Scheme + "://${@.user}:${@.password}@${@.host}:${@.port}/" + database
		if options.MatchString(u.RawQuery) && !hidden.MatchString(u.RawQuery) {
			text += "?" + u.RawQuery
		}
		return text
	case kindName == "redis":
		if n := strings.Trim(u.Path, "/"); n != "" {
			if _, err := strconv.Atoi(n); err == nil {
				return whole + "/" + n
			}
		}
	}
	return whole
}

// page reads an address of the web: another program of the project, or
// something elsewhere.
func (r *reader) page(w wanted, u *url.URL) {
	if !wire.Local(u.Hostname()) || u.Port() == "" {
		return
	}
	for _, s := range r.p.Services {
		if strconv.Itoa(s.Port) == u.Port() && (s.Kind == "program" || s.Kind == "nginx") {
			r.give(w, s, "${@.url}"+strings.TrimSuffix(u.Path, "/"))
			return
		}
	}
	if h, path, ok := webServer(w.name, u); ok {
		r.give(w, r.server(h.Kind, w.finding("leads to %s on %s", h.Title, u.Host)), "${@."+h.Address+"}"+path)
		return
	}
	if !slices.Contains([]string{"APP_URL", "BASE_URL", "SITE_URL", "PUBLIC_URL"}, w.name) {
		r.note(w.file, w.line, fmt.Sprintf("%s points to port %s, where none of the programs that were found listens", w.name, u.Port()))
	}
}

// kindOfPrefix returns the kind that a prefix of split variables speaks of.
func (r *reader) kindOfPrefix(prefix string) string {
	words := strings.Split(prefix, "_")
	for _, word := range []string{prefix, words[0], words[len(words)-1]} {
		if kindName := kind.OfWord(word); kindName == kind.AnySQL {
			return r.sql
		} else if kindName != "" {
			return kindName
		}
		// These say what a server is for; which one it is, the packages say.
		for _, kindName := range kind.OfPurpose(word) {
			if r.servers[kindName] != nil {
				return kindName
			}
		}
	}
	return ""
}

// splitVariable reads one of several variables that lead to a server
// together, such as DB_HOST and DB_PORT.
func (r *reader) splitVariable(w wanted) {
	prefix, part, ok := wire.SplitName(w.name)
	kindName := ""
	if ok {
		kindName = r.kindOfPrefix(prefix)
	}
	if kindName == "" || strings.HasSuffix(w.file, ".test") {
		return
	}
	if part == "host" && !wire.Local(w.value) {
		r.note(w.file, w.line, fmt.Sprintf("%s points to %s, which is not on this machine; it is left as it is", w.name, w.value))
		return
	}
	if host, ok := r.sibling(w, prefix, "host"); ok && !wire.Local(host) || !slices.Contains(kind.HintsOf(kindName).Facts, part) {
		return
	}
	if part == "url" && w.value != "" { // not an address after all
		return
	}
	if part != "host" && part != "url" && r.servers[kindName] == nil {
		if _, ok := r.sibling(w, prefix, "host"); !ok {
			return // a name alone leads nowhere
		}
	}
	what := "leads to " + kind.HintsOf(kindName).Title
	if part == "host" && w.value != "" {
		what += " on " + w.value
	}
	target := r.server(kindName, w.finding("%s", what))
	if part == "database" && (kind.SQL(kindName)) {
		target.database(w.value)
	}
	r.give(w, target, "${@."+part+"}")
}

// sibling returns the value of another part of the same variables.
func (r *reader) sibling(w wanted, prefix, part string) (string, bool) {
	for _, other := range r.wanted {
		if p, got, ok := wire.SplitName(other.name); ok && p == prefix && got == part && other.file == w.file {
			return other.value, true
		}
	}
	return "", false
}

// readBySource gives a program what its source reads, where the name says
// what it is.
func (r *reader) readBySource(w wanted) {
	prefix, part, ok := wire.SplitName(w.name)
	if !ok || slices.ContainsFunc(r.wanted, func(other wanted) bool { return other.name == w.name && other.by == nil }) {
		return // an env file says more of it
	}
	kindName := r.kindOfPrefix(prefix)
	if kindName == "" && part == "url" {
		for _, s := range r.p.Services { // the address of another program
			if s.Kind == "program" && s != w.by && s.Name == strings.ToLower(prefix) {
				r.give(w, s, "${@.url}")
			}
		}
	}
	if kindName == "" || part != "url" && r.servers[kindName] == nil {
		return
	}
	value := "${@." + part + "}"
	if address := kind.HintsOf(kindName).Address; part == "url" && strings.HasSuffix(address, "_url") {
		part, value = address, "${@."+address+"}"
	}
	if !slices.Contains(kind.HintsOf(kindName).Facts, part) {
		return
	}
	r.give(w, r.server(kindName, w.finding("is read by the program")), value)
}

// common gives the programs the address of servers that no variable leads to.
func (r *reader) common() {
	for _, h := range kind.Hinting() {
		target, name := r.servers[h.Kind], h.Variable
		if target == nil || target.named {
			continue
		}
		used := false
		for _, s := range r.p.Services {
			for _, v := range s.Env {
				used = used || v.Target == target
				if v.Target == target && slices.ContainsFunc(h.ByLibrary, func(l [2]string) bool { return l[0] == v.Name }) {
					r.giveLibraries(s, target, h.ByLibrary) // one alone is of no use
					break
				}
			}
		}
		other := r.otherDatabase(target)
		switch {
		case name == "" || used:
		case other != nil:
			// A client library that nothing was set up for; the app may know both.
			target.On, target.Off = false, fmt.Sprintf("a package is a client of it, but the env files lead to %s", kind.HintsOf(other.Kind).Title)
			if other.Name != target.Name && strings.HasPrefix(other.Name, target.Name) {
				other.Name, target.Name = target.Name, other.Name
			}
		case len(h.ByLibrary) > 0 && !r.byFramework():
			for _, s := range r.programs(wanted{folder: "."}) {
				if !s.page && (len(r.clients) == 0 || slices.Contains(r.clients[s.folder], h.Kind)) {
					r.giveLibraries(s, target, h.ByLibrary)
				}
			}
			target.because(Finding{What: fmt.Sprintf("no file says what the app reads its address from; client libraries read %s and its like", h.ByLibrary[0][0])})
		default:
			r.give(wanted{name: name, folder: "."}, target, "${@."+h.Address+"}")
			target.because(Finding{What: fmt.Sprintf("no file says what the app reads its address from; %s is a common name", name)})
		}
	}
}

// otherDatabase returns a database of SQL that variables lead to, other than the one given; nil if
// there is none.
func (r *reader) otherDatabase(than *Service) *Service {
	if !kind.SQL(than.Kind) {
		return nil
	}
	for _, s := range r.p.Services {
		for _, v := range s.Env {
			if v.Target != than && kind.SQL(v.Target.Kind) {
				return v.Target
			}
		}
	}
	return nil
}

// giveLibraries gives a program the variables that client libraries read by themselves, but for
// those that it has.
func (r *reader) giveLibraries(s, target *Service, libraries [][2]string) {
	for _, l := range libraries {
		if !s.has(l[0]) {
			s.Env = append(s.Env, Variable{l[0], "${@." + l[1] + "}", target})
		}
	}
}

// byFramework reports whether a framework in Ruby reads the address of a database from the usual
// variable, though no file says so.
func (r *reader) byFramework() bool {
	return slices.ContainsFunc(r.p.Services, func(s *Service) bool { return r.has(filepath.Join(s.folder, "Gemfile")) })
}

// unwired lists the names of env files for teammates that no program gets from a service: the app
// must have them from elsewhere.
func (r *reader) unwired() {
	var file string
	var names []string
	tell := func() {
		if len(names) > 0 {
			r.note(file, 0, "not wired, since no service has them: "+words.Join(names))
		}
		names = nil
	}
	for _, w := range r.wanted {
		if w.by != nil || !slices.Contains(sharedEnvFiles, filepath.Base(w.file)) || w.name == "PORT" {
			continue
		}
		if w.file != file {
			tell()
			file = w.file
		}
		has := func(s *Service) bool { return s.has(w.name) }
		told := func(f Finding) bool { return f.File == w.file && strings.HasPrefix(f.What, w.name+" ") }
		if !slices.ContainsFunc(r.p.Services, has) && !slices.ContainsFunc(r.p.Notes, told) && !slices.Contains(names, w.name) {
			names = append(names, w.name)
		}
	}
	tell()
}
