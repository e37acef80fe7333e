package declare

import (
	"fmt"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
)

// DefaultKind is the kind of a service that names none.
const DefaultKind = "program"

// signals are those that a service can be asked to end with.
var signals = []string{"TERM", "INT", "QUIT", "HUP", "USR1", "USR2", "KILL"}

// Parse reads and checks a declaration that consists of one file; file is its
// path. What is wrong with the contents comes back as Problems, all at once;
// only a syntax error stands alone.
func Parse(src []byte, file string, kinds Catalogue) (*Declaration, error) {
	return Files{Path: file, Main: src}.Parse(kinds)
}

// Parse reads and checks the files. The kinds that they declare are added to
// those of the catalogue.
func (f Files) Parse(kinds Catalogue) (*Declaration, error) {
	path, err := filepath.Abs(f.Path)
	if err != nil {
		return nil, err
	}
	lines := map[string][]string{}
	var problems Problems
	tree := func(name string, src []byte) *node {
		lines[name] = strings.Split(string(src), "\n")
		root, syntax := parseTree(src, name)
		if syntax != nil {
			d := &decoder{file: name, lines: lines}
			d.report("", syntax.at, 1, "this is not TOML: "+syntax.message, "the file's format is described at https://toml.io")
			problems = append(problems, d.problems...)
			return &node{kind: tableNode, table: map[string]*node{}}
		}
		return root
	}
	root := tree(filepath.Base(path), f.Main)
	if f.Local != nil {
		root.overlay(tree(LocalFileName, f.Local))
	}
	var own *node // the user's own kinds
	if f.Kinds != nil {
		own = tree(f.KindsPath, f.Kinds)
	}
	if len(problems) > 0 {
		return nil, problems
	}
	profiles, order := profilesOf(root)
	check := func(root *node) *checker {
		c := &checker{kinds: kinds, decl: &Declaration{File: path, Dir: filepath.Dir(path), Profiles: order, Profile: f.Profile},
			decoder: &decoder{file: filepath.Base(path), lines: lines}}
		c.readKinds(own, root.table["kind"])
		c.read(root)
		c.checkServices()
		return c
	}
	plain := check(root)
	problems = plain.problems
	chosen := plain
	for _, name := range order {
		with := root.clone()
		with.overlay(profiles[name])
		c := check(with)
		problems = append(problems, c.ofProfile(name, profiles[name], plain.problems)...)
		if name == f.Profile {
			chosen = c
		}
	}
	if len(problems) > 0 {
		problems.sort()
		return nil, problems
	}
	if f.Profile != "" && chosen == plain {
		return nil, &UnknownProfileError{Name: f.Profile, Nearest: Nearest(f.Profile, order), Known: order}
	}
	return chosen.decl, nil
}

// profilesOf finds the tables [profile.NAME], sorted by name. What else is
// wrong there is found by the checker.
func profilesOf(root *node) (map[string]*node, []string) {
	profiles := map[string]*node{}
	var order []string
	if n := root.table["profile"]; n != nil && n.kind == tableNode {
		for _, name := range n.order {
			if p := n.table[name]; p.kind == tableNode {
				profiles[name], order = p, append(order, name)
			}
		}
	}
	slices.Sort(order)
	return profiles, order
}

// overlay lays a file or profile over a declaration. A service that gets
// another kind is declared anew, since the keys of the one before mean
// nothing to it; and so is a check that is of another sort.
func (n *node) overlay(over *node) {
	for name, theirs := range over.members("service") {
		mine := n.members("service")[name]
		if mine == nil || mine.kind != tableNode || theirs.kind != tableNode {
			continue
		}
		mine.table["health"] = mine.table["health"].without(theirs.table["health"])
		if mine.table["health"] == nil {
			delete(mine.table, "health")
		}
		if k := theirs.table["kind"]; k != nil && (mine.table["kind"] == nil || mine.table["kind"].value != k.value) {
			kept := &node{kind: tableNode, keyAt: mine.keyAt, keyLen: mine.keyLen, at: mine.at, table: map[string]*node{}}
			for _, key := range []string{"env", "needs", "optional"} {
				if c := mine.table[key]; c != nil {
					kept.put(key, c)
				}
			}
			n.table["service"].table[name] = kept
		}
	}
	n.merge(over)
}

