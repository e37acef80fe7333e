package documents

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"log"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/emulator"
	"neighbour/internal/emulator/documents/engine"
)

// PasswordVariable is the environment variable that has the account's password, which no
// command line is to show.
const PasswordVariable = "NEIGHBOUR_DOCUMENTS_PASSWORD"

// file is the name of the database in its folder; SQLite has others beside it.
const file = "documents.db"

// Emulator is the database of documents, run alone.
var Emulator = emulator.Emulator{Name: "documents", Options: func(flags *flag.FlagSet) emulator.Serve {
	dir := flags.String("dir", ".", "the folder for the documents")
	user := flags.String("user", "", "who may use it, with the password in "+PasswordVariable+"; left out: whoever wants to")
	forget := flags.Bool("forget", false, "begin without what was there")
	rules := flags.String("misbehave", "", "the file that says how it misbehaves")
	return func(ctx context.Context, l net.Listener, log *log.Logger) error {
		if err := os.MkdirAll(*dir, 0o700); err != nil {
			return err
		}
		path := filepath.Join(*dir, file)
		if *forget {
			for _, name := range []string{path, path + "-wal", path + "-shm", summaryFile(*dir)} {
				if err := os.Remove(name); err != nil && !errors.Is(err, os.ErrNotExist) {
					return err
				}
			}
		}
		account := Account{User: *user, Password: os.Getenv(PasswordVariable)}
		if (account.User == "") != (account.Password == "") {
			return &emulator.UsageError{Err: fmt.Errorf("--user needs a password in %s, and that a user", PasswordVariable)}
		}
		e, err := engine.Open(path)
		if err != nil {
			return err
		}
		s, err := NewServer(e, log, account, misbehave.Follow(*rules, log))
		if err != nil {
			return errors.Join(err, e.Close())
		}
		log.Printf("documents in %s, at %s", path, l.Addr())
		ctx, cancel := context.WithCancel(ctx)
		told := make(chan struct{})
		go func() {
			defer close(told)
			tell(ctx, e, summaryFile(*dir), log)
		}()
		err = s.Serve(ctx, l)
		cancel()
		<-told
		return errors.Join(err, e.Close())
	}
}}

// Summary says what a database holds.
type Summary struct {
	Documents   int64              `json:"documents"`
	Collections []CollectionNumber `json:"collections"`
}

// CollectionNumber says how many documents a collection has.
type CollectionNumber struct {
	Database   string `json:"database"`
	Collection string `json:"collection"`
	Documents  int64  `json:"documents"`
}

func summaryFile(dir string) string { return filepath.Join(dir, "summary.json") }

// ReadSummary returns what was in a folder's database some moments ago.
func ReadSummary(dir string) (s Summary, err error) {
	return s, atomicfile.ReadJSON(summaryFile(dir), &s)
}

// tellEvery is how often the summary is written at most. Counting takes a hundredth of the
// time, if there are many documents.
const tellEvery = 2 * time.Second

// tell keeps the summary.
func tell(ctx context.Context, e *engine.Engine, file string, log *log.Logger) {
	var was string
	for {
		_, news := e.Latest()
		began := time.Now()
		counts, err := counted(ctx, e)
		if err == nil {
			was, err = write(file, counts, was)
		}
		if err != nil && ctx.Err() == nil {
			log.Printf("the summary can't be written: %v", err)
		}
		pause := time.NewTimer(max(tellEvery, 100*time.Since(began)))
		select {
		case <-ctx.Done():
		case <-pause.C:
		}
		pause.Stop()
		select {
		case <-ctx.Done():
			return
		case <-news:
		}
	}
}

func counted(ctx context.Context, e *engine.Engine) (map[engine.Space]int64, error) {
	counts := map[engine.Space]int64{}
	for _, database := range e.Databases() {
		for _, name := range e.Collections(database) {
			space := engine.Space{Database: database, Collection: name}
			n, err := e.Count(ctx, space)
			if err != nil {
				return nil, err
			}
			counts[space] = n
		}
	}
	return counts, nil
}

func write(file string, counts map[engine.Space]int64, was string) (string, error) {
	s := Summary{Collections: []CollectionNumber{}}
	for space, n := range counts {
		s.Documents += n
		s.Collections = append(s.Collections, CollectionNumber{space.Database, space.Collection, n})
	}
	slices.SortFunc(s.Collections, func(a, b CollectionNumber) int {
		return strings.Compare(a.Database+"\x00"+a.Collection, b.Database+"\x00"+b.Collection)
	})
	b, err := json.Marshal(s)
	if err != nil || string(b) == was {
		return was, err
	}
	return string(b), atomicfile.Write(file, b, 0o600)
}
