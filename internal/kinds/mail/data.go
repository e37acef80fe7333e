package mail

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/core/machine/probe"
	"neighbour/internal/core/machine/words"
	emulator "neighbour/internal/emulator/mail"
)

// Source looks into the inbox.
func (Kind) Source(in *kind.Instance) (store.Source, error) {
	page, err := inbox(in)
	return &source{page: page, root: in.Root, http: &http.Client{Transport: &http.Transport{MaxConnsPerHost: 2}}}, err
}

// source asks the server of the inbox.
type source struct {
	page string
	root string // the project's folder
	http *http.Client
}

func (s *source) Close() error {
	s.http.CloseIdleConnections()
	return nil
}

func (s *source) ask(ctx context.Context, method, path string, in, out any) error {
	var body bytes.Buffer
	if in != nil {
		if err := json.NewEncoder(&body).Encode(in); err != nil {
			return err
		}
	}
	r, err := http.NewRequestWithContext(ctx, method, s.page+path, &body)
	if err != nil {
		return err
	}
	answer, err := s.http.Do(r)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return errors.New(probe.Explain(err))
	}
	defer answer.Body.Close()
	if answer.StatusCode == http.StatusNotFound {
		return &store.GoneError{What: "the mail"}
	}
	if answer.StatusCode != http.StatusOK {
		var problem struct{ Error string }
		_ = json.NewDecoder(answer.Body).Decode(&problem)
		return &store.AnswerError{Message: problem.Error}
	}
	return json.NewDecoder(answer.Body).Decode(out)
}

// inboxName is the only collection.
const inboxName = "inbox"

// Collections is the inbox, with the rules that hold.
func (s *source) Collections(ctx context.Context) ([]store.Collection, error) {
	var l emulator.Listed
	if err := s.ask(ctx, "GET", "/messages?limit=1", nil, &l); err != nil {
		return nil, err
	}
	var rules emulator.Rules
	if err := s.ask(ctx, "GET", "/rules", nil, &rules); err != nil {
		return nil, err
	}
	return []store.Collection{{Name: inboxName, Title: inboxName, Is: "inbox", Count: int64(l.Count), Bytes: -1, New: l.Unseen, Note: rules.InWords(), Can: []string{store.Delete, store.Clear}}}, nil
}

var columns = []store.Column{
	{Name: "from", Type: "address", Is: store.Text}, {Name: "to", Type: "addresses", Is: store.Text}, {Name: "subject", Type: "text", Is: store.Text},
	{Name: "came", Type: "time", Is: store.Time}, {Name: "size", Type: "bytes", Is: store.Number}, {Name: "attached", Type: "count", Is: store.Number},
}

func check(collection string) error {
	if collection != inboxName {
		return &store.GoneError{What: "a collection " + collection + " (there is " + inboxName + ")"}
	}
	return nil
}

// Items returns mails, the newest first.
func (s *source) Items(ctx context.Context, q store.Query) (store.Page, error) {
	began := time.Now()
	p := store.Page{Columns: columns, Rows: []store.Row{}, Order: "newest first"}
	if err := check(q.Collection); err != nil {
		return p, err
	}
	if q.Back {
		return p, &store.FixedError{Why: "go on from the beginning"}
	}
	if q.Where != "" {
		p.Where = fmt.Sprintf("with %q in them", q.Where)
	}
	var l emulator.Listed
	if err := s.ask(ctx, "GET", fmt.Sprintf("/messages?limit=%d&after=%s&q=%s", min(max(q.Limit, 1), store.PageLimit), url.QueryEscape(idOf(q.After)), url.QueryEscape(q.Where)), nil, &l); err != nil {
		return p, err
	}
	text := func(v string) store.Value { return store.Value{Text: v, Is: store.Text} }
	for _, m := range l.Messages {
		attached := store.NullValue
		if m.Attachments > 0 {
			attached = store.Value{Text: strconv.Itoa(m.Attachments), Is: store.Number}
		}
		p.Rows = append(p.Rows, store.Row{Key: store.KeyFor(m.ID), New: !m.Seen, Values: []store.Value{text(m.From), text(strings.Join(m.To, ", ")), text(m.Subject),
			{Text: m.At.Local().Format("2006-01-02 15:04:05"), Is: store.Time}, {Text: strconv.FormatInt(m.Size, 10), Is: store.Number}, attached}})
	}
	if n := len(p.Rows); n > 0 {
		p.More, p.Next = l.More, p.Rows[n-1].Key
	}
	p.Took = float64(time.Since(began).Microseconds()) / 1000
	return p, nil
}

