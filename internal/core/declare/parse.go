package declare

import (
	"errors"
	"fmt"
	"net"
	"path/filepath"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"neighbour/internal/core/plan"
)

// DefaultKind is the kind of a service that names none.
const DefaultKind = "program"

// signals are those that a service can be asked to end with.
var signals = []string{"TERM", "INT", "QUIT", "HUP", "USR1", "USR2", "KILL"}

// Parse reads and checks a declaration; file is its path. What is wrong with
// the contents comes back as Problems, all at once; only a syntax error
// stands alone.
func Parse(src []byte, file string, kinds Catalogue) (*Declaration, error) {
	abs, err := filepath.Abs(file)
	if err != nil {
		return nil, err
	}
	d := &decoder{file: filepath.Base(file), lines: strings.Split(string(src), "\n")}
	root, syntax := parseTree(src)
	if syntax != nil {
		d.report("", syntax.at, 1, "this is not TOML: "+syntax.message, "the file's format is described at https://toml.io")
		return nil, d.problems
	}
	c := &checker{decoder: d, kinds: kinds, decl: &Declaration{File: abs, Dir: filepath.Dir(abs)}}
	c.read(root)
	c.checkServices()
	if len(d.problems) > 0 {
		d.problems.sort()
		return nil, d.problems
	}
	return c.decl, nil
}

type checker struct {
	*decoder
	kinds Catalogue
	decl  *Declaration
	nodes map[string]*node // the services' tables
}

func (c *checker) read(root *node) {
	var top struct {
		Project struct {
			Name Word `toml:"name"`
		} `toml:"project"`
	}
	_, known := fields(&top)
	known = append(known, "service")
	c.nodes = map[string]*node{}
	for _, key := range root.order {
		n := root.table[key]
		switch key {
		case "project":
			c.table("project", n, &top.Project)
		case "service":
			c.readServices(n)
		default:
			c.unknown(key, key, n, known)
		}
	}
	name := top.Project.Name
	c.decl.Name = name.Value
	if name.Value == "" {
		c.decl.Name = strings.ToLower(filepath.Base(c.decl.Dir))
	} else if !serviceName.MatchString(name.Value) {
		c.report("project.name", name.At, name.width, fmt.Sprintf("%q can't be a project's name", name.Value), "use a-z, 0-9, - and _, beginning with a letter, at most 40 characters")
	}
	if len(c.nodes) == 0 && len(c.problems) == 0 {
		c.report("", Position{}, 0, "declares no service", "add one, for example:\n\n    [service.api]\n    run = \"node server.js\"")
	}
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
			c.report(path, table.keyAt, table.keyLen, fmt.Sprintf("%q can't be a service's name", name), "use a-z, 0-9, - and _, beginning with a letter, at most 40 characters")
		} else if name == "env" || name == "project" {
			c.report(path, table.keyAt, table.keyLen, fmt.Sprintf("%q can't be a service's name: references use it", name), "choose another name")
		}
		s := &Service{Name: name, At: table.keyAt, Kind: DefaultKind}
		c.decl.Services = append(c.decl.Services, s)
		c.nodes[name] = table
		if table.kind != tableNode {
			c.mistyped(path, table, "a table", "[service."+name+"]")
			continue
		}
		if k, ok := table.table["kind"]; ok {
			c.value(join(path, "kind"), k, reflect.ValueOf(s).Elem().FieldByName("Kind"))
		}
		info, ok := c.kinds.Describe(s.Kind)
		if !ok {
			c.unknownKind(path, s, table)
			continue
		}
		s.Settings = info.Settings()
		c.table(path, table, s, s.Settings)
	}
	slices.SortFunc(c.decl.Services, func(a, b *Service) int { return strings.Compare(a.Name, b.Name) })
}

func (c *checker) unknownKind(path string, s *Service, table *node) {
	k := table.table["kind"]
	if k.kind != stringNode {
		return
	}
	remedy := "known kinds: " + list(c.kinds.Kinds())
	if near := Nearest(s.Kind, c.kinds.Kinds()); near != "" {
		remedy = fmt.Sprintf("did you mean %q?", near)
	}
	c.report(join(path, "kind"), k.at, k.width, fmt.Sprintf("there is no kind %q", s.Kind), remedy)
	// Its other keys can't be judged, but references and needs can.
	known, _ := fields(s)
	for _, key := range table.order {
		if field, ok := known[key]; ok && key != "kind" {
			c.value(join(path, key), table.table[key], field)
		}
	}
}

// at finds where a key of a service stands: the key itself, or the service.
func (c *checker) at(s *Service, key string) (Position, int) {
	n := c.nodes[s.Name]
	for _, k := range strings.Split(key, ".") {
		if n.table[k] == nil {
			break
		}
		n = n.table[k]
	}
	if n.width > 0 {
		return n.at, n.width
	}
	return n.keyAt, n.keyLen
}

func (c *checker) reportKey(s *Service, key, message, remedy string) {
	at, width := c.at(s, key)
	path := join("service", s.Name)
	if key != "" {
		path = join(path, key)
	}
	c.report(path, at, width, message, remedy)
}

