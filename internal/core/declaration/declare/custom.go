package declare

import (
	"fmt"
	"maps"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"time"
)

// CustomKind is a kind that a project or a user declares, as [kind.NAME].
type CustomKind struct {
	Name string
	At   Position

	About    string             `toml:"about" doc:"a few words on what it is: \"search server\""`
	Program  []Word             `toml:"program" doc:"where its program is: names that are looked up in PATH, and whole paths, in which * stands for anything; the newest version that will do is taken"`
	Version  VersionCommand     `toml:"version" doc:"how the program tells its version"`
	Packages PackageNames       `toml:"packages" doc:"what provides the program: { debian = \"…\", homebrew = \"…\" }"`
	Port     int                `toml:"port" doc:"the usual port; left out: its services have a port only if one is declared or referred to"`
	Keys     map[string]string  `toml:"keys" doc:"keys that its services may have, with their defaults; ${self.KEY} is the value"`
	Files    map[string]Text    `toml:"files" doc:"files to write into ${self.run} before each start, by name"`
	Prepare  []Command          `toml:"prepare" doc:"commands to run once in ${self.data}, before the first start"`
	Run      Command            `toml:"run" doc:"the command that runs it"`
	Env      map[string]Text    `toml:"env" doc:"environment variables it gets"`
	Health   *Health            `toml:"health" doc:"its check; left out: a connection to its port"`
	Stop     Stop               `toml:"stop" doc:"how it is stopped"`
	Facts    map[string]Text    `toml:"facts" doc:"what its services offer, beside host and port; one with ${self.password} in it is hidden on screens"`
	Console  Command            `toml:"console" doc:"its interactive client"`
	Data     map[string]Command `toml:"data" doc:"what its services hold, for the Data view: by name, a command that prints a JSON object in a line for each item"`
	Accounts []string           `toml:"accounts" doc:"for a server that refuses to run as root: users to run it as, the preferred first"`

	node     *node
	settings reflect.Type
}

// VersionCommand is how a program tells its version.
type VersionCommand struct {
	Args  []string `toml:"args" doc:"the arguments that make it tell ([\"--version\"])"`
	Match Pattern  `toml:"match" doc:"a regular expression whose first group finds it in the answer; left out: the first number with a dot in it"`
}

// PackageNames name what provides a program.
type PackageNames struct {
	Debian   string `toml:"debian" doc:"Debian's package"`
	Homebrew string `toml:"homebrew" doc:"Homebrew's formula"`
}

// CustomKind finds a declared kind by its name, or returns nil.
func (d *Declaration) CustomKind(name string) *CustomKind {
	for _, k := range d.Kinds {
		if k.Name == name {
			return k
		}
	}
	return nil
}

// selfValues are what ${self.NAME} may be in every kind's declaration.
var selfValues = []string{"name", "port", "data", "run", "program", "version", "password"}

// HTTP reports whether its services are reached by HTTP.
func (k *CustomKind) HTTP() bool { return strings.HasPrefix(k.Facts["url"].Value, "http://") }

// FactNames returns the names of its facts, sorted, url first and the address
// last.
func (k *CustomKind) FactNames() []string {
	var names []string
	if _, ok := k.Facts["url"]; ok {
		names = append(names, "url")
	}
	for _, name := range slices.Sorted(maps.Keys(k.Facts)) {
		if name != "url" && name != "host" && name != "port" {
			names = append(names, name)
		}
	}
	return append(names, "host", "port")
}

// info returns what the declarations of its services must know.
func (k *CustomKind) info() KindInfo {
	return KindInfo{Settings: k.Settings, Facts: k.FactNames(), Listens: k.Port != 0, HTTP: k.HTTP()}
}

// Settings makes an empty value of its keys: version, and those it declares.
func (k *CustomKind) Settings() any {
	if k.settings == nil {
		fields := []reflect.StructField{{Name: "Version", Type: reflect.TypeFor[Constraint](), Tag: `toml:"version" doc:"which versions will do"`}}
		for i, key := range slices.Sorted(maps.Keys(k.Keys)) {
			fields = append(fields, reflect.StructField{Name: fmt.Sprintf("Key%d", i), Type: textType,
				Tag: reflect.StructTag(fmt.Sprintf(`toml:%q doc:%q`, key, fmt.Sprintf("a key of its kind (%q)", k.Keys[key])))})
		}
		k.settings = reflect.StructOf(fields)
	}
	return reflect.New(k.settings).Interface()
}

// TellsVersion reports whether the declaration says how the program tells its
// version.
func (k *CustomKind) TellsVersion() bool { return k.node.table["version"] != nil }

// VersionOf returns the constraint of a service of the kind.
func (k *CustomKind) VersionOf(s *Service) Constraint {
	return reflect.ValueOf(s.Settings).Elem().Field(0).Interface().(Constraint)
}

// ValueOf returns what a service of the kind has under a key of the kind's, or
// else its default; references are not resolved. False: there is no such key.
func (k *CustomKind) ValueOf(s *Service, key string) (string, bool) {
	byDefault, ok := k.Keys[key]
	if !ok {
		return "", false
	}
	keys, _ := fields(s.Settings)
	if t := keys[key].Interface().(Text); t.At.Line != 0 {
		return t.Value, true
	}
	return byDefault, true
}

