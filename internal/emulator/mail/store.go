package mail

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/core/machine/lazyregexp"
)

// Summary is what came in so far, in a few words.
type Summary struct {
	Count int       `json:"count"`
	At    time.Time `json:"at"` // when the latest message came
	From  string    `json:"from"`
	To    string    `json:"to"` // the recipients, separated by commas
	// Subject is the latest message's, decoded.
	Subject string `json:"subject"`
	// Unseen is how many nobody has seen.
	Unseen int `json:"unseen"`
}

const summaryFile = "summary.json"

// ReadSummary reads the summary that the server of the folder keeps; its
// error is fs.ErrNotExist before the server's first start.
func ReadSummary(dir string) (Summary, error) {
	var s Summary
	b, err := os.ReadFile(filepath.Join(dir, summaryFile))
	if err != nil {
		return s, err
	}
	err = json.Unmarshal(b, &s)
	return s, err
}

// Mail is what a list of mails tells of one.
type Mail struct {
	ID          string    `json:"id"`
	At          time.Time `json:"at"` // when it came
	From        string    `json:"from"`
	To          []string  `json:"to"` // those it was sent to, blind copies too
	Subject     string    `json:"subject"`
	Size        int64     `json:"size"` // in bytes
	Attachments int       `json:"attachments"`
	Seen        bool      `json:"seen"`
}

// entry is a mail with the text that is searched.
type entry struct {
	Mail
	Text string `json:"text"` // in small letters
}

// line is a line of the index: a mail that came, or that one was seen.
type line struct {
	entry
	Saw string `json:"saw,omitempty"`
}

// Store keeps messages in a folder, each in a file of RFC 5322's format that
// ends in .eml. Return-Path (RFC 5321, section 4.4) and Delivered-To headers
// before the message keep its envelope. An index beside them holds what lists
// and searches need; it is made anew of the messages where it is not right.
type Store struct {
	dir string

	mu      sync.Mutex
	list    []*entry // the oldest first
	byID    map[string]*entry
	index   *os.File
	summary Summary
	changed chan struct{} // closed at every change, and made anew
}

// indexFile is the index.
const indexFile = "index.jsonl"

// searched is how much of a message is searched, in bytes.
const searched = 16 << 10

// OpenStore opens the folder, and makes it if need be.
func OpenStore(dir string) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	s := &Store{dir: dir, byID: map[string]*entry{}, changed: make(chan struct{})}
	// What a killed server left unfinished was never acknowledged.
	unfinished, _ := filepath.Glob(filepath.Join(dir, "*.unfinished"))
	for _, name := range unfinished {
		_ = os.Remove(name)
	}
	known := s.readIndex()
	names, err := filepath.Glob(filepath.Join(dir, "*.eml"))
	if err != nil {
		return nil, err
	}
	slices.Sort(names)
	for _, path := range names {
		id := strings.TrimSuffix(filepath.Base(path), ".eml")
		e := known[id]
		if e == nil {
			if e, err = describe(path); err != nil {
				return nil, err
			}
		}
		s.list, s.byID[id] = append(s.list, e), e
	}
	if n := len(s.list); n > 0 {
		s.summary = summaryOf(s.list[n-1].Mail)
	}
	s.summary.Count = len(s.list)
	return s, errors.Join(s.writeIndex(), s.writeSummary())
}

// readIndex returns what the index tells. A line that is not whole was being
// written when the server was killed.
func (s *Store) readIndex() map[string]*entry {
	known := map[string]*entry{}
	b, err := os.ReadFile(filepath.Join(s.dir, indexFile))
	if err != nil {
		return known
	}
	for text := range bytes.SplitSeq(b, []byte{'\n'}) {
		var l line
		if json.Unmarshal(text, &l) != nil {
			continue
		}
		switch {
		case l.Saw != "" && known[l.Saw] != nil:
			known[l.Saw].Seen = true
		case l.ID != "":
			known[l.ID] = &l.entry
		}
	}
	return known
}

