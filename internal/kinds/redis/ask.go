package redis

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/machine/words"
)

// Language is what questions are asked in.
func (s *source) Language() string { return "Redis commands" }

// harmless are commands without a flag that says so which change no data.
var harmless = []string{"PING", "ECHO", "TIME", "INFO", "LASTSAVE", "COMMAND", "OBJECT", "MEMORY", "XINFO", "PUBSUB", "CONFIG GET", "CLIENT LIST", "CLIENT INFO", "SLOWLOG GET", "LATENCY LATEST", "ACL LIST", "ACL WHOAMI"}

// endless are commands whose answers don't end, or that change what a connection is.
var endless = []string{"SUBSCRIBE", "PSUBSCRIBE", "SSUBSCRIBE", "UNSUBSCRIBE", "PUNSUBSCRIBE", "MONITOR", "SYNC", "PSYNC", "MULTI", "EXEC", "WATCH", "SELECT", "AUTH", "HELLO", "RESET", "QUIT", "CLIENT"}

// Ask carries a command out. Whether it writes the server itself tells.
func (s *source) Ask(ctx context.Context, q store.Question) (store.Page, error) {
	q = q.Bounded()
	page := store.Page{Rows: []store.Row{}, Fixed: "the answer to a question"}
	args, err := split(q.Statement)
	if err != nil {
		return page, err
	}
	if len(args) == 0 {
		return page, &store.AnswerError{Message: "there is no command"}
	}
	name := strings.ToUpper(args[0])
	two := name
	if len(args) > 1 {
		two += " " + strings.ToUpper(args[1])
	}
	reads := slices.Contains(harmless, name) || slices.Contains(harmless, two)
	if slices.Contains(endless, name) && !reads {
		return page, &store.AnswerError{Message: name + " holds a connection or changes what it is; use the console for it"}
	}
	if name == "MEMORY" && two != "MEMORY USAGE" && two != "MEMORY STATS" && two != "MEMORY DOCTOR" {
		reads = false
	}
	if !reads && !q.Write {
		if reads, err = s.reads(ctx, name); err != nil {
			return page, err
		}
		if !reads {
			return page, &store.WritesError{Statement: q.Statement}
		}
	}
	began := time.Now()
	answer, err := s.do(ctx, args[0], anyOf(args[1:])...)
	page.Took = float64(time.Since(began).Microseconds()) / 1000
	if err != nil {
		return page, err
	}
	lay(&page, answer, q)
	return page, nil
}

// reads asks the server whether a command only reads.
func (s *source) reads(ctx context.Context, name string) (bool, error) {
	answer, err := s.do(ctx, "COMMAND", "INFO", name)
	if err != nil {
		return false, err
	}
	info, _ := answer.([]any)
	if len(info) == 0 {
		return false, &store.AnswerError{Message: "there is no command " + name}
	}
	about, ok := info[0].([]any)
	if !ok || len(about) < 3 {
		return false, &store.AnswerError{Message: "there is no command " + name}
	}
	flags, _ := about[2].([]any)
	return slices.ContainsFunc(flags, func(f any) bool { return fmt.Sprint(f) == "readonly" }), nil
}

// lay makes rows of an answer: one of a single value, and one for each of a list.
func lay(page *store.Page, answer any, q store.Question) {
	list, many := answer.([]any)
	if !many {
		page.Columns = []store.Column{{Name: "answer", Type: "text", Is: store.Text}}
		page.Rows = []store.Row{{Values: []store.Value{valueOf(answer, q.Wide)}}}
		return
	}
	page.Columns = []store.Column{{Name: "#", Type: "count", Is: store.Number}, {Name: "answer", Type: "text", Is: store.Text}}
	for i, one := range list {
		if i == q.Limit {
			page.More = true
			return
		}
		page.Rows = append(page.Rows, store.Row{Values: []store.Value{{Text: strconv.Itoa(i + 1), Is: store.Number}, valueOf(one, q.Wide)}})
	}
}

func valueOf(v any, wide int) store.Value {
	switch v := v.(type) {
	case nil:
		return store.NullValue
	case string:
		return store.TextOf(v, wide)
	case int64:
		return store.Value{Text: strconv.FormatInt(v, 10), Is: store.Number}
	case []any:
		var parts []string
		for _, one := range v {
			parts = append(parts, valueOf(one, wide).Text)
		}
		return store.TextOf("("+strings.Join(parts, ", ")+")", wide)
	}
	return store.TextOf(fmt.Sprint(v), wide)
}

