package declare

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"neighbour/internal/core/declaration/schedule"
)

// Trigger says what is to be done when something happens.
type Trigger struct {
	Name string
	At   Position

	About string `toml:"about" doc:"what it is for, in a few words"`
	// Exactly one of these is set.
	Call   Text `toml:"call" doc:"the address that gets each event, as a CloudEvent 1.0 by POST: \"${chores.url}/reindex\""`
	Errand Word `toml:"errand" doc:"the errand that is run with each event, in its variables EVENT_TYPE, EVENT_SUBJECT, EVENT_ID and EVENT_FILE"`
	// Send is what gets the event as a message.
	Send Send

	Headers map[string]Text `toml:"headers" doc:"headers that a call has, too"`
	Tries   int             `toml:"tries" doc:"how often an event is tried before it is put aside (8)"`
	Wait    time.Duration   `toml:"wait" doc:"how long the second try waits, and each after it twice as long, up to a minute (1s)"`
	AtOnce  int             `toml:"at_once" doc:"how many events are on their way at a time, of different keys (16)"`
	Time    time.Duration   `toml:"time" doc:"how long a call may take (30s)"`
	Chain   int             `toml:"chain" doc:"after how many events in a row that it caused itself it is stopped (100)"`

	// On is what happens.
	On Source
	// Needs are the services that it leads to, sorted.
	Needs []string
}

// Source is what happens, of one sort: to a service, by the clock, or of a service itself.
type Source struct {
	// Kind is that of the service, What of it is watched: a collection, a bucket, a queue.
	Kind, What string
	At         Position
	width      int

	Service Word          `toml:"service" doc:"the service, if there are several of the kind; or the one whose state it is"`
	Change  []Word        `toml:"change" doc:"which changes: [\"insert\", \"update\"]; left out: all that the kind tells"`
	Key     string        `toml:"key" doc:"of a table that is looked at again and again: the column that grows with each new row"`
	Every   time.Duration `toml:"every" doc:"again and again after so long; of a table: how often it is looked at (2s)"`
	Cron    Word          `toml:"cron" doc:"when: minute, hour, day, month and day of the week, as in \"0 8 * * MON-FRI\""`
	Zone    string        `toml:"zone" doc:"the time zone of cron, such as \"Europe/Oslo\"; left out: the machine's"`
	State   Word          `toml:"state" doc:"the state that a service comes to: ready, ailing, failed, stopped or finished"`
}

// Send names what gets an event as a message.
type Send struct {
	// Kind is that of the service, To what of it gets the message.
	Kind, To string
	At       Position
	width    int

	Service Word `toml:"service" doc:"the service, if there are several of the kind"`
}

// states are those that a trigger can wait for.
var states = []string{"ready", "ailing", "failed", "stopped", "finished"}

// Schedule returns when it comes, if it does so by the clock.
func (s *Source) Schedule() (schedule.Schedule, bool) {
	switch {
	case s.Cron.Value != "":
		at, err := schedule.Parse(s.Cron.Value, s.Zone)
		return at, err == nil
	case s.Kind == "" && s.Every > 0:
		at, err := schedule.Every(s.Every)
		return at, err == nil
	}
	return schedule.Schedule{}, false
}

// ServiceName returns the service that it is about, "" if there is none.
func (s *Source) ServiceName() string { return serviceNameOf(s.Service.Value) }

// ServiceName returns the service that gets the message.
func (s *Send) ServiceName() string { return serviceNameOf(s.Service.Value) }

// String says what happens, in a few words.
func (s *Source) String() string {
	if at, ok := s.Schedule(); ok {
		return at.String()
	}
	if s.State.Value != "" {
		return s.ServiceName() + " " + s.State.Value
	}
	text := s.ServiceName() + " › " + s.What
	var changes []string
	for _, c := range s.Change {
		changes = append(changes, c.Value)
	}
	if len(changes) > 0 {
		text += " · " + strings.Join(changes, ", ")
	}
	return text
}

// Target says where the events of a trigger go, in a few words.
func (t *Trigger) Target() string {
	switch {
	case t.Errand.Value != "":
		return "errand " + t.Errand.Value
	case t.Send.Kind != "":
		return t.Send.ServiceName() + " › " + t.Send.To
	}
	return t.Call.Value
}

// Trigger returns the trigger of a name, nil if there is none.
func (d *Declaration) Trigger(name string) *Trigger {
	if i := slices.IndexFunc(d.Triggers, func(t *Trigger) bool { return t.Name == name }); i >= 0 {
		return d.Triggers[i]
	}
	return nil
}

// cut returns a table without a key, and what stood under it; nil if nothing did.
func cut(n *node, key string) (*node, *node) {
	part := n.table[key]
	if part == nil {
		return n, nil
	}
	rest := n.clone()
	delete(rest.table, key)
	rest.order = slices.DeleteFunc(rest.order, func(k string) bool { return k == key })
	return rest, part
}

