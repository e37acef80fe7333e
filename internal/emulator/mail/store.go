package mail

import (
	"bufio"
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

	gomail "github.com/emersion/go-message/mail"

	"neighbour/internal/core/atomicfile"
)

// Summary is what came in so far, in a few words.
type Summary struct {
	Count int       `json:"count"`
	At    time.Time `json:"at"` // when the latest message came
	From  string    `json:"from"`
	To    string    `json:"to"` // the recipients, separated by commas
	// Subject is the latest message's, decoded.
	Subject string `json:"subject"`
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

// Store keeps messages in a folder, each in a file of RFC 5322's format that
// ends in .eml. Return-Path (RFC 5321, section 4.4) and Delivered-To headers
// before the message keep its envelope.
type Store struct {
	dir string

	mu      sync.Mutex
	summary Summary
}

// OpenStore opens the folder, and makes it if need be. Messages that are
// there already are counted.
func OpenStore(dir string) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	s := &Store{dir: dir}
	names, err := filepath.Glob(filepath.Join(dir, "*.eml"))
	if err != nil {
		return nil, err
	}
	// What a killed server left unfinished was never acknowledged.
	unfinished, _ := filepath.Glob(filepath.Join(dir, "*.unfinished"))
	for _, name := range unfinished {
		_ = os.Remove(name)
	}
	if len(names) > 0 {
		latest := slices.Max(names)
		if s.summary, err = summarize(latest); err != nil {
			return nil, err
		}
	}
	s.summary.Count = len(names)
	return s, s.writeSummary()
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
	fmt.Fprintf(w, "Return-Path: <%s>\r\n", from)
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
	s.mu.Lock()
	defer s.mu.Unlock()
	path := name + ".eml"
	for i := 1; exists(path); i++ {
		path = fmt.Sprintf("%s-%d.eml", name, i)
	}
	if err := os.Rename(f.Name(), path); err != nil {
		return err
	}
	summary, err := summarize(path)
	if err != nil {
		return err
	}
	summary.Count = s.summary.Count + 1
	s.summary = summary
	return s.writeSummary()
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return !errors.Is(err, fs.ErrNotExist)
}

func (s *Store) writeSummary() error {
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

// summarize reads a stored message's envelope and subject. What isn't there
// or can't be read stays empty: any message is taken.
func summarize(path string) (Summary, error) {
	f, err := os.Open(path)
	if err != nil {
		return Summary{}, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return Summary{}, err
	}
	s := Summary{At: info.ModTime()}
	r, err := gomail.CreateReader(bufio.NewReader(f))
	if err != nil {
		return s, nil
	}
	defer r.Close()
	s.From = strings.Trim(r.Header.Get("Return-Path"), "<>")
	var to []string
	for fields := r.Header.FieldsByKey("Delivered-To"); fields.Next(); {
		to = append(to, fields.Value())
	}
	s.To = strings.Join(to, ", ")
	if s.Subject, err = r.Header.Subject(); err != nil {
		s.Subject = r.Header.Get("Subject")
	}
	return s, nil
}