func (c *checker) checkServices() {
	ports := map[int]string{}
	graph := plan.Graph{}
	where := map[[2]string]Word{} // the place that makes one service need another
	for _, s := range c.decl.Services {
		graph[s.Name] = nil
	}
	for _, s := range c.decl.Services {
		c.checkKeys(s)
		if s.Port != 0 {
			if other, taken := ports[s.Port]; taken {
				c.reportKey(s, "port", fmt.Sprintf("%s has port %d already", other, s.Port), "give one of them another port, or leave it out for any free one")
			}
			ports[s.Port] = s.Name
		}
		for _, need := range c.needs(s) {
			if need.Value == s.Name {
				c.report(join("service", s.Name+".needs"), need.At, need.width, "a service can't need itself", "remove it")
				continue
			}
			s.Needs = append(s.Needs, need.Value)
			if _, seen := where[[2]string{s.Name, need.Value}]; !seen {
				where[[2]string{s.Name, need.Value}] = need
			}
		}
		slices.Sort(s.Needs)
		s.Needs = slices.Compact(s.Needs)
		graph[s.Name] = s.Needs
	}
	p, err := plan.New(graph)
	var cycle *plan.CycleError
	if errors.As(err, &cycle) {
		names := cycle.Cycle
		var links []string
		for i := range len(names) - 1 {
			w := where[[2]string{names[i], names[i+1]}]
			links = append(links, fmt.Sprintf("line %d makes %s need %s", w.At.Line, names[i], names[i+1]))
		}
		w := where[[2]string{names[0], names[1]}]
		c.report(join("service", names[0]), w.At, w.width, err.Error(), "remove one of these: "+strings.Join(links, "; "))
	}
	c.decl.Plan = p
}

func (c *checker) checkKeys(s *Service) {
	info, known := c.kinds.Describe(s.Kind)
	if !known {
		return
	}
	if n := c.nodes[s.Name].table["port"]; n != nil && n.kind == integerNode && (s.Port < 1 || s.Port > 65535) {
		c.reportKey(s, "port", fmt.Sprintf("%d is not a port", s.Port), "write a number from 1 to 65535, or leave it out for any free port")
	}
	for name := range s.Env {
		if !environmentName.MatchString(name) {
			c.reportKey(s, "env."+name, fmt.Sprintf("%q can't be a variable's name", name), "use letters, digits and _, not beginning with a digit")
		}
	}
	if !slices.Contains([]string{"", "crash", "always", "never"}, s.Restart.When) {
		c.reportKey(s, "restart.when", fmt.Sprintf("%q is not known", s.Restart.When), `write "crash", "always" or "never"`)
	}
	if s.Restart.Most < 0 {
		c.reportKey(s, "restart.most", "must not be negative", `to restart never, write when = "never"`)
	}
	if s.Stop.Signal != "" {
		s.Stop.Signal = strings.TrimPrefix(s.Stop.Signal, "SIG")
		if !slices.Contains(signals, s.Stop.Signal) {
			c.reportKey(s, "stop.signal", fmt.Sprintf("%q is not a signal to stop with", s.Stop.Signal), "write one of "+strings.Join(signals, ", "))
		}
	}
	if m, ok := s.Settings.(MainProgram); ok {
		c.checkDir(s, m.WorkingDir())
	}
	if ch, ok := s.Settings.(Checker); ok {
		ch.Check(func(key, message, remedy string) { c.reportKey(s, key, message, remedy) })
	}
	s.Listens = s.Listens || info.Listens || s.Port != 0 || s.Health != nil && strings.HasPrefix(s.Health.HTTP.Value, "/")
	if info.Elsewhere && (!s.Health.declared() || s.Health.Log.Regexp != nil) {
		c.reportKey(s, "health", "what runs elsewhere is only checked, and no check is declared", `add health = { tcp = "127.0.0.1:7070" }, or one with http or run`)
	}
	c.checkHealth(s)
}

func (c *checker) checkDir(s *Service, dir string) {
	if dir == "" || filepath.IsAbs(dir) || filepath.IsLocal(dir) {
		return
	}
	c.reportKey(s, "dir", fmt.Sprintf("%q leaves the project, and a program writes where it runs", dir), "move the declaration to a folder that holds both, or write the whole path if it is meant")
}

