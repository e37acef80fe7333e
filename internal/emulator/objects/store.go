package objects

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	_ "modernc.org/sqlite" // the driver

	"neighbour/internal/core/machine/atomicfile"
)

// Store keeps buckets and their objects in a folder: what an object holds in a file under
// its name, so that people can look, and what there is to know of it in an SQLite file. An
// object is there as a whole or not at all, whenever the process is killed. Its methods
// may be called at the same time.
type Store struct {
	dir  string
	root *os.Root // which no link leads out of
	db   *sql.DB
	now  func() time.Time

	mu      sync.Mutex   // one writes at a time
	changes atomic.Int64 // that were made
}

// Bucket is a bucket.
type Bucket struct {
	Name    string
	Created time.Time
	// Public says that everybody may read its objects.
	Public bool
	// Versions is Enabled or Suspended, "" if it never had versions.
	Versions string
	CORS     []CORSRule
}

// Object is an object, or a version of one.
type Object struct {
	Bucket, Key string
	// Version is its id, "null" if it has none.
	Version string
	// Deleted says that it is only the mark of a deletion.
	Deleted bool
	Latest  bool
	Size    int64
	ETag    string // without quotes
	At      time.Time
	// Headers are those that it was put with and is given back with.
	Headers map[string]string
	Tags    map[string]string
	// Sums are its checksums by their algorithm: "crc32".
	Sums map[string]string

	row  int64
	path string // of its file, in the folder
}

const schema = `
CREATE TABLE IF NOT EXISTS buckets (name TEXT PRIMARY KEY, created INTEGER NOT NULL, about TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS objects (id INTEGER PRIMARY KEY AUTOINCREMENT, bucket TEXT NOT NULL, key BLOB NOT NULL, version TEXT NOT NULL, latest INTEGER NOT NULL, deleted INTEGER NOT NULL,
	size INTEGER NOT NULL, etag TEXT NOT NULL, at INTEGER NOT NULL, path TEXT NOT NULL, about TEXT NOT NULL);
CREATE INDEX IF NOT EXISTS objects_latest ON objects (bucket, key) WHERE latest;
CREATE UNIQUE INDEX IF NOT EXISTS objects_versions ON objects (bucket, key, version);
CREATE INDEX IF NOT EXISTS objects_paths ON objects (path);
CREATE TABLE IF NOT EXISTS uploads (id TEXT PRIMARY KEY, bucket TEXT NOT NULL, key BLOB NOT NULL, began INTEGER NOT NULL, about TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS parts (upload TEXT NOT NULL, number INTEGER NOT NULL, size INTEGER NOT NULL, etag TEXT NOT NULL, at INTEGER NOT NULL, path TEXT NOT NULL, about TEXT NOT NULL, PRIMARY KEY (upload, number)) WITHOUT ROWID;
`

// Folders of what is not an object under its name.
const (
	incoming = ".neighbour/incoming"
	versions = ".neighbour/versions"
)

// OpenStore opens a folder, and makes it if it isn't there.
func OpenStore(dir string) (*Store, error) {
	for _, sub := range []string{incoming, versions} {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o700); err != nil {
			return nil, err
		}
	}
	file := filepath.Join(dir, ".neighbour", "objects.db")
	db, err := sql.Open("sqlite", "file:"+strings.NewReplacer("%", "%25", "?", "%3f", "#", "%23").Replace(file)+"?_pragma=journal_mode(wal)&_pragma=synchronous(normal)&_pragma=busy_timeout(10000)&_txlock=immediate")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(8) // each has a cache; writers take turns anyway
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	s := &Store{dir: dir, root: root, db: db, now: time.Now}
	if _, err := db.Exec(schema + changesSchema); err != nil {
		return nil, errors.Join(fmt.Errorf("%s: %w", file, err), db.Close())
	}
	if err := s.recover(); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	return s, nil
}

// Close closes the folder.
func (s *Store) Close() error { return errors.Join(s.db.Close(), s.root.Close()) }

// file is where a path of the store is.
func (s *Store) file(path string) string { return filepath.Join(s.dir, filepath.FromSlash(path)) }

// arrived has what came in be on the disk before anything says that it is there.
func (s *Store) arrived(f *os.File) error {
	if err := f.Sync(); err != nil {
		return err
	}
	return atomicfile.SyncDir(s.file(incoming))
}