// idOf is the id of a mail in a key, or "".
func idOf(key string) string {
	id, _ := store.TextOfKey(key)
	return id
}

// Item returns a mail as it reads: what is wrong with it, its text with numbered
// links, its parts, its headers.
func (s *source) Item(ctx context.Context, collection, key string) (store.Item, error) {
	item := store.Item{Collection: collection, Key: key}
	if err := check(collection); err != nil {
		return item, err
	}
	id := url.PathEscape(idOf(key))
	var m emulator.Whole
	if err := s.ask(ctx, "GET", "/messages/"+id, nil, &m); err != nil {
		return item, err
	}
	add := func(name, kind, text string) {
		if text == "" {
			return
		}
		v := store.Value{Text: text, Is: store.Text}
		if r := []rune(text); len(r) > store.ValueLimit {
			v.Text, v.Cut = string(r[:store.ValueLimit]), true
		}
		item.Fields = append(item.Fields, store.Field{Column: store.Column{Name: name, Type: kind, Is: store.Text}, Value: v})
	}
	from := m.Message.From
	if from == "" {
		from = m.Mail.From
	}
	item.Says = m.Mail.Subject
	add("subject", "text", m.Mail.Subject)
	add("from", "address", from)
	add("to", "addresses", strings.Join(slices.DeleteFunc(slices.Clone(m.Mail.To), func(to string) bool { return slices.Contains(m.Bcc, to) }), ", "))
	add("cc", "addresses", m.Cc)
	add("bcc", "addresses", strings.Join(m.Bcc, ", "))
	add("reply to", "address", m.ReplyTo)
	add("text", "as it reads", m.Readable)
	var links []string
	for i, l := range m.Links {
		links = append(links, fmt.Sprintf("[%d] %s", i+1, l))
	}
	add("links", words.Count(len(links), "link"), strings.Join(links, "\n"))
	for i, p := range m.Parts {
		name := p.Name
		if name == "" {
			name = fmt.Sprintf("part %d", i+1)
		}
		add("part", p.Type, fmt.Sprintf("%s, %s, %s/messages/%s/parts/%d", name, words.Bytes(uint64(p.Size)), s.page, id, i))
	}
	if m.HTML != "" {
		add("plain part", "text", m.Text)
		add("HTML", "source", m.HTML)
	}
	var heads []string
	for _, h := range m.Headers {
		heads = append(heads, h.Name+": "+h.Value)
	}
	add("headers", words.Count(len(heads), "header"), strings.Join(heads, "\n"))
	for _, p := range m.Problems {
		item.Notes = append(item.Notes, "▲ "+p)
	}
	return item, nil
}

// The actions beside those that all sources have.
const (
	release = "release"
	rule    = "rules"
	save    = "save"
)

// Actions lists what can be done with the inbox or a mail.
func (s *source) Actions(ctx context.Context, _, key string) ([]store.Action, error) {
	if key != "" {
		parts, err := s.attached(ctx, key)
		out := []store.Action{{Name: store.Delete, Says: "delete it"},
			{Name: release, Says: "hand it on to a real server", Inputs: []store.Input{{Name: "server", Hint: "host:port of a mail server"}, {Name: "to", Hint: "recipients; nothing: the mail's own"}}}}
		if len(parts) > 0 {
			out = append(out, store.Action{Name: save, Says: "save " + words.Count(len(parts), "attachment"), Inputs: []store.Input{{Name: "folder", Hint: "where to put them; no file there is written over", Value: s.root}}})
		}
		return out, err
	}
	var r emulator.Rules
	if err := s.ask(ctx, "GET", "/rules", nil, &r); err != nil {
		return nil, err
	}
	wrong := misbehave.ActionOf(r.Misbehave)
	return []store.Action{{Name: store.Clear, Says: "delete all mails"},
		{Name: rule, Says: "refuse or drop some recipients, for tests", Inputs: []store.Input{
			{Name: "refuse", Hint: "recipients to refuse: *@bounce.example.org", Value: strings.Join(r.Refuse, " ")},
			{Name: "drop", Hint: "recipients at whom the connection is cut", Value: strings.Join(r.Drop, " ")}}}, wrong}, nil
}

