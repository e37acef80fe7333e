package custom

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/kind"
)

// Source returns a look by the declared commands.
func (h holding) Source(in *kind.Instance) (store.Source, error) {
	return &source{kind: h.kind, in: in}, nil
}

// holding is the part of a kind that declares how one looks into its services.
type holding struct{ kind Kind }

// source looks into a service with commands that print a JSON object for each item.
type source struct {
	kind Kind

	mu sync.Mutex
	in *kind.Instance
}

func (*source) Close() error { return nil }

// Collections lists the declared ones. No command is run for that.
func (s *source) Collections(context.Context) ([]store.Collection, error) {
	var out []store.Collection
	for _, name := range slices.Sorted(maps.Keys(s.kind.Data)) {
		out = append(out, store.Collection{Name: store.Join(name), Title: name, Is: "list", Count: -1, Bytes: -1})
	}
	return out, nil
}

const (
	// runLimit is how long a command may take, lineLimit how long a line of its may
	// be, in bytes.
	runLimit  = 30 * time.Second
	lineLimit = 16 << 20
)

// Items returns those that the command prints, from the place of q on.
func (s *source) Items(ctx context.Context, q store.Query) (store.Page, error) {
	p := store.Page{Rows: []store.Row{}, Order: "as the command prints them", Fixed: "a command prints it"}
	if q.Back {
		return p, &store.FixedError{Why: "what a command prints is read from its beginning only"}
	}
	from := 0
	if q.After != "" {
		var err error
		if from, err = strconv.Atoi(q.After); err != nil {
			return p, fmt.Errorf("%q is no place to go on from", q.After)
		}
	}
	if q.Wide == 0 {
		q.Wide = store.ListWidth
	}
	q.Limit = min(max(q.Limit, 1), store.PageLimit)
	began := time.Now()
	places := map[string]int{}
	n := 0
	err := s.run(ctx, q.Collection, func(line int, o object) bool {
		n = line
		if line <= from || q.Where != "" && !o.contains(q.Where) {
			return true
		}
		if p.More = len(p.Rows) == q.Limit; p.More {
			n = line - 1
			return false
		}
		row := store.Row{Key: store.KeyFor(strconv.Itoa(line))}
		for _, f := range o {
			at, known := places[f.name]
			if !known {
				at = len(p.Columns)
				places[f.name] = at
				p.Columns = append(p.Columns, store.Column{Name: f.name, Is: f.value.Is})
			}
			for len(row.Values) <= at {
				row.Values = append(row.Values, store.NullValue)
			}
			row.Values[at] = f.cut(q.Wide)
		}
		p.Rows = append(p.Rows, row)
		return true
	})
	for i := range p.Rows { // a later one may have more
		for len(p.Rows[i].Values) < len(p.Columns) {
			p.Rows[i].Values = append(p.Rows[i].Values, store.NullValue)
		}
	}
	if q.Where != "" {
		p.Where = fmt.Sprintf("containing %q", q.Where)
	}
	if p.More {
		p.Next = strconv.Itoa(n)
	}
	p.Took = float64(time.Since(began).Microseconds()) / 1000
	return p, err
}

// Item returns what the command prints in the line that the key names.
func (s *source) Item(ctx context.Context, collection, key string) (store.Item, error) {
	item := store.Item{Collection: collection, Key: key, Fixed: "a command prints it"}
	text, err := store.TextOfKey(key)
	if err != nil {
		return item, err
	}
	wanted, err := strconv.Atoi(text)
	if err != nil {
		return item, &store.GoneError{What: "line " + text}
	}
	item.Says = "line " + text
	err = s.run(ctx, collection, func(line int, o object) bool {
		if line < wanted {
			return true
		}
		for _, f := range o {
			item.Fields = append(item.Fields, store.Field{Column: store.Column{Name: f.name, Is: f.value.Is}, Value: f.cut(store.ValueLimit)})
		}
		return false
	})
	if err == nil && item.Fields == nil {
		err = &store.GoneError{What: "line " + text}
	}
	return item, err
}