// members returns the entries of a table in a table; nil if there is none.
func (n *node) members(key string) map[string]*node {
	if c := n.table[key]; c != nil && c.kind == tableNode {
		return c.table
	}
	return nil
}

// checkKeys are the keys of a health table that say what is checked.
var checkKeys = []string{"http", "status", "header", "body", "tcp", "run", "log"}

// without leaves out what is checked where another says so itself.
func (n *node) without(over *node) *node {
	if n == nil || over == nil || n.kind != tableNode || over.kind != tableNode ||
		!slices.ContainsFunc([]string{"http", "tcp", "run", "log"}, func(key string) bool { return over.table[key] != nil && n.table[key] == nil }) {
		return n
	}
	c := n.clone()
	c.order = slices.DeleteFunc(c.order, func(key string) bool { return slices.Contains(checkKeys, key) })
	for _, key := range checkKeys {
		delete(c.table, key)
	}
	return c
}

type checker struct {
	*decoder
	kinds Catalogue
	decl  *Declaration
	nodes map[string]*node // the services' tables
}

// ofProfile returns the problems that are there only with a profile.
func (c *checker) ofProfile(name string, tree *node, plain Problems) Problems {
	lines := map[Position]bool{}
	tree.lines(lines)
	var own Problems
	for _, p := range c.problems {
		if slices.ContainsFunc(plain, func(q Problem) bool { return q.Position == p.Position && q.Message == p.Message }) {
			continue
		}
		if lines[Position{p.Position.File, p.Position.Line, 0}] {
			p.Key = join("profile."+name, p.Key)
		} else {
			p.Message += " (with the profile " + name + ")"
		}
		own = append(own, p)
	}
	return own
}

// describe tells about a kind: a declared one, or one of the catalogue.
func (c *checker) describe(name string) (KindInfo, bool) {
	if k := c.decl.CustomKind(name); k != nil {
		return k.info(), true
	}
	return c.kinds.Describe(name)
}

func (c *checker) kindNames() []string {
	names := c.kinds.Kinds()
	for _, k := range c.decl.Kinds {
		names = append(names, k.Name)
	}
	return names
}

func (c *checker) read(root *node) {
	var top struct {
		Project struct {
			Name    Word   `toml:"name"`
			Offline bool   `toml:"offline"`
			Outside []Word `toml:"outside"`
		} `toml:"project"`
	}
	known := []string{"project", "service", "errand", "trigger", "env", "gate", "snapshots", "profile", "kind"}
	c.nodes = map[string]*node{}
	for _, key := range root.order {
		n := root.table[key]
		switch key {
		case "project":
			c.table("project", n, &top.Project)
		case "service":
			n = n.clone() // the profiles are laid over what is written
			n.inherit(n)
			c.readServices(n)
		case "errand":
			n = n.clone()
			n.inherit(root.table["service"])
			c.readErrands(n)
		case "trigger":
			c.readTriggers(n)
		case "env":
			c.decl.EnvFile = &EnvFile{}
			c.decl.EnvFile.At = n.keyAt
			c.table("env", n, c.decl.EnvFile)
		case "gate":
			c.decl.Gate = &Gate{At: n.keyAt}
			c.table("gate", n, c.decl.Gate)
		case "snapshots":
			c.decl.Snapshots = &Snapshots{At: n.keyAt}
			c.table("snapshots", n, c.decl.Snapshots)
		case "profile":
			c.readProfiles(n)
		case "kind": // read before
		default:
			c.unknown(key, key, n, known)
		}
	}
	name := top.Project.Name
	c.decl.Name = name.Value
	if name.Value == "" {
		c.decl.Name = strings.ToLower(filepath.Base(c.decl.Dir))
	} else if !serviceName.MatchString(name.Value) {
		c.report("project.name", name.At, name.width, fmt.Sprintf("%q can't be a project's name", name.Value), nameRule)
	}
	c.decl.Offline, c.decl.Outside = top.Project.Offline, top.Project.Outside
	for i, w := range c.decl.Outside {
		key := fmt.Sprintf("project.outside[%d]", i)
		service, variable, ok := strings.Cut(w.Value, ".")
		if !ok || variable == "" {
			c.report(key, w.At, w.width, fmt.Sprintf("%q names no variable of a service", w.Value), `write for example "api.PAYMENTS_URL"`)
		} else if service == "trigger" && c.decl.Trigger(variable) != nil {
			continue
		} else if c.nodes[service] == nil {
			c.report(key, w.At, w.width, fmt.Sprintf("there is no service %q", service), "")
		}
	}
	if len(c.nodes) == 0 && len(c.problems) == 0 {
		c.report("", Position{}, 0, "declares no service", "add one, for example:\n\n    [service.api]\n    run = \"node server.js\"")
	}
}