// rules are those that an act means; what it leaves out stays.
func (s *source) rules(ctx context.Context, a store.Act) (emulator.Rules, error) {
	var r emulator.Rules
	if err := s.ask(ctx, "GET", "/rules", nil, &r); err != nil {
		return r, err
	}
	r.Refuse = strings.Fields(a.Given("refuse", strings.Join(r.Refuse, " ")))
	r.Drop = strings.Fields(a.Given("drop", strings.Join(r.Drop, " ")))
	if a.Action == misbehave.ActionName {
		var err error
		if r.Misbehave, err = misbehave.Given(r.Misbehave, a); err != nil {
			return r, err
		}
	}
	if err := r.Check(); err != nil {
		return r, &store.FixedError{Why: err.Error()}
	}
	return r, nil
}

// Plan says what an act would do.
func (s *source) Plan(ctx context.Context, a store.Act) (store.Plan, error) {
	switch a.Action {
	case store.Delete:
		return store.Plan{Statement: "DELETE /messages/" + idOf(a.Key), Loses: "the mail"}, nil
	case store.Clear:
		all, err := s.Collections(ctx)
		if err != nil {
			return store.Plan{}, err
		}
		return store.Plan{Statement: "DELETE /messages", Loses: words.Count(int(all[0].Count), "mail")}, nil
	case save:
		dir, err := s.folder(a)
		if err != nil {
			return store.Plan{}, err
		}
		parts, err := s.attached(ctx, a.Key)
		return store.Plan{Statement: "write " + words.Count(len(parts), "file") + " into " + dir}, err
	case release:
		return store.Plan{Statement: "hand the mail on to " + a.Given("server", "") + ", which delivers it to real people"}, nil
	case rule, misbehave.ActionName:
		r, err := s.rules(ctx, a)
		says := "PUT /rules: it " + r.InWords()
		if r.InWords() == "" {
			says = "PUT /rules: it takes every mail"
		}
		return store.Plan{Statement: says}, err
	}
	return store.Plan{}, store.ErrNoAction
}

// Do carries an act out.
func (s *source) Do(ctx context.Context, a store.Act) (string, error) {
	switch a.Action {
	case store.Delete:
		return "1 mail deleted", s.ask(ctx, "DELETE", "/messages/"+url.PathEscape(idOf(a.Key)), nil, &struct{}{})
	case store.See:
		return "seen", s.ask(ctx, "POST", "/messages/"+url.PathEscape(idOf(a.Key))+"/seen", nil, &struct{}{})
	case store.Clear:
		var gone struct{ Deleted int }
		err := s.ask(ctx, "DELETE", "/messages", nil, &gone)
		return words.Count(gone.Deleted, "mail") + " deleted", err
	case save:
		return s.saveAll(ctx, a)
	case release:
		to := strings.FieldsFunc(a.Given("to", ""), func(r rune) bool { return r == ',' || r == ' ' })
		return "handed on", s.ask(ctx, "POST", "/messages/"+url.PathEscape(idOf(a.Key))+"/release", emulator.Release{Server: a.Given("server", ""), To: to}, &struct{}{})
	case rule, misbehave.ActionName:
		r, err := s.rules(ctx, a)
		if err != nil {
			return "", err
		}
		var now emulator.Rules
		err = s.ask(ctx, "PUT", "/rules", r, &now)
		if says := now.InWords(); says != "" {
			return "it " + says, err
		}
		return "it takes every mail", err
	}
	return "", store.ErrNoAction
}