// complete gives a service what its kind says and it doesn't say itself.
func (k *CustomKind) complete(s *Service) {
	if k.Health != nil {
		h := *k.Health
		if own := s.Health; own != nil {
			if own.declared() {
				h.HTTP, h.Status, h.Header, h.Body, h.TCP, h.Run, h.Log = own.HTTP, own.Status, own.Header, own.Body, own.TCP, own.Run, own.Log
			}
			for mine, theirs := range map[*time.Duration]time.Duration{&h.Every: own.Every, &h.Within: own.Within, &h.Timeout: own.Timeout} {
				if theirs != 0 {
					*mine = theirs
				}
			}
			if own.Fails != 0 {
				h.Fails = own.Fails
			}
		}
		s.Health = &h
	}
	if s.Stop.Signal == "" {
		s.Stop.Signal = k.Stop.Signal
	}
	if s.Stop.Grace == 0 {
		s.Stop.Grace = k.Stop.Grace
	}
}

// readKinds reads the kinds that the user declares for all projects, and
// those of the project, which go before them.
func (c *checker) readKinds(user, project *node) {
	if user != nil {
		for _, key := range user.order {
			if key != "kind" {
				c.unknown(key, key, user.table[key], []string{"kind"})
			}
		}
		c.readKindTables(user.table["kind"])
	}
	c.readKindTables(project)
	slices.SortFunc(c.decl.Kinds, func(a, b *CustomKind) int { return strings.Compare(a.Name, b.Name) })
}

func (c *checker) readKindTables(n *node) {
	if n == nil {
		return
	}
	c.each("kind", "[kind.NAME]", n, func(name, path string, table *node) {
		if _, ok := c.kinds.Describe(name); ok {
			c.report(path, table.keyAt, table.keyLen, fmt.Sprintf("there is a kind %q already", name), "choose another name")
		}
		k := &CustomKind{Name: name, At: table.keyAt, node: table}
		c.decl.Kinds = slices.DeleteFunc(c.decl.Kinds, func(other *CustomKind) bool { return other.Name == name })
		c.decl.Kinds = append(c.decl.Kinds, k)
		c.table(path, table, k)
		c.checkKind(place{path, table}, k)
	})
}

func (c *checker) checkKind(p place, k *CustomKind) {
	if k.Run.IsZero() {
		c.reportKey(p, "run", "a kind needs the command that runs its services", `add run = "${self.program} --port ${self.port}"`)
	}
	if len(k.Program) == 0 {
		c.reportKey(p, "program", "a kind needs the program that it runs", `add program = ["searchd"]`)
	}
	for i, w := range k.Program {
		if w.Value == "" || strings.Contains(w.Value, "/") && !filepath.IsAbs(w.Value) {
			c.report(fmt.Sprintf("%s.program[%d]", p.path, i), w.At, w.width, fmt.Sprintf("%q is neither a name nor a whole path", w.Value), `write for example "searchd" or "/opt/search-*/bin/searchd"`)
		}
	}
	if re := k.Version.Match.Regexp; re != nil && re.NumSubexp() < 1 {
		c.reportKey(p, "version.match", "has no group that would be the version", `put it in brackets: 'v(\d+\.\d+)'`)
	}
	if k.node.table["port"] != nil && (k.Port < 1 || k.Port > 65535) {
		c.reportKey(p, "port", fmt.Sprintf("%d is not a port", k.Port), "write a number from 1 to 65535, or leave it out")
	}
	serviceKeys, _ := fields(&Service{})
	for key := range k.Keys {
		if _, taken := serviceKeys[key]; taken || key == "version" || slices.Contains(selfValues, key) {
			c.reportKey(p, "keys."+key, fmt.Sprintf("%q means something else already", key), "choose another name")
		} else if !serviceName.MatchString(key) {
			c.reportKey(p, "keys."+key, fmt.Sprintf("%q can't be a key", key), nameRule)
		}
	}
	for name := range k.Files {
		if name != filepath.Base(name) || name == "." || name == ".." {
			c.reportKey(p, "files."+name, fmt.Sprintf("%q is not a file's name", name), "write a name without a folder: files are written into ${self.run}")
		}
	}
	for name := range k.Facts {
		if !serviceName.MatchString(name) {
			c.reportKey(p, "facts."+name, fmt.Sprintf("%q can't be a fact's name", name), nameRule)
		} else if name == "host" || name == "port" {
			c.reportKey(p, "facts."+name, "every service with a port offers it already", "remove it")
		}
	}
	c.checkEnvNames(p, k.Env)
	c.checkStop(p, &k.Stop)
	c.checkHealth(p, k.Health)
	known := slices.Concat(selfValues, slices.Sorted(maps.Keys(k.Keys)))
	texts(p.path, reflect.ValueOf(k), func(key string, t Text) {
		parts, errs := Parts(t.Value)
		for _, e := range errs {
			c.report(key, columnIn(t, e.Offset), e.Width, e.Message, e.Remedy)
		}
		for _, part := range parts {
			r := part.Reference
			switch {
			case r == nil || r.Env != "" || r.Project != "" || slices.Contains(known, r.Self):
			case r.Self == "":
				c.report(key, columnIn(t, r.Offset), len(r.Source), "a kind doesn't know the services: "+r.Source, "write what is its own as ${self.NAME}, and let the services pass in the rest through keys")
			default:
				remedy := "known here: " + list(known)
				if near := Nearest(r.Self, known); near != "" {
					remedy = fmt.Sprintf("did you mean ${self.%s}?", near)
				}
				c.report(key, columnIn(t, r.Offset), len(r.Source), "there is no value "+r.Source, remedy)
			}
		}
	})
}