// fresh makes a file for what is coming in.
func (s *Store) fresh() (f *os.File, path string, err error) {
	path = incoming + "/" + rand.Text()
	f, err = os.OpenFile(s.file(path), os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	return f, path, err
}

// about is what of an object or an upload is written as JSON.
type about struct {
	Headers map[string]string `json:"headers,omitempty"`
	Tags    map[string]string `json:"tags,omitempty"`
	Sums    map[string]string `json:"sums,omitempty"`
}

func asJSON(v any) string {
	b, _ := json.Marshal(v) // of texts: never fails
	return string(b)
}

const columns = "id, bucket, key, version, latest, deleted, size, etag, at, path, about"

type scanner interface{ Scan(...any) error }

func scanObject(row scanner) (o Object, err error) {
	var at int64
	var key []byte
	var text string
	if err = row.Scan(&o.row, &o.Bucket, &key, &o.Version, &o.Latest, &o.Deleted, &o.Size, &o.ETag, &at, &o.path, &text); err != nil {
		return o, err
	}
	var a about
	err = json.Unmarshal([]byte(text), &a)
	o.Key, o.At, o.Headers, o.Tags, o.Sums = string(key), time.UnixMilli(at).UTC(), a.Headers, a.Tags, a.Sums
	return o, err
}

func (s *Store) byRow(ctx context.Context, row int64) (Object, error) {
	return scanObject(s.db.QueryRowContext(ctx, "SELECT "+columns+" FROM objects WHERE id = ?", row))
}

// Get returns an object, or a version of it. Its error is a *Error of the protocol if it
// isn't there.
func (s *Store) Get(ctx context.Context, bucket, key, version string) (o Object, err error) {
	if version == "" {
		o, err = scanObject(s.db.QueryRowContext(ctx, "SELECT "+columns+" FROM objects WHERE bucket = ? AND key = ? AND latest", bucket, []byte(key)))
	} else {
		o, err = scanObject(s.db.QueryRowContext(ctx, "SELECT "+columns+" FROM objects WHERE bucket = ? AND key = ? AND version = ?", bucket, []byte(key), version))
	}
	if errors.Is(err, sql.ErrNoRows) {
		if version != "" {
			return o, errNoSuchVersion
		}
		return o, errNoSuchKey
	}
	return o, err
}

// Open opens what an object holds. It may be moving to its name just now.
func (s *Store) Open(ctx context.Context, o Object) (*os.File, error) {
	f, err := s.root.Open(filepath.FromSlash(o.path))
	if !errors.Is(err, fs.ErrNotExist) {
		return f, err
	}
	s.mu.Lock() // whoever moves it has come to an end then
	defer s.mu.Unlock()
	if o, err = s.byRow(ctx, o.row); err != nil {
		return nil, errNoSuchKey
	}
	return s.root.Open(filepath.FromSlash(o.path))
}

// Read opens what an object holds that is found in some way, and returns the object as it
// is then. One that is replaced while it is opened is looked for again, since its file may
// be the other's.
func (s *Store) Read(ctx context.Context, find func() (Object, error)) (Object, *os.File, error) {
	for {
		o, err := find()
		if err != nil {
			return o, nil, err
		}
		f, err := s.Open(ctx, o)
		if _, gone := s.byRow(ctx, o.row); errors.Is(gone, sql.ErrNoRows) {
			if err == nil {
				f.Close()
			}
			continue
		}
		return o, f, err
	}
}

// Bucket returns a bucket. Its error is a *Error of the protocol if it isn't there.
func (s *Store) Bucket(ctx context.Context, name string) (b Bucket, err error) {
	var created int64
	var text string
	err = s.db.QueryRowContext(ctx, "SELECT name, created, about FROM buckets WHERE name = ?", name).Scan(&b.Name, &created, &text)
	if errors.Is(err, sql.ErrNoRows) {
		return b, errNoSuchBucket
	}
	if err == nil {
		err = json.Unmarshal([]byte(text), &b)
	}
	b.Name, b.Created = name, time.UnixMilli(created).UTC()
	return b, err
}

// Buckets lists the buckets.
func (s *Store) Buckets(ctx context.Context) (out []Bucket, err error) {
	rows, err := s.db.QueryContext(ctx, "SELECT name FROM buckets ORDER BY name")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var names []string
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		names = append(names, name)
	}
	for _, name := range names {
		b, err := s.Bucket(ctx, name)
		if err != nil {
			return nil, err
		}
		out = append(out, b)
	}
	return out, rows.Err()
}