// CommandNames are the program's own commands, among them those with which it starts itself. No
// errand has such a name, since an errand can be called like a command.
var CommandNames = []string{"__complete", "__completeNoDesc", "apply", "ask", "call", "check", "completion", "console", "data", "demo", "draw", "dump", "emulate", "env", "errands", "gate", "gate-process",
	"help", "init", "keep", "load", "login", "logs", "migrations", "open", "operations", "projects", "purge", "reset", "rest", "restart", "run", "schema", "sendmail", "shell", "snapshot", "start", "starts",
	"status", "stop", "token", "toolshed", "traffic", "trigger", "trust", "version", "vouch"}

const nameRule = "use a-z, 0-9, - and _, beginning with a letter, at most 40 characters"

// each visits the tables of a table of tables, such as [errand.NAME].
func (c *checker) each(what, example string, n *node, visit func(name, path string, table *node)) {
	if n.kind != tableNode {
		c.mistyped(what, n, "tables", example)
		return
	}
	for _, name := range n.order {
		table, path := n.table[name], join(what, name)
		if !serviceName.MatchString(name) {
			c.report(path, table.keyAt, table.keyLen, fmt.Sprintf("%q can't be a name here", name), nameRule)
		}
		if table.kind != tableNode {
			c.mistyped(path, table, "a table", strings.ReplaceAll(example, "NAME", name))
			continue
		}
		visit(name, path, table)
	}
}

func (c *checker) readProfiles(n *node) {
	c.each("profile", "[profile.NAME]", n, func(_, path string, table *node) {
		for _, key := range table.order {
			if known := []string{"service", "errand", "trigger", "env", "gate"}; !slices.Contains(known, key) {
				c.unknown(join(path, key), key, table.table[key], known)
			}
		}
	})
}

func (c *checker) readErrands(n *node) {
	c.each("errand", "[errand.NAME]", n, func(name, path string, table *node) {
		e := &Errand{Name: name, At: table.keyAt}
		c.decl.Errands = append(c.decl.Errands, e)
		if slices.Contains(CommandNames, name) {
			c.report(path, table.keyAt, table.keyLen, fmt.Sprintf("%q can't be an errand's name: neighbour has a command of that name", name), "choose another name")
		}
		c.table(path, table, e)
		if e.Run.IsZero() && table.table["run"] == nil {
			c.report(path, table.keyAt, table.keyLen, "an errand needs a command", `add run = "node scripts/overdue.js"`)
		}
	})
}

func (c *checker) readServices(n *node) {
	if n.kind != tableNode {
		c.mistyped("service", n, "tables, one for each service", "[service.api]")
		return
	}
	for _, name := range n.order {
		table := n.table[name]
		path := join("service", name)
		if !serviceName.MatchString(name) {
			c.report(path, table.keyAt, table.keyLen, fmt.Sprintf("%q can't be a service's name", name), nameRule)
		} else if slices.Contains([]string{"copy", "env", "project", "self"}, name) {
			c.report(path, table.keyAt, table.keyLen, fmt.Sprintf("%q can't be a service's name: references use it", name), "choose another name")
		}
		s := &Service{Name: name, At: table.keyAt, Kind: DefaultKind, node: table}
		c.decl.Services = append(c.decl.Services, s)
		c.nodes[name] = table
		if table.kind != tableNode {
			c.mistyped(path, table, "a table", "[service."+name+"]")
			continue
		}
		if k, ok := table.table["kind"]; ok {
			c.value(join(path, "kind"), k, reflect.ValueOf(s).Elem().FieldByName("Kind"))
		}
		info, ok := c.describe(s.Kind)
		if !ok {
			c.unknownKind(path, s, table)
			continue
		}
		s.Settings = info.Settings()
		c.table(path, table, s, s.Settings)
		s.Listens = table.table["port"].isText("any")
		if k := c.decl.CustomKind(s.Kind); k != nil {
			k.complete(s)
		}
	}
	slices.SortFunc(c.decl.Services, func(a, b *Service) int { return strings.Compare(a.Name, b.Name) })
}