func (c *checker) checkHealth(s *Service) {
	h := s.Health
	if h == nil {
		return
	}
	var set []string
	for key, on := range map[string]bool{"http": h.HTTP.Value != "", "tcp": h.TCP.Value != "", "run": !h.Run.IsZero(), "log": h.Log.Regexp != nil} {
		if on {
			set = append(set, key)
		}
	}
	slices.Sort(set)
	if len(set) > 1 {
		c.reportKey(s, "health", "has more than one check: "+strings.Join(set, " and "), "keep the one that tells best when the service is ready")
	}
	if h.HTTP.Value == "" {
		for key, given := range map[string]bool{"status": h.Status != 0, "header": len(h.Header) > 0, "body": h.Body != ""} {
			if given {
				c.reportKey(s, "health."+key, "belongs to an http check", `add http = "/path" or remove it`)
			}
		}
	}
	if h.HTTP.Value != "" && !strings.HasPrefix(h.HTTP.Value, "/") && !strings.HasPrefix(h.HTTP.Value, "http://") && !strings.HasPrefix(h.HTTP.Value, "https://") && !strings.HasPrefix(h.HTTP.Value, "${") {
		c.reportKey(s, "health.http", fmt.Sprintf("%q is neither a path nor an address", h.HTTP.Value), `write a path that begins with /, or an address that begins with http://`)
	}
	if h.TCP.Value != "" && !strings.Contains(h.TCP.Value, "${") {
		_, port, err := net.SplitHostPort(h.TCP.Value)
		if n, e := strconv.Atoi(port); err != nil || e != nil || n < 1 || n > 65535 {
			c.reportKey(s, "health.tcp", fmt.Sprintf("%q is not a host and a port", h.TCP.Value), `write for example "127.0.0.1:7070"`)
		}
	}
	if h.Status != 0 && (h.Status < 100 || h.Status > 599) {
		c.reportKey(s, "health.status", fmt.Sprintf("%d is not a status code of HTTP", h.Status), "write a number from 100 to 599")
	}
	if h.Fails < 0 {
		c.reportKey(s, "health.fails", "must not be negative", "write how many checks in a row must fail, for example 3")
	}
}

// needs lists what a service needs, written or referred to, and reports the
// names and facts that don't exist.
func (c *checker) needs(s *Service) []Word {
	var needs []Word
	add := func(key, name string, at Position, width int) bool {
		if c.decl.Service(name) == nil {
			remedy := "declared: " + list(c.decl.Names())
			if near := Nearest(name, c.decl.Names()); near != "" {
				remedy = fmt.Sprintf("did you mean %q?", near)
			}
			c.report(key, at, width, fmt.Sprintf("there is no service %q", name), remedy)
			return false
		}
		return true
	}
	for _, w := range s.Written {
		key := join("service", s.Name+".needs")
		name := serviceNameOf(w.Value)
		if add(key, name, w.At, w.width) {
			needs = append(needs, Word{name, w.At, w.width})
		}
	}
	visit := func(key string, t Text) {
		if name := serviceNameOf(t.Value); name != t.Value && c.isServiceKey(s, key) {
			if add(key, name, t.At, t.width) {
				c.checkExpected(s, key, name, t)
				needs = append(needs, Word{name, t.At, t.width})
			}
			return
		}
		parts, errs := Parts(t.Value)
		for _, e := range errs {
			c.report(key, columnIn(t, e.Offset), e.Width, e.Message, e.Remedy)
		}
		for _, p := range parts {
			r := p.Reference
			if r == nil || r.Service == "" {
				continue
			}
			at, width := columnIn(t, r.Offset), len(r.Source)
			if !add(key, r.Service, at, width) {
				continue
			}
			c.checkFact(key, r, at, width)
			if r.Service != s.Name { // its own facts are known before it starts
				needs = append(needs, Word{r.Service, at, width})
			}
		}
	}
	texts(join("service", s.Name), reflect.ValueOf(s), visit)
	texts(join("service", s.Name), reflect.ValueOf(s.Settings), visit)
	slices.SortStableFunc(needs, func(a, b Word) int { return a.At.Line - b.At.Line })
	return needs
}

func (c *checker) checkFact(key string, r *Reference, at Position, width int) {
	target := c.decl.Service(r.Service)
	info, ok := c.kinds.Describe(target.Kind)
	if !ok {
		return
	}
	if slices.Contains(info.Facts, r.Fact) {
		target.Listens = true
		return
	}
	remedy := fmt.Sprintf("a service of kind %s offers: %s", target.Kind, list(info.Facts))
	if near := Nearest(r.Fact, info.Facts); near != "" {
		remedy = fmt.Sprintf("did you mean ${%s.%s}?", r.Service, near)
	}
	c.report(key, at, width, fmt.Sprintf("%s offers no fact %q", r.Service, r.Fact), remedy)
}

// Expecter is implemented by settings with keys that name a service, to say
// of which kind it must be: by key, "" for any.
type Expecter interface {
	ServiceKeys() map[string]string
}

func (c *checker) serviceKeys(s *Service) map[string]string {
	if e, ok := s.Settings.(Expecter); ok {
		return e.ServiceKeys()
	}
	return nil
}

// isServiceKey says whether the key, with its whole path, names a service.
func (c *checker) isServiceKey(s *Service, path string) bool {
	_, ok := c.serviceKeys(s)[strings.TrimPrefix(path, join("service", s.Name)+".")]
	return ok
}

// checkExpected reports a service of another kind than the key wants.
func (c *checker) checkExpected(s *Service, path, name string, t Text) {
	want := c.serviceKeys(s)[strings.TrimPrefix(path, join("service", s.Name)+".")]
	if got := c.decl.Service(name).Kind; want != "" && got != want {
		c.report(path, t.At, t.width, fmt.Sprintf("%s is a service of kind %s, and this needs one of kind %s", name, got, want), "name a service of kind "+want)
	}
	c.decl.Service(name).Listens = true
}