// run runs the command of a collection, and calls each with what it prints, line by
// line, until that returns false.
func (s *source) run(ctx context.Context, collection string, each func(line int, o object) bool) error {
	name, err := store.Split(collection)
	if err != nil {
		return err
	}
	var c declare.Command
	if len(name) == 1 {
		c = s.kind.Data[name[0]]
	}
	if c.IsZero() {
		return &store.GoneError{What: "a collection " + collection}
	}
	argv, err := s.argv(c)
	if err != nil {
		return err
	}
	env, err := s.kind.environment(s.in)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, runLimit)
	defer cancel()
	cmd := s.in.Command(ctx, argv[0], argv[1:]...)
	cmd.Dir = data(s.in)
	cmd.Env = append(cmd.Env, env...)
	if cmd.SysProcAttr == nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{}
	}
	cmd.SysProcAttr.Setpgid = true
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = time.Second
	var said bytes.Buffer
	cmd.Stderr = &limited{w: &said, left: 4096}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	enough, problem := read(out, each)
	if enough || problem != nil {
		cancel()
	}
	err = cmd.Wait()
	var ended *exec.ExitError
	switch {
	case enough:
		return nil
	case problem != nil && !errors.Is(ctx.Err(), context.DeadlineExceeded):
		return fmt.Errorf("%s: %w", c, problem)
	case errors.Is(ctx.Err(), context.DeadlineExceeded):
		return fmt.Errorf("%s did not end within %v", c, runLimit)
	case errors.As(err, &ended):
		return fmt.Errorf("%s failed: %w: %s", c, err, strings.TrimSpace(said.String()))
	}
	return err
}

// argv returns a command, with the program that is found at the first.
func (s *source) argv(c declare.Command) ([]string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.in.Program.Path == "" {
		var err error
		if s.in.Program, err = s.kind.Find(s.in); err != nil {
			return nil, err
		}
	}
	return s.kind.argv(s.in, c)
}

// read reads a JSON object from each line that isn't empty, and reports whether
// each has enough.
func read(r io.Reader, each func(line int, o object) bool) (enough bool, err error) {
	lines := bufio.NewScanner(r)
	lines.Buffer(nil, lineLimit)
	n := 0
	for lines.Scan() {
		n++
		text := bytes.TrimSpace(lines.Bytes())
		if len(text) == 0 {
			continue
		}
		o, err := parse(text)
		if err != nil {
			return false, fmt.Errorf("line %d of what it prints is no JSON object: %w", n, err)
		}
		if !each(n, o) {
			return true, nil
		}
	}
	if errors.Is(lines.Err(), bufio.ErrTooLong) {
		return false, fmt.Errorf("line %d of what it prints is longer than %d MB", n+1, lineLimit>>20)
	}
	return false, lines.Err()
}

// object is a JSON object with its members in their order.
type object []member

type member struct {
	name  string
	value store.Value // whole
}

// cut returns the value, cut to so many characters.
func (m member) cut(wide int) store.Value {
	v := m.value
	if r := []rune(v.Text); len(r) > wide {
		v.Text, v.Cut = string(r[:wide]), true
	}
	return v
}

func (o object) contains(words string) bool {
	for _, m := range o {
		if strings.Contains(strings.ToLower(m.value.Text), strings.ToLower(words)) {
			return true
		}
	}
	return false
}

func parse(line []byte) (object, error) {
	d := json.NewDecoder(bytes.NewReader(line))
	t, err := d.Token()
	if err != nil {
		return nil, err
	}
	if t != json.Delim('{') {
		return nil, errors.New("it does not begin with {")
	}
	o := object{}
	for d.More() {
		name, err := d.Token()
		if err != nil {
			return nil, err
		}
		var raw json.RawMessage
		if err := d.Decode(&raw); err != nil {
			return nil, err
		}
		o = append(o, member{name.(string), valueOf(raw)})
	}
	if _, err := d.Token(); err != nil {
		return nil, err
	}
	if d.More() {
		return nil, errors.New("something follows the object")
	}
	return o, nil
}

func valueOf(raw json.RawMessage) store.Value {
	v := store.Value{Text: string(raw)}
	switch raw[0] {
	case 'n':
		return store.NullValue
	case 't', 'f':
		v.Is = store.Truth
	case '{', '[':
		v.Is = store.JSON
	case '"':
		v.Is = store.Text
		_ = json.Unmarshal(raw, &v.Text) // it was read as JSON
	default:
		v.Is = store.Number
	}
	return v
}

// limited writes only so much.
type limited struct {
	w    io.Writer
	left int
}

func (l *limited) Write(p []byte) (int, error) {
	n := min(len(p), l.left)
	l.left -= n
	_, err := l.w.Write(p[:n])
	return len(p), err
}