// inherit gives each table the env of the service that its env_of names, under
// its own env, and that one's in turn. Names that aren't there, and circles,
// are left to the checker.
func (n *node) inherit(services *node) {
	if n.kind != tableNode || services == nil || services.kind != tableNode {
		return
	}
	for _, t := range n.table {
		seen := map[*node]bool{}
		for from := t.env(services); from != nil && !seen[from]; from = from.env(services) {
			seen[from] = true
			env := from.table["env"]
			if env == nil || env.kind != tableNode {
				continue
			}
			env = env.clone()
			own := t.table["env"]
			switch {
			case own == nil:
				t.put("env", env)
			case own.kind == tableNode:
				env.at, env.keyAt, env.keyLen = own.at, own.keyAt, own.keyLen
				env.merge(own)
				t.table["env"] = env
			}
		}
	}
}

// env returns the service that a table's env_of names, nil if there is none.
func (n *node) env(services *node) *node {
	if n.kind != tableNode {
		return nil
	}
	of := n.table["env_of"]
	if of == nil || of.kind != stringNode {
		return nil
	}
	s := services.table[serviceNameOf(of.value.(string))]
	if s == nil || s.kind != tableNode || s == n {
		return nil
	}
	return s
}

// otherWords are what people write for a kind, with what to write instead: protocols, other servers
// that speak them, and what has no kind.
var otherWords = func() map[string]string {
	out := map[string]string{}
	for kind, words := range map[string][]string{
		"documents": {"mongodb", "mongo"}, "objects": {"s3", "bucket", "blob", "storage"}, "identity": {"oidc", "oauth", "oauth2", "openid", "sso"},
		"mail": {"smtp", "email", "imap"}, "functions": {"lambda", "function", "faas"}, "stub": {"openapi", "swagger", "mock"}, "redis": {"valkey", "keydb"},
		"postgres": {"postgresql", "pg", "psql"}, "rabbitmq": {"amqp", "rabbit"}, "mqtt": {"mosquitto"}, "sqlite": {"sqlite3"}, "apache": {"httpd", "apache2"}, "php": {"php-fpm", "fpm"},
		"memcached": {"memcache"}, "static": {"files", "html"}, "outside": {"external", "remote"},
	} {
		for _, w := range words {
			out[w] = fmt.Sprintf("write kind = %q", kind)
		}
	}
	for _, w := range []string{"node", "nodejs", "python", "go", "java", "ruby", "deno", "app", "command", "process"} {
		out[w] = "leave kind out, and write run: what you run yourself is a program"
	}
	for _, w := range []string{"kafka", "elasticsearch", "opensearch", "cassandra", "clickhouse", "neo4j", "mssql", "sqlserver", "oracle", "pulsar"} {
		out[w] = "no kind speaks that; declare how it is run as a kind of your own, [kind." + w + "], or kind = \"outside\" for one that runs elsewhere"
	}
	return out
}

func (c *checker) unknownKind(path string, s *Service, table *node) {
	k := table.table["kind"]
	if k.kind != stringNode {
		return
	}
	remedy := "known kinds: " + list(c.kindNames())
	if near := Nearest(s.Kind, c.kindNames()); near != "" {
		remedy = fmt.Sprintf("did you mean %q?", near)
	}
	if meant, known := otherWords()[strings.ToLower(s.Kind)]; known {
		remedy = meant
	}
	c.report(join(path, "kind"), k.at, k.width, fmt.Sprintf("there is no kind %q", s.Kind), remedy)
	// Its other keys can't be judged, but references and needs can.
	known, _ := fields(s)
	for _, key := range table.order {
		if field, ok := known[key]; ok && key != "kind" {
			c.value(join(path, key), table.table[key], field.Value)
		}
	}
}
