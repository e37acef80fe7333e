package declare

import (
	"errors"
	"fmt"
	"net"
	"net/url"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"neighbour/internal/core/declaration/plan"
	"neighbour/internal/core/machine/localname"
)

// place is a table that is checked, with its full key.
type place struct {
	path string
	node *node
}

func placeOf(s *Service) place { return place{join("service", s.Name), s.node} }

// at finds where a key of the table stands, or an item of a list, "people[2].name": the key itself,
// or the table.
func (p place) at(key string) (Position, int) {
	n := p.node
	for _, k := range strings.Split(key, ".") {
		k, item, listed := strings.Cut(strings.TrimSuffix(k, "]"), "[")
		if n.table[k] == nil {
			break
		}
		n = n.table[k]
		if i, err := strconv.Atoi(item); listed && err == nil && i >= 0 && i < len(n.items) {
			n = n.items[i]
		}
	}
	if n.width > 0 {
		return n.at, n.width
	}
	return n.keyAt, n.keyLen
}

func (c *checker) reportKey(p place, key, message, remedy string) {
	at, width := p.at(key)
	path := p.path
	if key != "" {
		path = join(path, key)
	}
	c.report(path, at, width, message, remedy)
}

// told reports whether a problem with a key was told already.
func (c *checker) told(key string) bool {
	return slices.ContainsFunc(c.problems, func(p Problem) bool { return p.Key == key })
}