// CheckName says what is wrong with a bucket's name.
func CheckName(name string) error {
	ok := len(name) >= 3 && len(name) <= 63 && !strings.Contains(name, "..")
	for i, c := range []byte(name) {
		inner := i > 0 && i < len(name)-1
		ok = ok && (c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || inner && (c == '-' || c == '.'))
	}
	if !ok {
		return fmt.Errorf("%q is no name of a bucket: 3 to 63 of a to z, 0 to 9, dots and hyphens", name)
	}
	return nil
}

// SaveBucket makes a bucket, or changes what there is to know of it.
func (s *Store) SaveBucket(ctx context.Context, b Bucket) error {
	if err := CheckName(b.Name); err != nil {
		return &Error{Code: "InvalidBucketName", Status: 400, Message: err.Error()}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.saveBucket(ctx, b)
}

// ChangeBucket changes what there is to know of a bucket that is there, while nobody else does.
func (s *Store) ChangeBucket(ctx context.Context, name string, do func(*Bucket)) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	b, err := s.Bucket(ctx, name)
	if err != nil {
		return err
	}
	do(&b)
	return s.saveBucket(ctx, b)
}

func (s *Store) saveBucket(ctx context.Context, b Bucket) error {
	s.changes.Add(1)
	_, err := s.db.ExecContext(ctx, "INSERT INTO buckets VALUES (?, ?, ?) ON CONFLICT (name) DO UPDATE SET about = excluded.about", b.Name, s.now().UnixMilli(), asJSON(b))
	if err == nil {
		err = os.MkdirAll(s.file(b.Name), 0o700)
	}
	return err
}

// RemoveBucket takes an empty bucket away.
func (s *Store) RemoveBucket(ctx context.Context, name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.changes.Add(1)
	if _, err := s.Bucket(ctx, name); err != nil {
		return err
	}
	var n int
	if err := s.db.QueryRowContext(ctx, "SELECT (SELECT count(*) FROM objects WHERE bucket = ?) + (SELECT count(*) FROM uploads WHERE bucket = ?)", name, name).Scan(&n); err != nil {
		return err
	}
	if n > 0 {
		return &Error{Code: "BucketNotEmpty", Status: 409, Message: "The bucket you tried to delete is not empty."}
	}
	_, err := s.db.ExecContext(ctx, "DELETE FROM buckets WHERE name = ?", name)
	_ = os.Remove(s.file(name)) // what somebody has put there by hand stays
	return err
}

// Put makes an object of a file that came in, at its path. If says what must hold of the
// object that is there, at the moment when it is replaced.
func (s *Store) Put(ctx context.Context, o Object, path string, must func(was *Object) error) (Object, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.changes.Add(1)
	b, err := s.Bucket(ctx, o.Bucket)
	if err != nil {
		return o, err
	}
	was, err := s.Get(ctx, o.Bucket, o.Key, "")
	there := err == nil
	if err != nil && !errors.Is(err, errNoSuchKey) {
		return o, err
	}
	if must != nil {
		var is *Object
		if there && !was.Deleted {
			is = &was
		}
		if err := must(is); err != nil {
			return o, err
		}
	}
	o.path, o.At, o.Latest, o.Version = path, s.now().UTC().Truncate(time.Millisecond), true, "null"
	if b.Versions == "Enabled" {
		o.Version = rand.Text()
	}
	gone, err := s.replace(ctx, &o, was, there)
	if err != nil {
		return o, err
	}
	for _, path := range gone {
		_ = os.Remove(s.file(path)) // or it is found at the next start
	}
	if o.Deleted {
		return o, nil
	}
	return o, s.settle(ctx, o)
}