// split splits a command into words. Words with blanks stand in quotes: in double
// ones \n, \t, \", \\ and \x00 have their usual meaning.
func split(line string) ([]string, error) {
	var out []string
	for rest := strings.Trim(line, " \t\r\n"); rest != ""; rest = strings.TrimLeft(rest, " \t\r\n") {
		switch rest[0] {
		case '"':
			end := 1
			for end < len(rest) && rest[end] != '"' {
				if rest[end] == '\\' {
					end++
				}
				end++
			}
			if end >= len(rest) {
				return nil, &store.AnswerError{Message: "a double quote is not closed"}
			}
			word, err := strconv.Unquote(strings.ReplaceAll(rest[:end+1], "\n", `\n`))
			if err != nil {
				return nil, &store.AnswerError{Message: rest[:end+1] + " has a backslash with an unknown meaning"}
			}
			out, rest = append(out, word), rest[end+1:]
		case '\'':
			word, after, closed := strings.Cut(rest[1:], "'")
			if !closed {
				return nil, &store.AnswerError{Message: "a quote is not closed"}
			}
			out, rest = append(out, word), after
		default:
			end := strings.IndexAny(rest, " \t\r\n")
			if end < 0 {
				end = len(rest)
			}
			out, rest = append(out, rest[:end]), rest[end:]
		}
	}
	return out, nil
}

// word writes a word as split reads it.
func word(text string) string {
	if text != "" && !strings.ContainsAny(text, " \t\r\n\"'\\") && utf8.ValidString(text) {
		return text
	}
	return strconv.Quote(text)
}

// The actions beside those that all sources have.
const (
	expire = "expire"
	rename = "rename"
)

// Actions lists what can be done with a prefix or a key.
func (s *source) Actions(ctx context.Context, collection, key string) ([]store.Action, error) {
	if key == "" {
		return []store.Action{{Name: store.Insert, Says: "add a string", Inputs: []store.Input{{Name: "key"}, {Name: "value"}}},
			{Name: store.Clear, Says: "delete all of these keys"}}, nil
	}
	item, err := s.Item(ctx, collection, key)
	if err != nil {
		return nil, err
	}
	k, _ := store.TextOfKey(key)
	var inputs []store.Input
	if is, _ := s.typeOf(ctx, k); is == "string" || is == "list" || is == "hash" || is == "zset" {
		for _, f := range item.Fields {
			inputs = append(inputs, store.Input{Name: f.Column.Name, Hint: f.Column.Type, Value: f.Value.Text})
		}
	}
	left := ""
	if d, _ := s.expiry(ctx, k); d > 0 {
		left = strconv.Itoa(int(d.Seconds() + 0.5))
	}
	out := []store.Action{{Name: store.Delete, Says: "delete it"},
		{Name: expire, Says: "have it expire", Inputs: []store.Input{{Name: "seconds", Hint: "from now on; nothing: never", Value: left}}},
		{Name: rename, Says: "rename it", Inputs: []store.Input{{Name: "name", Value: k}}}}
	if len(inputs) > 0 {
		out = append([]store.Action{{Name: store.Change, Says: "change it", Inputs: inputs}}, out...)
	}
	return out, nil
}

