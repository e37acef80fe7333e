package declare

import (
	"strings"
	"time"
)

// Scripts returns what changes the service's database before it is used.
func (s *Service) Scripts() Scripts {
	if sc, ok := s.Settings.(Scripter); ok {
		return sc.Scripts()
	}
	return Scripts{}
}

// EnvFile is a file of environment variables that the app itself reads.
type EnvFile struct {
	At    Position
	Write Word            `toml:"write" doc:"the file to write the variables to, such as \".env.local\""`
	Keys  map[string]Text `toml:"keys" doc:"the variables: { VITE_API_URL = \"${api.url}\" }"`
}

// Service is one declared service.
type Service struct {
	Name string
	// At is where the service's table begins.
	At Position

	Kind     string          `toml:"kind" doc:"what sort of service it is; left out: a program"`
	Port     int             `toml:"port" or:"any" doc:"a fixed port; \"any\", or left out for a server or a program with an http or tcp check: any free one, the same again next time"`
	Env      map[string]Text `toml:"env" doc:"environment variables it gets"`
	EnvOf    Word            `toml:"env_of" doc:"another service whose env it gets, too; its own variables go before those"`
	Written  []Word          `toml:"needs" doc:"services that must be ready first, beside those it refers to"`
	Health   *Health         `toml:"health" doc:"how to tell that it is ready, and stays so"`
	Restart  Restart         `toml:"restart" doc:"what happens when it ends by itself"`
	Stop     Stop            `toml:"stop" doc:"how it is stopped"`
	Optional bool            `toml:"optional" doc:"others start without it when it fails"`
	Prepare  []Preparation   `toml:"prepare" doc:"commands to run in its folder before its start: [{ run = \"npm ci\", when = [\"package-lock.json\"], makes = [\"node_modules\"] }]"`
	Reload   []Word          `toml:"reload" doc:"files whose change restarts it, and with ! before them those that don't matter: [\"api/**/*.js\", \"!**/*.test.js\"]"`
	Writes   []Word          `toml:"writes" doc:"folders that it must be able to write to"`
	Limit    Limit           `toml:"limit" doc:"what it may use"`
	Log      Log             `toml:"log" doc:"how much of what it prints is kept"`

	// Settings are the keys of its kind: a pointer to the type that the
	// kind's Settings function makes.
	Settings any
	// Needs are the services that must be ready first, written or referred
	// to, sorted.
	Needs []string
	// Listens says that it has a port: its kind always does, or one is
	// declared, or something refers to it.
	Listens bool

	node  *node
	lines map[string][]string
}

// VersionConstraint returns the version as the declaration has it; false if the
// service's kind has no versions.
func (s *Service) VersionConstraint() (string, bool) {
	keys, _ := fields(s.Settings)
	f, ok := keys["version"]
	if !ok {
		return "", false
	}
	c, ok := f.Interface().(Constraint)
	return c.String(), ok
}

// Preparation is a command to run before a start.
type Preparation struct {
	Run   Command `toml:"run" doc:"the command; services that run the same one in the same folder run it once"`
	Dir   Word    `toml:"dir" doc:"the folder to run it in, from the declaration's, such as \".\" for packages that several services share; left out: that of its service"`
	When  []Word  `toml:"when" doc:"files, from the project's folder; it runs again only when one of them has changed; without it and makes, before each start"`
	Makes []Word  `toml:"makes" doc:"what it makes, from the project's folder: [\"node_modules\"]; it runs again when that is gone"`
}

// Written is a key as a file has it.
type Written struct {
	Key  string // in its service, "settings.work_mem"
	At   Position
	Line string // the whole line, without the blanks around it
}

// PlaceOf returns where a key of the service stands, or the service if it has no
// such key.
func (s *Service) PlaceOf(key string) Position {
	if s.node == nil {
		return s.At
	}
	at, _ := placeOf(s).at(key)
	return at
}

// WrittenKeys lists the keys of the service, those inside of tables too, in
// no particular order; with the values of lists as keys of their own.
func (s *Service) WrittenKeys() []Written {
	var out []Written
	var walk func(path string, n *node)
	walk = func(path string, n *node) {
		at := n.keyAt
		if path != "" {
			w := Written{Key: path, At: at}
			if lines := s.lines[at.File]; at.Line > 0 && at.Line <= len(lines) {
				w.Line = strings.TrimSpace(lines[at.Line-1])
			}
			out = append(out, w)
		}
		for key, c := range n.table {
			walk(join(path, key), c)
		}
		for _, c := range n.items {
			if text, ok := c.value.(string); ok {
				walk(join(path, text), c)
			}
		}
	}
	if s.node != nil {
		walk("", s.node)
	}
	return out
}

// Health is a declared check. At most one of HTTP, TCP, Run and Log is set;
// with none of them the kind's own check is used.
type Health struct {
	HTTP    Text              `toml:"http" doc:"a path on the service's port, or a whole address"`
	Status  int               `toml:"status" doc:"the status code the answer must have; left out: any from 200 to 399"`
	Header  map[string]string `toml:"header" doc:"headers the answer must have"`
	Body    string            `toml:"body" doc:"text the answer must contain"`
	TCP     Text              `toml:"tcp" doc:"host:port that must accept a connection"`
	Run     Command           `toml:"run" doc:"a command that must exit with 0"`
	Log     Pattern           `toml:"log" doc:"a regular expression that a line of output must match"`
	Every   time.Duration     `toml:"every" doc:"time between checks once it is ready (5s)"`
	Within  time.Duration     `toml:"within" doc:"how long it may take to become ready (60s)"`
	Timeout time.Duration     `toml:"timeout" doc:"how long one check may take (5s)"`
	Fails   int               `toml:"fails" doc:"how many checks in a row must fail before a ready service counts as ailing (3)"`
}

// Restart says what happens when a service ends by itself.
type Restart struct {
	When   string        `toml:"when" doc:"crash, always or never (crash)"`
	Most   int           `toml:"most" doc:"how many restarts before it counts as failed (5)"`
	Within time.Duration `toml:"within" doc:"the time in which restarts are counted (1m)"`
	Ailing time.Duration `toml:"ailing" doc:"how long its check may fail before it is restarted; left out: it is not restarted for that"`
}

// Limit says what a service may use.
type Limit struct {
	Memory     Size    `toml:"memory" doc:"the memory of all its processes: \"512MB\""`
	Processors float64 `toml:"processors" doc:"how many processors it may keep busy: 1.5"`
}

// Log says how much of a service's output is kept.
type Log struct {
	Keep Size `toml:"keep" doc:"how much, the oldest being freed in five parts (100MB)"`
}

// Stop says how a service is stopped.
type Stop struct {
	Signal string        `toml:"signal" doc:"the signal that asks it to end, without SIG; left out: its kind's usual one"`
	Grace  time.Duration `toml:"grace" doc:"how long it may take to end before it is killed (10s)"`
}

// declared reports whether the declaration names a check, and not only its times.
func (h *Health) declared() bool {
	return h != nil && (h.HTTP.Value != "" || h.TCP.Value != "" || !h.Run.IsZero() || h.Log.Regexp != nil)
}

// Defaults of the keys that are left out.
const (
	DefaultEvery         = 5 * time.Second
	DefaultWithin        = 60 * time.Second
	DefaultTimeout       = 5 * time.Second
	DefaultFails         = 3
	DefaultRestartMost   = 5
	DefaultRestartWithin = time.Minute
	DefaultGrace         = 10 * time.Second
)
