package declare

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
)

// exists reports a service that isn't declared.
func (c *checker) exists(key, name string, at Position, width int) bool {
	if c.decl.Service(name) != nil {
		return true
	}
	remedy := "declared: " + list(c.decl.Names())
	if near := Nearest(name, c.decl.Names()); near != "" {
		remedy = fmt.Sprintf("did you mean %q?", near)
	}
	c.report(key, at, width, fmt.Sprintf("there is no service %q", name), remedy)
	return false
}

// needs lists the services that are written as needs or referred to in the
// values, which stand under a path, and reports the names and facts that
// don't exist. The owner is the service that the values are of, or nil.
func (c *checker) needs(path string, owner *Service, written []Word, values ...any) []Word {
	var needs []Word
	for _, w := range written {
		name := serviceNameOf(w.Value)
		if c.exists(join(path, "needs"), name, w.At, w.width) {
			needs = append(needs, Word{Value: name, At: w.At, width: w.width})
		}
	}
	visit := func(key string, t Text) {
		if name := serviceNameOf(t.Value); name != t.Value && owner != nil && c.isServiceKey(owner, key) {
			if c.exists(key, name, t.At, t.width) {
				c.checkExpected(owner, key, name, t)
				needs = append(needs, Word{Value: name, At: t.At, width: t.width})
			}
			return
		}
		parts, errs := Parts(t.Value)
		for _, e := range errs {
			c.report(key, columnIn(t, e.Offset), e.Width, e.Message, e.Remedy)
		}
		for _, p := range parts {
			r := p.Reference
			if r == nil || r.Service == "" && r.Self == "" {
				continue
			}
			at, width := columnIn(t, r.Offset), len(r.Source)
			if r.Self != "" {
				if owner == nil || c.decl.CustomKind(owner.Kind) == nil {
					c.report(key, at, width, r.Source+" stands only in the declaration of a kind", "name the service: ${service.fact}")
				}
				continue
			}
			if !c.exists(key, r.Service, at, width) {
				continue
			}
			if owner != nil && r.Service == owner.Name && c.decl.CustomKind(owner.Kind) != nil && !strings.HasPrefix(key, path+".env.") {
				c.report(key, at, width, "a key that makes the service can't refer to the service itself", "write the value, or ${self.NAME} in the declaration of the kind")
				continue
			}
			c.checkFact(key, r, at, width)
			if l, ok := settingsOf(owner).(Later); ok && slices.ContainsFunc(l.LaterKeys(), func(k string) bool { return strings.HasPrefix(key, join(path, k)+".") }) {
				continue
			}
			// Its own facts are known before it starts, and so is by which name another is reached.
			if (owner == nil || r.Service != owner.Name) && r.Fact != PublicURL && r.Fact != "ca" {
				needs = append(needs, Word{Value: r.Service, At: at, width: width})
			}
		}
	}
	for _, v := range values {
		texts(path, reflect.ValueOf(v), visit)
	}
	slices.SortStableFunc(needs, func(a, b Word) int { return a.At.Line - b.At.Line })
	return needs
}

// Later is implemented by settings with keys that refer to what a service uses only once it
// runs, so that it need not be ready before.
type Later interface {
	LaterKeys() []string
}

func settingsOf(s *Service) any {
	if s == nil {
		return nil
	}
	return s.Settings
}

func (c *checker) checkFact(key string, r *Reference, at Position, width int) {
	target := c.decl.Service(r.Service)
	info, ok := c.describe(target.Kind)
	if !ok {
		return
	}
	facts := info.FactNames(target)
	if info.hasFact(target, r.Fact) {
		target.Listens = !info.NoPort && !info.AnyFact
		return
	}
	remedy := fmt.Sprintf("a service of kind %s offers: %s", target.Kind, list(facts))
	if near := Nearest(r.Fact, facts); near != "" {
		remedy = fmt.Sprintf("did you mean ${%s.%s}?", r.Service, near)
	}
	c.report(key, at, width, fmt.Sprintf("%s offers no fact %q", r.Service, r.Fact), remedy)
}

// References lists what a service refers to, as "ledger.url"; a service that
// it names as a whole as "engine".
func (s *Service) References() []string {
	var out []string
	visit := func(key string, t Text) {
		if name := serviceNameOf(t.Value); name != t.Value {
			out = append(out, name)
			return
		}
		parts, _ := Parts(t.Value)
		for _, p := range parts {
			if r := p.Reference; r != nil && r.Service != "" {
				out = append(out, r.Service+"."+r.Fact)
			}
		}
	}
	texts("", reflect.ValueOf(s), visit)
	texts("", reflect.ValueOf(s.Settings), visit)
	return out
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

// isServiceKey reports whether the key, with its whole path, names a service.
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