// commands are what an act has the server do.
func (s *source) commands(ctx context.Context, a store.Act) ([][]string, error) {
	value := func(name string) string {
		if v := a.Values[name]; v != nil {
			return *v
		}
		return ""
	}
	if a.Action == store.Insert {
		if value("key") == "" {
			return nil, &store.FixedError{Why: "say the key"}
		}
		return [][]string{{"SET", value("key"), value("value"), "NX"}}, nil
	}
	k, err := store.TextOfKey(a.Key)
	if err != nil {
		return nil, err
	}
	switch a.Action {
	case store.Delete:
		return [][]string{{"UNLINK", k}}, nil
	case rename:
		if value("name") == "" {
			return nil, &store.FixedError{Why: "say the new name"}
		}
		return [][]string{{"RENAMENX", k, value("name")}}, nil
	case expire:
		if value("seconds") == "" {
			return [][]string{{"PERSIST", k}}, nil
		}
		if n, err := strconv.Atoi(value("seconds")); err != nil || n < 1 {
			return nil, &store.FixedError{Why: value("seconds") + " is not a number of seconds, 1 or more"}
		}
		return [][]string{{"EXPIRE", k, value("seconds")}}, nil
	case store.Change:
		is, err := s.typeOf(ctx, k)
		if err != nil {
			return nil, err
		}
		var out [][]string
		for name, v := range a.Values {
			if v == nil {
				return nil, &store.FixedError{Why: "there is always a value here; delete it instead"}
			}
			switch is {
			case "string":
				out = append(out, []string{"SET", k, *v, "KEEPTTL"})
			case "hash":
				out = append(out, []string{"HSET", k, name, *v})
			case "list":
				out = append(out, []string{"LSET", k, name, *v})
			case "zset":
				out = append(out, []string{"ZADD", k, *v, name})
			case "none":
				return nil, &store.GoneError{What: "the key " + store.TextOf(k, 200).Text}
			default:
				return nil, &store.FixedError{Why: "a " + is + " is changed with its own commands; ask them"}
			}
		}
		return out, nil
	}
	return nil, store.ErrNoAction
}

// Plan says what commands an act would be.
func (s *source) Plan(ctx context.Context, a store.Act) (store.Plan, error) {
	if a.Action == store.Clear {
		match, err := pattern(a.Collection)
		if err != nil {
			return store.Plan{}, err
		}
		n := 0
		err = s.each(ctx, match, func(keys []string) error {
			n += len(keys)
			return nil
		})
		return store.Plan{Statement: "SCAN … MATCH " + word(match) + ", UNLINK …", Loses: words.Count(n, "key") + " like " + match}, err
	}
	all, err := s.commands(ctx, a)
	if err != nil {
		return store.Plan{}, err
	}
	var lines []string
	for _, c := range all {
		for i := range c {
			c[i] = word(c[i])
		}
		lines = append(lines, strings.Join(c, " "))
	}
	p := store.Plan{Statement: strings.Join(lines, "\n")}
	if a.Action == store.Delete {
		k, _ := store.TextOfKey(a.Key)
		p.Loses = "the key " + store.TextOf(k, 200).Text
	}
	return p, nil
}

// Do carries an act out.
func (s *source) Do(ctx context.Context, a store.Act) (string, error) {
	if a.Action == store.Clear {
		match, err := pattern(a.Collection)
		if err != nil {
			return "", err
		}
		n := int64(0)
		err = s.each(ctx, match, func(keys []string) error {
			gone, err := number(s.do(ctx, "UNLINK", anyOf(keys)...))
			n += gone
			return err
		})
		return words.Count(int(n), "key") + " deleted", err
	}
	all, err := s.commands(ctx, a)
	if err != nil {
		return "", err
	}
	// All or nothing.
	commands := [][]any{{"MULTI"}}
	for _, c := range all {
		commands = append(commands, anyOf(c))
	}
	answers, err := s.pipeline(ctx, append(commands, []any{"EXEC"}))
	if err != nil {
		return "", err
	}
	for _, answer := range answers { // of a command that is refused, and of EXEC then
		if refused, ok := answer.(error); ok {
			return "", explain(refused)
		}
	}
	results, _ := answers[len(answers)-1].([]any)
	for _, result := range results {
		if refused, ok := result.(error); ok {
			return "", explain(refused)
		}
	}
	if len(results) == 0 || results[0] == nil {
		return "", &store.FixedError{Why: "there is such a key already"}
	}
	none := results[0] == int64(0)
	switch {
	case none && (a.Action == store.Delete || a.Action == expire && a.Values["seconds"] != nil && *a.Values["seconds"] != ""):
		return "", &store.GoneError{What: "the key"}
	case none && a.Action == rename:
		return "", &store.FixedError{Why: "there is a key " + *a.Values["name"] + " already"}
	}
	return map[string]string{store.Delete: "1 key deleted", store.Insert: "1 key added", store.Change: "changed", expire: "done", rename: "renamed"}[a.Action], nil
}

func anyOf(words []string) []any {
	out := make([]any, len(words))
	for i, w := range words {
		out[i] = w
	}
	return out
}
