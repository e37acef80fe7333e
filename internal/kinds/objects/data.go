package objects

import (
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/core/machine/probe"
	"neighbour/internal/core/machine/words"
	emulator "neighbour/internal/emulator/objects"
)

// Source looks into the buckets.
func (Kind) Source(in *kind.Instance) (store.Source, error) {
	secret, err := in.Secret("secret_key")
	return &source{c: &emulator.Client{Base: address(in), Keys: emulator.Keys{Access: access, Secret: secret}, Region: region, HTTP: &http.Client{Transport: &http.Transport{MaxConnsPerHost: 2}}}, rules: kind.MisbehaveFile(in), root: in.Root}, err
}

// source asks the server as a client of its protocol.
type source struct {
	c     *emulator.Client
	rules string // the file of the misbehaviour
	root  string // the project's folder
}

func (s *source) Close() error {
	s.c.HTTP.CloseIdleConnections()
	return nil
}

// explain says an error in the server's words, or why it can't be reached.
func explain(err error, what string) error {
	var e *emulator.Error
	switch {
	case err == nil, errors.Is(err, context.Canceled):
		return err
	case errors.As(err, &e) && (e.Code == "NoSuchKey" || e.Code == "NoSuchBucket"):
		return &store.GoneError{What: what}
	case errors.As(err, &e):
		return &store.AnswerError{Message: e.Message}
	}
	return errors.New(probe.Explain(err))
}

// Collections lists the buckets.
func (s *source) Collections(ctx context.Context) ([]store.Collection, error) {
	all, err := s.c.Summary(ctx)
	if err != nil {
		return nil, explain(err, "what it holds")
	}
	var out []store.Collection
	for _, b := range all.Buckets {
		c := store.Collection{Name: store.Join(b.Name), Title: b.Name, Is: "bucket", Count: b.Objects, Bytes: b.Bytes, Can: []string{store.Insert, store.Delete, store.Clear}}
		if b.Public {
			c.Note = "public"
		}
		out = append(out, c)
	}
	return out, nil
}

func bucketOf(collection string) (string, error) {
	parts, err := store.Split(collection)
	if err == nil && len(parts) != 1 {
		// A bucket's name may have dots.
		return collection, nil
	}
	if err != nil {
		return "", err
	}
	return parts[0], nil
}

var columns = []store.Column{
	{Name: "key", Type: "text", Is: store.Text, Key: true, Must: true}, {Name: "size", Type: "bytes", Is: store.Number}, {Name: "modified", Type: "time", Is: store.Time}, {Name: "etag", Type: "text", Is: store.Text},
}

// mostSearched is how many objects a search for words looks at for one page.
const mostSearched = 100_000

// Items returns objects in the order of their keys. A condition is how keys begin, if it
// ends with * or /, or else what is in them.
func (s *source) Items(ctx context.Context, q store.Query) (store.Page, error) {
	began := time.Now()
	page := store.Page{Columns: columns, Rows: []store.Row{}, Order: "by key"}
	bucket, err := bucketOf(q.Collection)
	if err != nil {
		return page, err
	}
	if q.Back {
		return page, &store.FixedError{Why: "go on from the beginning"}
	}
	q.Limit = min(max(q.Limit, 1), store.PageLimit)
	prefix, within := "", strings.ToLower(q.Where)
	if begin, is := strings.CutSuffix(q.Where, "*"); is || strings.HasSuffix(q.Where, "/") {
		prefix, within = begin, ""
		page.Where = "whose key begins with " + begin
	} else if within != "" {
		page.Where = fmt.Sprintf("with %q in the key", q.Where)
	}
	from := q.After
	for searched := 0; len(page.Rows) < q.Limit && searched < mostSearched; {
		l, err := s.c.List(ctx, bucket, prefix, from, q.Limit-len(page.Rows))
		if err != nil {
			return page, explain(err, "a bucket "+bucket)
		}
		for _, o := range l.Objects {
			if searched++; within != "" && !strings.Contains(strings.ToLower(o.Key), within) {
				continue
			}
			page.Rows = append(page.Rows, store.Row{Key: store.KeyFor(o.Key), Values: []store.Value{store.TextOf(o.Key, max(q.Wide, store.ListWidth)), {Text: strconv.FormatInt(o.Size, 10), Is: store.Number},
				{Text: o.At.Local().Format("2006-01-02 15:04:05"), Is: store.Time}, {Text: o.ETag, Is: store.Text}}})
		}
		if from = l.Next; from == "" {
			break
		}
	}
	page.More, page.Next = from != "", from
	page.Took = float64(time.Since(began).Microseconds()) / 1000
	return page, nil
}

