package objects

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"log"
	"mime"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/core/machine/atomicfile"
	"neighbour/internal/emulator"
)

// SecretVariable is the environment variable that has the secret key, which no command
// line is to show.
const SecretVariable = "NEIGHBOUR_OBJECTS_SECRET"

// Emulator is the store of objects, run alone.
var Emulator = emulator.Emulator{Name: "objects", Options: func(flags *flag.FlagSet) emulator.Serve {
	dir := flags.String("dir", ".", "the folder for the objects")
	access := flags.String("access", "", "the access key; the secret one is in "+SecretVariable+"; left out: whoever wants to may use it")
	region := flags.String("region", "us-east-1", "the region that clients are told")
	forget := flags.Bool("forget", false, "begin without what was there")
	rules := flags.String("misbehave", "", "the file that says how it misbehaves")
	var buckets, public []string
	var names Names
	flags.Func("name", "a host name by which it is reached", func(name string) error { names = append(names, name); return nil })
	fill := map[string]string{}
	flags.Func("bucket", "a bucket to make", func(name string) error { buckets = append(buckets, name); return CheckName(name) })
	flags.Func("public", "a bucket that everybody may read", func(name string) error { public = append(public, name); return nil })
	flags.Func("fill", "BUCKET=FOLDER: what a bucket holds when it is made", func(text string) error {
		bucket, folder, ok := strings.Cut(text, "=")
		if !ok {
			return errors.New("write BUCKET=FOLDER")
		}
		fill[bucket] = folder
		return nil
	})
	return func(ctx context.Context, l net.Listener, log *log.Logger) error {
		keys := Keys{Access: *access, Secret: os.Getenv(SecretVariable)}
		if (keys.Access == "") != (keys.Secret == "") {
			return &emulator.UsageError{Err: fmt.Errorf("--access needs a secret key in %s, and that an access key", SecretVariable)}
		}
		if *forget {
			entries, err := os.ReadDir(*dir)
			if err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
			for _, e := range entries {
				if err := os.RemoveAll(filepath.Join(*dir, e.Name())); err != nil {
					return err
				}
			}
		}
		store, err := OpenStore(*dir)
		if err != nil {
			return err
		}
		for _, name := range buckets {
			if err := store.ensure(ctx, name, fill[name], log); err != nil {
				return errors.Join(err, store.Close())
			}
		}
		for _, name := range public {
			b, err := store.Bucket(ctx, name)
			if err == nil && !b.Public {
				b.Public = true
				err = store.SaveBucket(ctx, b)
			}
			if err != nil {
				return errors.Join(fmt.Errorf("the bucket %s: %w", name, err), store.Close())
			}
		}
		s := &Server{Store: store, Log: log, Keys: keys, Region: *region, Names: names, Misbehave: misbehave.Follow(*rules, log)}
		log.Printf("objects in %s, at http://%s", *dir, l.Addr())
		ctx, cancel := context.WithCancel(ctx)
		told := make(chan struct{})
		go func() {
			defer close(told)
			store.tell(ctx, summaryFile(*dir), log)
		}()
		err = s.Serve(ctx, l)
		cancel()
		<-told
		return errors.Join(err, store.Close())
	}
}}

// ensure makes a bucket, filled with the files of a folder, if it isn't there.
func (s *Store) ensure(ctx context.Context, name, folder string, log *log.Logger) error {
	if _, err := s.Bucket(ctx, name); err == nil {
		return nil
	}
	if err := s.SaveBucket(ctx, Bucket{Name: name}); err != nil || folder == "" {
		return err
	}
	n := 0
	err := filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		rel, err := filepath.Rel(folder, path)
		if err != nil {
			return err
		}
		n++
		return s.add(ctx, name, filepath.ToSlash(rel), path)
	})
	if err != nil { // it is filled at the next start
		return errors.Join(fmt.Errorf("the bucket %s can't be filled: %w", name, err), s.empty(ctx, name))
	}
	log.Printf("%d files of %s are in the bucket %s now", n, folder, name)
	return nil
}

func (s *Store) empty(ctx context.Context, bucket string) error {
	all, _, _, _, err := s.List(ctx, Listing{Bucket: bucket, Limit: 1 << 30})
	for _, o := range all {
		if _, err := s.Remove(ctx, bucket, o.Key, "", nil); err != nil {
			return err
		}
	}
	if err != nil {
		return err
	}
	return s.RemoveBucket(ctx, bucket)
}

// add makes an object of a file.
func (s *Store) add(ctx context.Context, bucket, key, file string) error {
	in, err := os.Open(file)
	if err != nil {
		return err
	}
	defer in.Close()
	f, path, err := s.fresh()
	if err != nil {
		return err
	}
	_, err = io.Copy(f, in)
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	size, etag, err := s.digest(path)
	if err != nil {
		return err
	}
	headers := map[string]string{"Content-Type": mime.TypeByExtension(filepath.Ext(key))}
	if headers["Content-Type"] == "" {
		headers["Content-Type"] = "binary/octet-stream"
	}
	_, err = s.Put(ctx, Object{Bucket: bucket, Key: key, Size: size, ETag: etag, Headers: headers}, path, nil)
	return err
}

// Summary says what a store holds.
type Summary struct {
	Buckets []BucketSummary `json:"buckets"`
}

// BucketSummary says what a bucket holds.
type BucketSummary struct {
	Name    string `json:"name"`
	Objects int64  `json:"objects"`
	Bytes   int64  `json:"bytes"`
	Public  bool   `json:"public"`
}

func summaryFile(dir string) string { return filepath.Join(dir, ".neighbour", "summary.json") }

// ReadSummary returns what was in a folder's store some moments ago.
func ReadSummary(dir string) (s Summary, err error) {
	return s, atomicfile.ReadJSON(summaryFile(dir), &s)
}

// summary counts what there is.
func (s *Store) summary(ctx context.Context) (out Summary, err error) {
	all, err := s.Buckets(ctx)
	if err != nil {
		return out, err
	}
	out.Buckets = []BucketSummary{}
	for _, b := range all {
		one := BucketSummary{Name: b.Name, Public: b.Public}
		if err := s.db.QueryRowContext(ctx, "SELECT count(*), coalesce(sum(size), 0) FROM objects WHERE bucket = ? AND latest AND NOT deleted", b.Name).Scan(&one.Objects, &one.Bytes); err != nil {
			return out, err
		}
		out.Buckets = append(out.Buckets, one)
	}
	return out, nil
}

// tell keeps the summary. Counting takes a hundredth of the time at most.
func (s *Store) tell(ctx context.Context, file string, log *log.Logger) {
	last := int64(-1)
	for {
		began := time.Now()
		if changes := s.changes.Load(); changes != last {
			now, err := s.summary(ctx)
			if err == nil {
				b, _ := json.Marshal(now) // of texts and numbers: never fails
				err = atomicfile.Write(file, b, 0o600)
			}
			if last = changes; err != nil && ctx.Err() == nil {
				log.Printf("the summary can't be written: %v", err)
			}
		}
		timer := time.NewTimer(max(2*time.Second, 100*time.Since(began)))
		select {
		case <-ctx.Done():
			timer.Stop()
			return
		case <-timer.C:
		}
	}
}