// replace writes an object's row, and returns the paths of files that nobody needs any
// more. A version that stays is moved out of the way.
func (s *Store) replace(ctx context.Context, o *Object, was Object, there bool) (gone []string, err error) {
	keeps := there && was.Version != o.Version
	if keeps && !was.Deleted {
		// First its own path, so that it has one at every moment.
		to := versions + "/" + rand.Text()
		if err := os.Link(s.file(was.path), s.file(to)); err != nil {
			return nil, err
		}
		if _, err := s.db.ExecContext(ctx, "UPDATE objects SET path = ? WHERE id = ?", to, was.row); err != nil {
			return nil, err
		}
		if was.path == placeOf(o.Bucket, o.Key) || strings.HasPrefix(was.path, incoming) {
			gone = append(gone, was.path)
		}
	}
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return nil, err
	}
	defer func() { _ = tx.Rollback() }()
	if _, err := tx.ExecContext(ctx, "UPDATE objects SET latest = 0 WHERE bucket = ? AND key = ? AND latest", o.Bucket, []byte(o.Key)); err != nil {
		return nil, err
	}
	old, err := scanObject(tx.QueryRowContext(ctx, "SELECT "+columns+" FROM objects WHERE bucket = ? AND key = ? AND version = ?", o.Bucket, []byte(o.Key), o.Version))
	switch {
	case err == nil:
		if _, err := tx.ExecContext(ctx, "DELETE FROM objects WHERE id = ?", old.row); err != nil {
			return nil, err
		}
		if old.path != placeOf(o.Bucket, o.Key) || o.Deleted { // else it is written over
			gone = append(gone, old.path)
		}
	case !errors.Is(err, sql.ErrNoRows):
		return nil, err
	}
	made, err := tx.ExecContext(ctx, "INSERT INTO objects (bucket, key, version, latest, deleted, size, etag, at, path, about) VALUES (?, ?, ?, 1, ?, ?, ?, ?, ?, ?)",
		o.Bucket, []byte(o.Key), o.Version, o.Deleted, o.Size, o.ETag, o.At.UnixMilli(), o.path, asJSON(about{o.Headers, o.Tags, o.Sums}))
	if err != nil {
		return nil, err
	}
	if o.row, err = made.LastInsertId(); err != nil {
		return nil, err
	}
	return slices.DeleteFunc(gone, func(path string) bool { return path == "" || path == o.path }), tx.Commit()
}

// Remove deletes an object, or one version of it, and returns what the deletion left: a
// mark where there are versions. Must says what must hold of it, nil being none.
func (s *Store) Remove(ctx context.Context, bucket, key, version string, must func(was *Object) error) (mark Object, err error) {
	b, err := s.Bucket(ctx, bucket)
	if err != nil {
		return mark, err
	}
	if version == "" && b.Versions == "Enabled" {
		return s.Put(ctx, Object{Bucket: bucket, Key: key, Deleted: true}, "", must)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.changes.Add(1)
	o, err := s.Get(ctx, bucket, key, version)
	none := errors.Is(err, errNoSuchKey) || errors.Is(err, errNoSuchVersion)
	if must != nil && (none || err == nil) {
		is := &o
		if none || o.Deleted {
			is = nil
		}
		if err := must(is); err != nil {
			return mark, err
		}
	}
	if none {
		return mark, nil // which the protocol doesn't call an error
	}
	if err != nil {
		return mark, err
	}
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return mark, err
	}
	defer func() { _ = tx.Rollback() }()
	if _, err := tx.ExecContext(ctx, "DELETE FROM objects WHERE id = ?", o.row); err != nil {
		return mark, err
	}
	if o.Latest {
		if _, err := tx.ExecContext(ctx, "UPDATE objects SET latest = 1 WHERE id = (SELECT max(id) FROM objects WHERE bucket = ? AND key = ?)", bucket, []byte(key)); err != nil {
			return mark, err
		}
	}
	if err := tx.Commit(); err != nil {
		return mark, err
	}
	if o.path != "" {
		_ = os.Remove(s.file(o.path))
		for dir := filepath.Dir(s.file(o.path)); dir != s.file(bucket) && strings.HasPrefix(dir, s.file(bucket)+"/"); dir = filepath.Dir(dir) {
			if os.Remove(dir) != nil { // until one isn't empty
				break
			}
		}
	}
	return o, nil
}

// Retag changes what there is to know of an object beside what it holds.
func (s *Store) Retag(ctx context.Context, o Object, tags map[string]string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.changes.Add(1)
	_, err := s.db.ExecContext(ctx, "UPDATE objects SET about = ? WHERE id = ?", asJSON(about{o.Headers, tags, o.Sums}), o.row)
	return err
}