// ofKind takes the key out of a table that is the name of a kind, with its text.
func (c *checker) ofKind(path string, n *node) (rest *node, kind string, text Word) {
	rest = n
	for _, key := range n.order {
		if _, known := c.describe(key); !known {
			continue
		}
		var part *node
		rest, part = cut(rest, key)
		value, ok := part.value.(string)
		if !ok || value == "" {
			c.mistyped(join(path, key), part, "a text", `{ `+key+` = "loans" }`)
			continue
		}
		if kind != "" {
			c.report(join(path, key), part.keyAt, part.keyLen, fmt.Sprintf("%s and %s are two things", kind, key), "write a trigger for each")
			continue
		}
		kind, text = key, Word{Value: value, At: part.at, width: part.width}
	}
	return rest, kind, text
}

func (c *checker) readTriggers(n *node) {
	c.each("trigger", "[trigger.NAME]", n, func(name, path string, table *node) {
		t := &Trigger{Name: name, At: table.keyAt}
		c.decl.Triggers = append(c.decl.Triggers, t)
		table, on := cut(table, "on")
		table, send := cut(table, "send")
		c.table(path, table, t)
		if on == nil || on.kind != tableNode {
			if on != nil {
				c.mistyped(path+".on", on, "a table", `{ cron = "0 8 * * *" }`)
			} else {
				c.report(path, t.At, len(name), "a trigger needs something that happens", `add for example on = { cron = "0 8 * * *" } or on = { documents = "loans" }`)
			}
		} else {
			var what Word
			rest, kind, what := c.ofKind(path+".on", on)
			t.On.Kind, t.On.What, t.On.At, t.On.width = kind, what.Value, on.keyAt, on.keyLen
			before := len(c.problems)
			c.table(path+".on", rest, &t.On)
			if kind == "" && len(c.problems) > before {
				t.On.At = Position{} // what was meant is not known, and reported
				for i := range c.problems[before:] {
					if p := &c.problems[before+i]; strings.HasPrefix(p.Message, "there is no key") {
						p.Remedy = `write what happens by its kind, as { rabbitmq = "jobs" }, { documents = "loans" } or { postgres = "loan" }; or cron, every, or state`
					}
				}
			}
		}
		switch {
		case send == nil:
		case send.kind != tableNode:
			c.mistyped(path+".send", send, "a table", `{ rabbitmq = "jobs" }`)
		default:
			rest, kind, to := c.ofKind(path+".send", send)
			t.Send.Kind, t.Send.To, t.Send.At, t.Send.width = kind, to.Value, send.keyAt, send.keyLen
			c.table(path+".send", rest, &t.Send)
			if kind == "" {
				c.report(path+".send", send.keyAt, send.keyLen, "names nothing that gets messages", `write for example { rabbitmq = "jobs" }`)
			}
		}
	})
}

// checkTriggers checks the triggers, and finds out what they need.
func (c *checker) checkTriggers() {
	slices.SortFunc(c.decl.Triggers, func(a, b *Trigger) int { return strings.Compare(a.Name, b.Name) })
	for _, t := range c.decl.Triggers {
		path := join("trigger", t.Name)
		c.checkSource(path+".on", t)
		c.checkTarget(path, t)
		for key, n := range map[string]int{"tries": t.Tries, "at_once": t.AtOnce, "chain": t.Chain} {
			if n < 0 || key == "at_once" && n > 256 {
				c.report(join(path, key), t.At, len(t.Name), fmt.Sprintf("%s = %d can't be meant", key, n), "write 1 or more")
			}
		}
		for key, d := range map[string]time.Duration{"wait": t.Wait, "time": t.Time} {
			if d < 0 {
				c.report(join(path, key), t.At, len(t.Name), fmt.Sprintf("%s = %q can't be meant", key, d), `write for example "10s"`)
			}
		}
		for _, need := range c.needs(path, nil, nil, t) {
			t.Needs = append(t.Needs, need.Value)
		}
		slices.Sort(t.Needs)
		t.Needs = slices.Compact(t.Needs)
	}
}

// serviceOf finds the service of a kind that is meant, and reports if there is none or several.
func (c *checker) serviceOf(path, kind string, named *Word, at Position, width int) *Service {
	if named.Value != "" {
		if !c.exists(path+".service", serviceNameOf(named.Value), named.At, named.width) {
			return nil
		}
		s := c.decl.Service(serviceNameOf(named.Value))
		if s.Kind != kind {
			c.report(path+".service", named.At, named.width, fmt.Sprintf("%s is of kind %s, and not of kind %s", s.Name, s.Kind, kind), "name one of that kind")
			return nil
		}
		return s
	}
	var all []string
	for _, s := range c.decl.Services {
		if s.Kind == kind {
			all = append(all, s.Name)
		}
	}
	switch len(all) {
	case 0:
		if slices.ContainsFunc(c.decl.Services, func(s *Service) bool { _, known := c.describe(s.Kind); return !known }) {
			return nil // it may be that one, whose kind is reported
		}
		c.report(join(path, kind), at, width, "there is no service of kind "+kind, "declare one")
		return nil
	case 1:
		*named = Word{Value: all[0], At: at, width: width}
		return c.decl.Service(all[0])
	}
	c.report(path, at, width, fmt.Sprintf("there are several services of kind %s: %s", kind, list(all)), fmt.Sprintf("say which: service = %q", all[0]))
	return nil
}