// shownBytes is how much of a text is shown.
const shownBytes = 256 << 10

// Item returns what there is to know of an object, and its text if it is one.
func (s *source) Item(ctx context.Context, collection, key string) (store.Item, error) {
	item := store.Item{Collection: collection, Key: key}
	bucket, err := bucketOf(collection)
	if err != nil {
		return item, err
	}
	k, err := store.TextOfKey(key)
	if err != nil {
		return item, err
	}
	headers, size, err := s.c.Head(ctx, bucket, k)
	if err != nil {
		return item, explain(err, "the object "+k)
	}
	add := func(name, kind, text string) {
		if text != "" {
			item.Fields = append(item.Fields, store.Field{Column: store.Column{Name: name, Type: kind, Is: store.Text}, Value: store.TextOf(text, store.ValueLimit)})
		}
	}
	item.Says = k
	add("key", "text", k)
	add("size", "bytes", fmt.Sprintf("%s (%d)", words.Bytes(uint64(size)), size))
	add("type", "content type", headers.Get("Content-Type"))
	add("modified", "time", headers.Get("Last-Modified"))
	add("etag", "text", strings.Trim(headers.Get("ETag"), `"`))
	var meta []string
	for name := range headers {
		if n, is := strings.CutPrefix(name, "X-Amz-Meta-"); is {
			meta = append(meta, strings.ToLower(n)+": "+headers.Get(name))
		}
	}
	sort.Strings(meta)
	add("metadata", "headers", strings.Join(meta, "\n"))
	add("link", "for an hour", s.c.Keys.Link(s.c.Base, s.c.Region, bucket, k, time.Now(), time.Hour))
	if size > 0 {
		body, err := s.c.Get(ctx, bucket, k, shownBytes)
		if err != nil {
			return item, explain(err, "the object "+k)
		}
		defer body.Close()
		b, err := io.ReadAll(io.LimitReader(body, shownBytes))
		if err != nil {
			return item, err
		}
		for cut := 0; cut < 4 && size > shownBytes && !utf8.Valid(b); cut++ { // a character that is cut
			b = b[:len(b)-1]
		}
		if utf8.Valid(b) {
			add("holds", "text", string(b))
		}
	}
	return item, nil
}

// save writes an object to a file.
const save = "save"

// Actions lists what can be done with a bucket or an object.
func (s *source) Actions(_ context.Context, _, key string) ([]store.Action, error) {
	if key != "" {
		return []store.Action{{Name: store.Delete, Says: "delete it"}, {Name: save, Says: "save it as a file", Inputs: []store.Input{{Name: "folder", Hint: "where to put it; no file there is written over", Value: s.root}}}}, nil
	}
	wrong, err := misbehave.Action(s.rules)
	return []store.Action{{Name: store.Insert, Says: "put a file", Inputs: []store.Input{{Name: "file", Hint: "its path on this machine"}, {Name: "key", Hint: "nothing: the file's name"}}},
		{Name: store.Clear, Says: "delete all objects"}, wrong}, err
}

// filed is the file of an act, and the key that it gets.
func (s *source) filed(a store.Act) (path, key string, err error) {
	path = a.Given("file", "")
	if path == "" {
		return "", "", &store.FixedError{Why: "file: write its path"}
	}
	if !filepath.IsAbs(path) {
		path = filepath.Join(s.root, path)
	}
	info, err := os.Stat(path)
	switch {
	case err != nil:
		return "", "", &store.FixedError{Why: err.Error()}
	case !info.Mode().IsRegular():
		return "", "", &store.FixedError{Why: path + " is no file"}
	}
	if key = a.Given("key", ""); key == "" {
		key = filepath.Base(path)
	}
	return path, key, nil
}

