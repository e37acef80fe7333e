package static

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/kind/misbehave"
	"neighbour/internal/core/machine/words"
)

// Source looks into the folder that is served: its folders, and the files in each.
// Like the server it shows nothing that begins with a dot, and follows no link out
// of the folder.
func (Kind) Source(in *kind.Instance) (store.Source, error) {
	return source{root(in), kind.MisbehaveFile(in)}, nil
}

// source is a folder, and the file that says how its server misbehaves.
type source struct{ root, rules string }

func (source) Close() error { return nil }

// Limits of what is listed.
const (
	mostFolders = 1000
	mostDeep    = 8
)

func (s source) open() (*os.Root, error) {
	r, err := os.OpenRoot(s.root)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, &store.GoneError{What: "the folder " + s.root}
	}
	return r, err
}

// Collections lists the folders, the one that is served first.
func (s source) Collections(ctx context.Context) ([]store.Collection, error) {
	r, err := s.open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	var out []store.Collection
	err = fs.WalkDir(r.FS(), ".", func(name string, d fs.DirEntry, err error) error {
		switch {
		case err != nil || ctx.Err() != nil:
			return ctx.Err() // what can't be read is left out
		case name != "." && strings.HasPrefix(d.Name(), "."):
			if d.IsDir() {
				return fs.SkipDir
			}
		case d.IsDir() && (len(out) == mostFolders || strings.Count(name, "/") >= mostDeep):
			return fs.SkipDir
		case d.IsDir():
			title := name
			if name == "." {
				title = "/"
			}
			out = append(out, store.Collection{Name: store.Join(name), Title: title, Is: "folder", Bytes: 0})
		case d.Type().IsRegular():
			if info, err := d.Info(); err == nil {
				for i := range out {
					if out[i].Name == store.Join(path.Dir(name)) {
						out[i].Count++
						out[i].Bytes += info.Size()
					}
				}
			}
		}
		return nil
	})
	return out, err
}

var columns = []store.Column{{Name: "file", Type: "text", Is: store.Text, Key: true}, {Name: "size", Type: "bytes", Is: store.Number}, {Name: "changed", Type: "time", Is: store.Time}}

func (s source) folder(collection string) (*os.Root, string, error) {
	parts, err := store.Split(collection)
	if err != nil {
		return nil, "", err
	}
	dir := strings.Join(parts, ".")
	if !fs.ValidPath(dir) || dir != "." && slices.ContainsFunc(strings.Split(dir, "/"), func(p string) bool { return strings.HasPrefix(p, ".") }) {
		return nil, "", &store.GoneError{What: "a folder " + collection}
	}
	r, err := s.open()
	return r, dir, err
}

// Items lists the files of a folder by name.
func (s source) Items(_ context.Context, q store.Query) (store.Page, error) {
	began := time.Now()
	p := store.Page{Columns: columns, Rows: []store.Row{}, Order: "by name", Fixed: "the files that are served"}
	r, dir, err := s.folder(q.Collection)
	if err != nil {
		return p, err
	}
	defer r.Close()
	entries, err := fs.ReadDir(r.FS(), dir)
	if errors.Is(err, fs.ErrNotExist) {
		return p, &store.GoneError{What: "a folder " + q.Collection}
	}
	if err != nil {
		return p, err
	}
	if q.Where != "" {
		p.Where = fmt.Sprintf("with %q in the name", q.Where)
	}
	after := ""
	if q.After != "" {
		if after, err = store.TextOfKey(q.After); err != nil {
			return p, err
		}
	}
	slices.SortFunc(entries, func(a, b fs.DirEntry) int { return cmp.Compare(a.Name(), b.Name()) })
	if q.Back {
		slices.Reverse(entries)
	}
	q.Limit = min(max(q.Limit, 1), store.PageLimit)
	for _, e := range entries {
		name := e.Name()
		if !e.Type().IsRegular() || strings.HasPrefix(name, ".") || !strings.Contains(strings.ToLower(name), strings.ToLower(q.Where)) || q.After != "" && (name <= after && !q.Back || name >= after && q.Back) {
			continue
		}
		if p.More = len(p.Rows) == q.Limit; p.More {
			break
		}
		info, err := e.Info()
		if err != nil {
			continue
		}
		p.Rows = append(p.Rows, store.Row{Key: store.KeyFor(name), Values: []store.Value{store.TextOf(name, store.ListWidth), {Text: strconv.FormatInt(info.Size(), 10), Is: store.Number}, {Text: info.ModTime().Format("2006-01-02 15:04:05"), Is: store.Time}}})
	}
	if q.Back {
		slices.Reverse(p.Rows)
	}
	if n := len(p.Rows); n > 0 {
		p.Prev, p.Next = p.Rows[0].Key, p.Rows[n-1].Key
	}
	p.Took = float64(time.Since(began).Microseconds()) / 1000
	return p, nil
}

// Item returns a file with its beginning.
func (s source) Item(_ context.Context, collection, key string) (store.Item, error) {
	item := store.Item{Collection: collection, Key: key, Fixed: "a file that is served"}
	name, err := store.TextOfKey(key)
	if err != nil {
		return item, err
	}
	if strings.HasPrefix(name, ".") || strings.Contains(name, "/") {
		return item, &store.GoneError{What: "a file " + name}
	}
	r, dir, err := s.folder(collection)
	if err != nil {
		return item, err
	}
	defer r.Close()
	f, err := r.Open(path.Join(dir, name))
	if err != nil {
		return item, &store.GoneError{What: "a file " + name}
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return item, err
	}
	if !info.Mode().IsRegular() {
		return item, &store.GoneError{What: "a file " + name}
	}
	b := make([]byte, min(info.Size(), 4*store.ValueLimit))
	n, err := f.ReadAt(b, 0)
	if n == 0 && err != nil && len(b) > 0 {
		return item, err
	}
	item.Says = name
	item.Fields = []store.Field{{Column: store.Column{Name: "contents", Type: words.Bytes(uint64(info.Size()))}, Value: store.TextOf(string(b[:n]), store.ValueLimit)},
		{Column: store.Column{Name: "changed", Type: "time"}, Value: store.Value{Text: info.ModTime().Format(time.RFC3339), Is: store.Time}},
		{Column: store.Column{Name: "rights", Type: "mode"}, Value: store.Value{Text: info.Mode().String(), Is: store.Text}}}
	return item, nil
}

// Actions are only what the server can be told to do wrong: files are changed elsewhere.
func (s source) Actions(_ context.Context, _, key string) ([]store.Action, error) {
	if key != "" {
		return nil, nil
	}
	wrong, err := misbehave.Action(s.rules, noWrites...)
	return []store.Action{wrong}, err
}

// Plan says what an act would do.
func (s source) Plan(_ context.Context, a store.Act) (store.Plan, error) {
	if a.Action != misbehave.ActionName {
		return store.Plan{}, &store.FixedError{Why: "the files that are served are changed where they are made"}
	}
	r, err := misbehave.FromAct(s.rules, a)
	return store.Plan{Statement: misbehave.Plan(r)}, err
}

// Do carries an act out.
func (s source) Do(ctx context.Context, a store.Act) (string, error) {
	if _, err := s.Plan(ctx, a); err != nil {
		return "", err
	}
	return misbehave.Do(s.rules, a)
}