func (c *checker) checkSource(path string, t *Trigger) {
	on := &t.On
	if on.At == (Position{}) {
		return // which is reported
	}
	sorts := 0
	for _, is := range []bool{on.Kind != "", on.Cron.Value != "", on.State.Value != "", on.Every > 0 && on.Kind == ""} {
		if is {
			sorts++
		}
	}
	if sorts != 1 {
		c.report(path, on.At, on.width, map[bool]string{true: "nothing happens", false: "several things happen"}[sorts == 0], `name one: a kind with what is watched, cron, every or state`)
		return
	}
	switch {
	case on.Cron.Value != "":
		if _, err := schedule.Parse(on.Cron.Value, on.Zone); err != nil {
			c.report(path+".cron", on.Cron.At, on.Cron.width, err.Error(), `write for example "0 8 * * MON-FRI"`)
		}
		return
	case on.Every > 0 && on.Kind == "":
		if _, err := schedule.Every(on.Every); err != nil {
			c.report(path+".every", on.At, on.width, err.Error(), "")
		}
		return
	case on.State.Value != "":
		if !slices.Contains(states, on.State.Value) {
			c.report(path+".state", on.State.At, on.State.width, fmt.Sprintf("%q is no state to wait for", on.State.Value), "write one of: "+strings.Join(states, ", "))
		}
		if on.Service.Value == "" {
			c.report(path+".service", on.At, on.width, "names no service", `add service = "api"`)
		} else {
			c.exists(path+".service", serviceNameOf(on.Service.Value), on.Service.At, on.Service.width)
		}
		return
	}
	info, _ := c.describe(on.Kind)
	if len(info.Changes) == 0 {
		c.report(path+"."+on.Kind, on.At, on.width, "services of kind "+on.Kind+" do not tell of changes", "these do: "+strings.Join(c.kindsThat(func(k KindInfo) bool { return len(k.Changes) > 0 }), ", "))
		return
	}
	c.serviceOf(path, on.Kind, &on.Service, on.At, on.width)
	for i, w := range on.Change {
		if !slices.Contains(info.Changes, w.Value) {
			c.report(fmt.Sprintf("%s.change[%d]", path, i), w.At, w.width, fmt.Sprintf("%s tells of no change %q", on.Kind, w.Value), "write of: "+strings.Join(info.Changes, ", "))
		}
	}
	if info.ChangesByKey && on.Key == "" {
		c.report(path+".key", on.At, on.width, "a table of kind "+on.Kind+" is looked at again and again, and nothing says what is new in it", `add key = "id", a column that grows with each new row`)
	}
}

func (c *checker) kindsThat(do func(KindInfo) bool) []string {
	var out []string
	for _, name := range c.kindNames() {
		if info, ok := c.describe(name); ok && do(info) {
			out = append(out, name)
		}
	}
	return out
}

func (c *checker) checkTarget(path string, t *Trigger) {
	targets := 0
	for _, is := range []bool{t.Call.Value != "", t.Errand.Value != "", t.Send.Kind != ""} {
		if is {
			targets++
		}
	}
	switch {
	case targets == 0 && t.Send.At == (Position{}):
		c.report(path, t.At, len(t.Name), "nothing is done when it happens", `add for example call = "${api.url}/events" or errand = "overdue"`)
	case targets > 1:
		c.report(path, t.At, len(t.Name), "it has several targets", "write a trigger for each")
	}
	if e := t.Errand; e.Value != "" {
		errand := c.decl.Errand(e.Value)
		var names []string
		for _, other := range c.decl.Errands {
			names = append(names, other.Name)
		}
		switch {
		case errand == nil:
			remedy := "declare [errand." + e.Value + "]"
			if near := Nearest(e.Value, names); near != "" {
				remedy = fmt.Sprintf("did you mean %q?", near)
			}
			c.report(path+".errand", e.At, e.width, fmt.Sprintf("there is no errand %q", e.Value), remedy)
		case errand.Ask != "" || errand.Terminal:
			c.report(path+".errand", e.At, e.width, "errand "+e.Value+" wants somebody at the terminal", "remove its ask and terminal, or name another")
		}
	}
	if call := t.Call; call.Value != "" && !strings.HasPrefix(call.Value, "${") {
		if u, err := url.Parse(call.Value); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
			c.report(path+".call", call.At, call.width, fmt.Sprintf("%q is no address that can be called", call.Value), `write for example "${api.url}/events"`)
		}
	}
	if t.Send.Kind != "" {
		info, _ := c.describe(t.Send.Kind)
		if !info.Takes {
			c.report(path+".send."+t.Send.Kind, t.Send.At, t.Send.width, "services of kind "+t.Send.Kind+" take no messages", "these do: "+strings.Join(c.kindsThat(func(k KindInfo) bool { return k.Takes }), ", "))
			return
		}
		c.serviceOf(path+".send", t.Send.Kind, &t.Send.Service, t.Send.At, t.Send.width)
	}
}