// Plan says what an act would do.
func (s *source) Plan(ctx context.Context, a store.Act) (store.Plan, error) {
	if a.Action == misbehave.ActionName {
		r, err := misbehave.FromAct(s.rules, a)
		if err != nil {
			return store.Plan{}, err
		}
		return store.Plan{Statement: misbehave.Plan(r)}, nil
	}
	bucket, err := bucketOf(a.Collection)
	if err != nil {
		return store.Plan{}, err
	}
	switch a.Action {
	case store.Insert:
		path, key, err := s.filed(a)
		if err != nil {
			return store.Plan{}, err
		}
		p := store.Plan{Statement: "PUT /" + bucket + "/" + key + " of " + path}
		if _, _, err := s.c.Head(ctx, bucket, key); err == nil {
			p.Loses = "the object " + key + " as it is"
		}
		return p, nil
	case store.Clear:
		all, err := s.c.Summary(ctx)
		for _, b := range all.Buckets {
			if b.Name == bucket {
				return store.Plan{Statement: "DELETE of all in /" + bucket, Loses: words.Count(int(b.Objects), "object") + " of " + bucket}, err
			}
		}
		return store.Plan{}, &store.GoneError{What: "a bucket " + bucket}
	}
	key, err := store.TextOfKey(a.Key)
	if err != nil {
		return store.Plan{}, err
	}
	switch a.Action {
	case store.Delete:
		return store.Plan{Statement: "DELETE /" + bucket + "/" + key, Loses: "the object " + key}, nil
	case save:
		path, err := s.target(a, key)
		return store.Plan{Statement: "write " + path}, err
	}
	return store.Plan{}, store.ErrNoAction
}

// target is the file that an object is saved as, which isn't there.
func (s *source) target(a store.Act, key string) (string, error) {
	dir := a.Given("folder", s.root)
	if !filepath.IsAbs(dir) {
		dir = filepath.Join(s.root, dir)
	}
	name := key[strings.LastIndexByte(key, '/')+1:]
	name = strings.Map(func(r rune) rune {
		if r < ' ' || r == '/' || r == '\\' {
			return '_'
		}
		return r
	}, name)
	if name == "" || name == "." || name == ".." {
		name = "object"
	}
	path := filepath.Join(dir, name)
	if _, err := os.Lstat(path); err == nil {
		return "", &store.FixedError{Why: path + " is there already"}
	}
	return path, nil
}

// Do carries an act out.
func (s *source) Do(ctx context.Context, a store.Act) (string, error) {
	if a.Action == misbehave.ActionName {
		return misbehave.Do(s.rules, a)
	}
	bucket, err := bucketOf(a.Collection)
	if err != nil {
		return "", err
	}
	switch a.Action {
	case store.Insert:
		path, key, err := s.filed(a)
		if err != nil {
			return "", err
		}
		f, err := os.Open(path)
		if err != nil {
			return "", err
		}
		defer f.Close()
		info, err := f.Stat()
		if err != nil {
			return "", err
		}
		return "1 object put", explain(s.c.Put(ctx, bucket, key, mime.TypeByExtension(filepath.Ext(path)), f, info.Size()), "a bucket "+bucket)
	case store.Clear:
		n := 0
		for {
			l, err := s.c.List(ctx, bucket, "", "", 1000)
			if err != nil {
				return "", explain(err, "a bucket "+bucket)
			}
			for _, o := range l.Objects {
				if err := s.c.Delete(ctx, bucket, o.Key); err != nil {
					return "", explain(err, "the object "+o.Key)
				}
				n++
			}
			if l.Next == "" {
				return words.Count(n, "object") + " deleted", nil
			}
		}
	}
	key, err := store.TextOfKey(a.Key)
	if err != nil {
		return "", err
	}
	switch a.Action {
	case store.Delete:
		if _, _, err := s.c.Head(ctx, bucket, key); err != nil {
			return "", explain(err, "the object "+key)
		}
		return "1 object deleted", explain(s.c.Delete(ctx, bucket, key), "the object "+key)
	case save:
		path, err := s.target(a, key)
		if err != nil {
			return "", err
		}
		return "saved as " + path, s.write(ctx, bucket, key, path)
	}
	return "", store.ErrNoAction
}

// write writes an object to a file that isn't there.
func (s *source) write(ctx context.Context, bucket, key, path string) error {
	body, err := s.c.Get(ctx, bucket, key, 0)
	if err != nil {
		return explain(err, "the object "+key)
	}
	defer body.Close()
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	if _, err = io.Copy(f, body); err != nil {
		return errors.Join(err, f.Close(), os.Remove(path))
	}
	return f.Close()
}