// writeIndex writes the index anew, and opens it to be appended to.
func (s *Store) writeIndex() error {
	var b bytes.Buffer
	encoder := json.NewEncoder(&b)
	for _, e := range s.list {
		if err := encoder.Encode(line{entry: *e}); err != nil {
			return err
		}
	}
	if s.index != nil {
		s.index.Close()
	}
	path := filepath.Join(s.dir, indexFile)
	if err := atomicfile.Replace(path, b.Bytes(), 0o600); err != nil {
		return err
	}
	var err error
	s.index, err = os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0o600)
	return err
}

// note appends a line to the index. That it can't be written loses nothing: the
// messages themselves are there.
func (s *Store) note(l line) {
	if b, err := json.Marshal(l); err == nil {
		_, _ = s.index.Write(append(b, '\n'))
	}
	close(s.changed)
	s.changed = make(chan struct{})
}

// Close closes the index.
func (s *Store) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.index.Close()
}

// Add stores one message. It is on disk when Add returns without an error.
func (s *Store) Add(from string, to []string, message io.Reader) error {
	at := time.Now()
	name := filepath.Join(s.dir, at.UTC().Format("20060102T150405.000000000"))
	f, err := os.CreateTemp(s.dir, "*.unfinished")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	w := bufio.NewWriter(f)
	// How many follow, since the mail itself may go on with one.
	fmt.Fprintf(w, "Return-Path: <%s>\r\n%s%d\r\n", from, recipientsHeader, len(to))
	for _, r := range to {
		fmt.Fprintf(w, "Delivered-To: %s\r\n", r)
	}
	_, err = io.Copy(w, message)
	if err == nil {
		err = w.Flush()
	}
	if err == nil {
		err = f.Sync()
	}
	if closing := f.Close(); err == nil {
		err = closing
	}
	if err != nil {
		return err
	}
	e, err := describe(f.Name())
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	path := name + ".eml"
	for i := 1; exists(path); i++ {
		path = fmt.Sprintf("%s-%d.eml", name, i)
	}
	if err := os.Rename(f.Name(), path); err != nil {
		return err
	}
	if err := atomicfile.SyncDir(s.dir); err != nil {
		return err
	}
	e.ID, e.At = strings.TrimSuffix(filepath.Base(path), ".eml"), at
	at0 := len(s.list)
	for at0 > 0 && s.list[at0-1].ID > e.ID { // one that took longer to come
		at0--
	}
	s.list, s.byID[e.ID] = slices.Insert(s.list, at0, e), e
	s.note(line{entry: *e})
	s.summary = summaryOf(e.Mail)
	s.summary.Count = len(s.list)
	return s.writeSummary()
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return !errors.Is(err, fs.ErrNotExist)
}

func summaryOf(m Mail) Summary {
	return Summary{At: m.At, From: m.From, To: strings.Join(m.To, ", "), Subject: m.Subject}
}

func (s *Store) writeSummary() error {
	s.summary.Unseen = 0
	for _, e := range s.list {
		if !e.Seen {
			s.summary.Unseen++
		}
	}
	b, err := json.Marshal(s.summary)
	if err != nil {
		return err
	}
	// It is counted anew at the next start.
	return atomicfile.Replace(filepath.Join(s.dir, summaryFile), b, 0o600)
}

// Latest returns the summary as it is now.
func (s *Store) Latest() Summary {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.summary
}

// Changed returns a channel that is closed when something comes, goes, or is seen.
func (s *Store) Changed() <-chan struct{} {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.changed
}

// List returns the mails that contain all of the words, the newest first, from the
// one after an id on. More says that there are more.
func (s *Store) List(words, after string, limit int) (all []Mail, more bool) {
	terms := strings.Fields(strings.ToLower(words))
	s.mu.Lock()
	list := slices.Clone(s.list)
	s.mu.Unlock()
	all = []Mail{}
	for _, e := range slices.Backward(list) {
		if after != "" && e.ID >= after || slices.ContainsFunc(terms, func(t string) bool { return !strings.Contains(e.Text, t) }) {
			continue
		}
		if len(all) == limit {
			return all, true
		}
		all = append(all, s.copyOf(e))
	}
	return all, false
}