func (c *checker) checkServices() {
	ports := map[int]string{}
	graph := plan.Graph{}
	where := map[[2]string]Word{} // the place that makes one service need another
	for _, s := range c.decl.Services {
		graph[s.Name] = nil
	}
	for _, s := range c.decl.Services {
		s.Port = c.portOf(s)
	}
	for _, s := range c.decl.Services {
		p := placeOf(s)
		s.lines = c.lines
		c.checkKeys(s)
		c.checkEnvOf(join("service", s.Name), s.Name, s.EnvOf)
		if s.Port != 0 {
			if other, taken := ports[s.Port]; taken {
				c.reportKey(p, "port", fmt.Sprintf("%s has port %d already", other, s.Port), "give one of them another port, or leave it out for any free one")
			}
			ports[s.Port] = s.Name
		}
		for _, need := range c.needs(join("service", s.Name), s, s.Written, s, s.Settings) {
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
	c.checkErrands()
	c.checkTriggers()
	c.checkBefore(graph, where)
	if e := c.decl.EnvFile; e != nil {
		c.checkEnvFile(e)
		c.needs("env", nil, nil, e)
	}
	if s := c.decl.Snapshots; s != nil {
		c.checkSnapshots(s)
	}
	if g := c.decl.Gate; g != nil {
		c.checkGate(g)
		c.needs("gate", nil, nil, g)
	}
	order, err := plan.New(graph)
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
	c.decl.Plan = order
}

// portOf returns the port of a service: the declared one, or, of a program that
// declares none, the one of this machine that its check asks, unless that is
// another service's.
func (c *checker) portOf(s *Service) int {
	if s.Port != 0 || s.Kind != DefaultKind || s.Health == nil || s.node.table["port"] != nil {
		return s.Port
	}
	address := s.Health.TCP.Value
	if u, err := url.Parse(s.Health.HTTP.Value); err == nil && u.Host != "" {
		address = u.Host
	}
	host, port, err := net.SplitHostPort(address)
	n, bad := strconv.Atoi(port)
	if err != nil || bad != nil || n < 1 || n > 65535 || !localname.Is(host) {
		return 0
	}
	if slices.ContainsFunc(c.decl.Services, func(other *Service) bool { return other.Port == n }) {
		return 0
	}
	return n
}

// checkEnvOf checks that a service is named whose env can be taken over.
func (c *checker) checkEnvOf(path, name string, of Word) {
	if of.Value == "" {
		return
	}
	other := serviceNameOf(of.Value)
	if other == name {
		c.report(path+".env_of", of.At, of.width, "names the service itself", "name another service, or remove it")
		return
	}
	if !c.exists(path+".env_of", other, of.At, of.width) {
		return
	}
	seen := []string{name}
	for s := c.decl.Service(other); s != nil && s.EnvOf.Value != ""; s = c.decl.Service(serviceNameOf(s.EnvOf.Value)) {
		if slices.Contains(seen, s.Name) {
			c.report(path+".env_of", of.At, of.width, "goes round in a circle: "+strings.Join(append(seen, s.Name), ", "), "remove one of them")
			return
		}
		seen = append(seen, s.Name)
	}
}

// checkBefore makes services need what errands need that run before they start.
func (c *checker) checkBefore(graph plan.Graph, where map[[2]string]Word) {
	for _, e := range c.decl.Errands {
		for i, w := range e.Before {
			path, name := fmt.Sprintf("%s.before[%d]", join("errand", e.Name), i), serviceNameOf(w.Value)
			s := c.decl.Service(name)
			if !c.exists(path, name, w.At, w.width) || s == nil {
				continue
			}
			for _, need := range e.Needs {
				if need == name {
					c.report(path, w.At, w.width, fmt.Sprintf("%s needs %s, before which it is to run", e.Name, name), "remove one of the two")
					continue
				}
				if !slices.Contains(s.Needs, need) {
					s.Needs = append(s.Needs, need)
					where[[2]string{name, need}] = w
				}
			}
			slices.Sort(s.Needs)
			graph[name] = s.Needs
		}
	}
}

// checkErrands checks the errands, and finds out what they need.
func (c *checker) checkErrands() {
	slices.SortFunc(c.decl.Errands, func(a, b *Errand) int { return strings.Compare(a.Name, b.Name) })
	for _, e := range c.decl.Errands {
		path := join("errand", e.Name)
		c.checkEnvOf(path, "", e.EnvOf)
		for name := range e.Env {
			if !environmentName.MatchString(name) {
				c.report(path+".env."+name, e.Env[name].At, e.Env[name].width, fmt.Sprintf("%q can't be a variable's name", name), "use letters, digits and _, not beginning with a digit")
			}
		}
		written := e.Written
		if e.With.Value != "" {
			c.exists(path+".with", serviceNameOf(e.With.Value), e.With.At, e.With.width)
		}
		if e.Dir != "" {
			c.checkLocal(path+".dir", Word{Value: e.Dir, At: e.At, width: len(e.Name)}, "the errand runs there")
		}
		for _, need := range c.needs(path, nil, written, e) {
			e.Needs = append(e.Needs, need.Value)
		}
		if s := c.decl.Service(e.WithService()); s != nil {
			e.Needs = append(e.Needs, s.Needs...)
			// Of a server it gets what leads to it, which must be there then.
			if s.Kind != DefaultKind && !slices.ContainsFunc(e.Before, func(w Word) bool { return serviceNameOf(w.Value) == s.Name }) {
				e.Needs = append(e.Needs, s.Name)
			}
		}
		c.checkHooks(path, e)
		slices.Sort(e.Needs)
		e.Needs = slices.Compact(e.Needs)
	}
}

// checkHooks checks what makes an errand run by itself.
func (c *checker) checkHooks(path string, e *Errand) {
	for i, w := range e.When {
		c.checkGlob(fmt.Sprintf("%s.when[%d]", path, i), w)
		if len(e.Before) == 0 {
			c.report(fmt.Sprintf("%s.when[%d]", path, i), w.At, w.width, "says when it is due before a start, and before names no service", `add before = ["api"]`)
		}
	}
	alone := len(e.Before) > 0
	for event, w := range e.On.words() {
		if w.Value != "" {
			alone = true
			c.exists(path+".on."+event, serviceNameOf(w.Value), w.At, w.width)
		}
	}
	switch {
	case e.Copies < 0 || e.Copies > MostCopies:
		c.report(path+".copies", e.At, len(e.Name), fmt.Sprintf("%d copies can't be made at once", e.Copies), fmt.Sprintf("write 1 to %d", MostCopies))
	case e.Copies > 0 && !e.Fresh:
		c.report(path+".copies", e.At, len(e.Name), "there are no copies of what does not run on one", "add fresh = true, or remove copies")
	case e.Copies > 1 && e.Terminal:
		c.report(path+".terminal", e.At, len(e.Name), "several can't have the terminal to themselves", "remove terminal or copies")
	}
	if alone && e.Fresh {
		c.report(path+".fresh", e.At, len(e.Name), "runs by itself for the project's own services, and not on a copy", "remove fresh, or before and on")
	}
	if alone && (e.Ask != "" || e.Terminal) {
		c.report(path, e.At, len(e.Name), "runs by itself, so that nobody is there to be asked", "remove ask and terminal, or before and on")
	}
}

// MostCopies is on how many fresh copies an errand can run at once.
const MostCopies = 32

// checkScripts checks what changes a database before it is used.
func (c *checker) checkScripts(s *Service) {
	p, sc := placeOf(s), s.Scripts()
	if w := sc.Migrations; w.Value != "" {
		c.checkLocal(p.path+".migrations", w, "its files are run")
	}
	if w := sc.Seed.File; w.Value != "" {
		c.checkLocal(p.path+".seed", w, "it is run")
	}
	if p.node.table["seed"] != nil && p.node.table["seed"].kind == tableNode && sc.Seed.Run.IsZero() {
		c.reportKey(p, "seed", "has no command", `write for example { run = "node scripts/seed.js", with = "api" }`)
	}
	if w := sc.Seed.With; w.Value != "" {
		c.exists(p.path+".seed.with", serviceNameOf(w.Value), w.At, w.width)
	}
}

func (c *checker) checkEnvFile(e *EnvFile) {
	if e.Write.Value == "" {
		c.report("env.write", e.At, 3, "names no file", `add write = ".env.local"`)
	} else {
		c.checkLocal("env.write", e.Write, "it is written")
	}
	for name, text := range e.Keys {
		if !environmentName.MatchString(name) {
			c.report("env.keys."+name, text.At, text.width, fmt.Sprintf("%q can't be a variable's name", name), "use letters, digits and _, not beginning with a digit")
		}
	}
}

// checkLocal reports a path that leaves the project through "..". A whole
// path is meant as it stands.
func (c *checker) checkLocal(key string, path Word, why string) {
	if path.Value == "" {
		c.report(key, path.At, path.width, "is empty", "write a path from the project's folder")
	} else if !filepath.IsAbs(path.Value) && !filepath.IsLocal(path.Value) {
		c.report(key, path.At, path.width, fmt.Sprintf("%q leaves the project, and %s", path.Value, why), "move the declaration to a folder that holds both, or write the whole path if it is meant")
	}
}

// checkGlob reports a pattern of files that can't be one.
func (c *checker) checkGlob(key string, w Word) {
	if w.Value == "" || !doublestar.ValidatePattern(w.Value) || filepath.IsAbs(w.Value) || !filepath.IsLocal(w.Value) {
		c.report(key, w.At, w.width, fmt.Sprintf("%q is not a pattern of files in the project", w.Value), `write for example "package-lock.json" or "api/**/*.js"`)
	}
}

// checkFiles checks the keys of a service that name files and folders.
func (c *checker) checkFiles(s *Service) {
	path := join("service", s.Name)
	for i, w := range s.Writes {
		c.checkLocal(fmt.Sprintf("%s.writes[%d]", path, i), w, "the service writes there")
	}
	for i, w := range s.Reload {
		w.Value = strings.TrimPrefix(w.Value, "!")
		c.checkGlob(fmt.Sprintf("%s.reload[%d]", path, i), w)
	}
	for i, p := range s.Prepare {
		key := fmt.Sprintf("%s.prepare[%d]", path, i)
		if at, width := placeOf(s).at("prepare"); p.Run.IsZero() && !c.told(key) {
			c.report(key, at, width, "has no command", `write for example { run = "npm ci", when = ["package-lock.json"] }`)
		}
		if p.Dir.At != (Position{}) {
			c.checkLocal(key+".dir", p.Dir, "it is run there")
		}
		for j, w := range p.When {
			c.checkGlob(fmt.Sprintf("%s.when[%d]", key, j), w)
		}
		for j, w := range p.Makes {
			c.checkGlob(fmt.Sprintf("%s.makes[%d]", key, j), w)
		}
	}
}

func (c *checker) checkKeys(s *Service) {
	info, known := c.describe(s.Kind)
	if !known {
		return
	}
	p := placeOf(s)
	if n := c.nodes[s.Name].table["port"]; n != nil && n.kind == integerNode && (s.Port < 1 || s.Port > 65535) {
		c.reportKey(p, "port", fmt.Sprintf("%d is not a port", s.Port), "write a number from 1 to 65535, or \"any\" for any free port")
	}
	c.checkEnvNames(p, s.Env)
	if !slices.Contains([]string{"", "crash", "always", "never"}, s.Restart.When) {
		c.reportKey(p, "restart.when", fmt.Sprintf("%q is not known", s.Restart.When), `write "crash", "always" or "never"`)
	}
	if s.Restart.Most < 0 {
		c.reportKey(p, "restart.most", "must not be negative", `to restart never, write when = "never"`)
	}
	c.checkStop(p, &s.Stop)
	if m, ok := s.Settings.(MainProgram); ok {
		c.checkDir(s, m.WorkingDir())
	}
	if ch, ok := s.Settings.(Checker); ok {
		ch.Check(func(key, message, remedy string) { c.reportKey(p, key, message, remedy) })
	}
	s.Listens = s.Listens || info.Listens || s.Port != 0 || s.Kind == DefaultKind && s.Health != nil && (s.Health.HTTP.Value != "" || s.Health.TCP.Value != "") ||
		s.Health != nil && strings.HasPrefix(s.Health.HTTP.Value, "/")
	if info.Elsewhere && !info.Checked && (!s.Health.declared() || s.Health.Log.Regexp != nil) {
		c.reportKey(p, "health", "what runs elsewhere is only checked, and no check is declared", `add health = { tcp = "127.0.0.1:7070" }, or one with http or run`)
	}
	if c.decl.CustomKind(s.Kind) == nil || s.node.table["health"] != nil { // the kind's own is checked with it
		c.checkHealth(p, s.Health)
	}
	c.checkFiles(s)
	c.checkScripts(s)
}

func (c *checker) checkEnvNames(p place, env map[string]Text) {
	for name := range env {
		if !environmentName.MatchString(name) {
			c.reportKey(p, "env."+name, fmt.Sprintf("%q can't be a variable's name", name), "use letters, digits and _, not beginning with a digit")
		}
	}
}

func (c *checker) checkStop(p place, s *Stop) {
	if s.Signal == "" {
		return
	}
	s.Signal = strings.TrimPrefix(s.Signal, "SIG")
	if !slices.Contains(signals, s.Signal) {
		c.reportKey(p, "stop.signal", fmt.Sprintf("%q is not a signal to stop with", s.Signal), "write one of "+strings.Join(signals, ", "))
	}
}

func (c *checker) checkDir(s *Service, dir string) {
	if dir != "" {
		at, width := placeOf(s).at("dir")
		c.checkLocal(join("service", s.Name+".dir"), Word{Value: dir, At: at, width: width}, "a program writes where it runs")
	}
}

func (c *checker) checkHealth(p place, h *Health) {
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
		c.reportKey(p, "health", "has more than one check: "+strings.Join(set, " and "), "keep the one that tells best when the service is ready")
	}
	if h.HTTP.Value == "" {
		for key, given := range map[string]bool{"status": h.Status != 0, "header": len(h.Header) > 0, "body": h.Body != ""} {
			if given {
				c.reportKey(p, "health."+key, "belongs to an http check", `add http = "/path" or remove it`)
			}
		}
	}
	if h.HTTP.Value != "" && !strings.HasPrefix(h.HTTP.Value, "/") && !strings.HasPrefix(h.HTTP.Value, "http://") && !strings.HasPrefix(h.HTTP.Value, "https://") && !strings.HasPrefix(h.HTTP.Value, "${") {
		c.reportKey(p, "health.http", fmt.Sprintf("%q is neither a path nor an address", h.HTTP.Value), `write a path that begins with /, or an address that begins with http://`)
	}
	if h.TCP.Value != "" && !strings.Contains(h.TCP.Value, "${") {
		_, port, err := net.SplitHostPort(h.TCP.Value)
		if n, e := strconv.Atoi(port); err != nil || e != nil || n < 1 || n > 65535 {
			c.reportKey(p, "health.tcp", fmt.Sprintf("%q is not a host and a port", h.TCP.Value), `write for example "127.0.0.1:7070"`)
		}
	}
	if h.Status != 0 && (h.Status < 100 || h.Status > 599) {
		c.reportKey(p, "health.status", fmt.Sprintf("%d is not a status code of HTTP", h.Status), "write a number from 100 to 599")
	}
	if h.Fails < 0 {
		c.reportKey(p, "health.fails", "must not be negative", "write how many checks in a row must fail, for example 3")
	}
}