func (s *Store) copyOf(e *entry) Mail {
	s.mu.Lock()
	defer s.mu.Unlock()
	return e.Mail
}

// ErrNoMail says that there is no such mail.
var ErrNoMail = errors.New("there is no such mail")

var idForm = lazyregexp.New(`^[0-9T]{15}\.[0-9]{9}(-[0-9]+)?$`)

// Mail returns a mail by its id.
func (s *Store) Mail(id string) (Mail, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	e := s.byID[id]
	if e == nil || !idForm.MatchString(id) {
		return Mail{}, ErrNoMail
	}
	return e.Mail, nil
}

// Open opens the message of a mail, the envelope's headers first.
func (s *Store) Open(id string) (*os.File, error) {
	if _, err := s.Mail(id); err != nil {
		return nil, err
	}
	f, err := os.OpenInRoot(s.dir, id+".eml") // whatever the data came from
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrNoMail
	}
	return f, err
}

// See notes that somebody has seen a mail.
func (s *Store) See(id string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	e := s.byID[id]
	if e == nil {
		return ErrNoMail
	}
	if e.Seen {
		return nil
	}
	e.Seen = true
	s.note(line{Saw: id})
	return s.writeSummary()
}

// Delete deletes a mail; with "" all. It returns how many there were.
func (s *Store) Delete(id string) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if id != "" && s.byID[id] == nil {
		return 0, ErrNoMail
	}
	var kept []*entry
	n := 0
	var failed error
	for _, e := range s.list {
		if id != "" && e.ID != id || failed != nil {
			kept = append(kept, e)
			continue
		}
		if err := os.Remove(filepath.Join(s.dir, e.ID+".eml")); err != nil && !errors.Is(err, fs.ErrNotExist) {
			failed = err
			kept = append(kept, e)
			continue
		}
		delete(s.byID, e.ID)
		n++
	}
	s.list = kept
	s.summary = Summary{}
	if k := len(kept); k > 0 {
		s.summary = summaryOf(kept[k-1].Mail)
	}
	s.summary.Count = len(kept)
	err := errors.Join(failed, s.writeIndex(), s.writeSummary())
	close(s.changed)
	s.changed = make(chan struct{})
	return n, err
}

// Wait returns the first mail to an address that came after another one, and waits
// for it until the context ends. An address matches whatever its letters' size.
func (s *Store) Wait(ctx context.Context, to, after string) (Mail, error) {
	for {
		changed := s.Changed()
		s.mu.Lock()
		for _, e := range s.list {
			if e.ID > after && (to == "" || slices.ContainsFunc(e.To, func(one string) bool { return strings.EqualFold(one, to) })) {
				m := e.Mail
				s.mu.Unlock()
				return m, nil
			}
		}
		s.mu.Unlock()
		select {
		case <-changed:
		case <-ctx.Done():
			return Mail{}, ctx.Err()
		}
	}
}

// describe reads a stored message's envelope, its subject, and what is searched.
// What isn't there or can't be read stays empty: any message is taken.
func describe(path string) (*entry, error) {
	f, err := os.OpenInRoot(filepath.Dir(path), filepath.Base(path))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	m := Parse(f)
	e := &entry{Mail: Mail{ID: strings.TrimSuffix(filepath.Base(path), ".eml"), At: info.ModTime(), From: m.Sender, To: m.Recipients, Subject: m.Subject, Size: info.Size(), Attachments: len(m.Attachments())}}
	text := m.Text
	if text == "" {
		text, _ = ReadableHTML(m.HTML)
	}
	text = strings.Join(append([]string{e.From, m.From, m.Subject, m.To, text}, e.To...), "\n")
	e.Text = strings.ToLower(strings.ToValidUTF8(text[:min(len(text), searched)], ""))
	return e, nil
}
