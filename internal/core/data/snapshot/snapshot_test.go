package snapshot_test

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"neighbour/internal/core/data/snapshot"
	"neighbour/internal/core/machine/tree"
)

func unmapped(uint64) bool { return false }

// contents describes a file or a folder whole: "f 0644 text", by path.
func contents(t require.TestingT, root string) map[string]string {
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) && path == root {
			return nil
		}
		require.NoError(t, err)
		rel, _ := filepath.Rel(root, path)
		info, err := e.Info()
		require.NoError(t, err)
		switch {
		case e.IsDir():
			out[rel] = fmt.Sprintf("d %o", info.Mode().Perm())
		case info.Mode()&fs.ModeSymlink != 0:
			target, _ := os.Readlink(path)
			out[rel] = "l " + target
		case info.Mode().IsRegular():
			b, err := os.ReadFile(path)
			require.NoError(t, err)
			out[rel] = fmt.Sprintf("f %o %d %s", info.Mode().Perm(), info.ModTime().UnixNano(), b)
		}
		return nil
	}))
	return out
}

// Whatever happens to a folder between two updates, the copy is what it is after the last; what a
// second copy shares with the first is not changed in it.
func TestTree(t *testing.T) {
	base := t.TempDir()
	names := []string{"a", "b", "c/d", "c/e/f", "c/e/g", "h"}
	rapid.Check(t, func(rt *rapid.T) {
		dir, err := os.MkdirTemp(base, "")
		require.NoError(rt, err)
		from := filepath.Join(dir, "from")
		require.NoError(rt, os.Mkdir(from, 0o755))
		change := func() {
			for range rapid.IntRange(0, 6).Draw(rt, "changes") {
				path := filepath.Join(from, rapid.SampledFrom(names).Draw(rt, "name"))
				switch rapid.SampledFrom([]string{"write", "append", "remove", "link", "folder", "touch", "mode"}).Draw(rt, "change") {
				case "write":
					_ = os.MkdirAll(filepath.Dir(path), 0o755)
					_ = os.WriteFile(path, []byte(rapid.StringMatching("[a-z]{0,5}").Draw(rt, "text")), 0o640)
				case "append":
					if f, err := os.OpenFile(path, os.O_WRONLY|os.O_APPEND, 0); err == nil {
						_, _ = f.WriteString("+")
						f.Close()
					}
				case "remove":
					_ = os.RemoveAll(path)
				case "link":
					_ = os.Symlink("a", path)
				case "folder":
					_ = os.MkdirAll(path, 0o750)
				case "touch": // the times tell nothing then
					_ = os.Chtimes(path, time.Time{}, time.Unix(1, 0))
				case "mode":
					if info, err := os.Lstat(path); err == nil && info.Mode().IsRegular() {
						_ = os.Chmod(path, 0o600)
					}
				}
			}
		}
		change()
		first := snapshot.Tree{From: from, To: filepath.Join(dir, "first")}
		require.NoError(rt, first.Update(t.Context(), unmapped, false))
		change()
		require.NoError(rt, first.Update(t.Context(), unmapped, true))
		saved := contents(rt, first.To)
		require.Equal(rt, contents(rt, from), saved)
		change()
		second := snapshot.Tree{From: from, To: filepath.Join(dir, "second"), Base: first.To, Earlier: first.Files}
		require.NoError(rt, second.Update(t.Context(), unmapped, false))
		change()
		require.NoError(rt, second.Update(t.Context(), unmapped, true))
		require.Equal(rt, contents(rt, from), contents(rt, second.To))
		require.Equal(rt, saved, contents(rt, first.To), "the earlier copy stays what it was")
		n := 0
		for _, what := range contents(rt, second.To) {
			if strings.HasPrefix(what, "f") {
				n++
			}
		}
		require.Equal(rt, n, second.Count())
	})
}

// What has not changed is not copied again, nor are holes; a file that a process has mapped is.
func TestTreeShares(t *testing.T) {
	dir := t.TempDir()
	from := filepath.Join(dir, "from")
	require.NoError(t, os.Mkdir(from, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(from, "large"), bytes.Repeat([]byte("x"), 1<<20), 0o600))
	holes, err := os.Create(filepath.Join(from, "holes"))
	require.NoError(t, err)
	_, err = holes.WriteAt([]byte("end"), 64<<20)
	require.NoError(t, err)
	require.NoError(t, holes.Close())
	require.Eventually(t, func() bool { // its times tell by then
		one := snapshot.Tree{From: from, To: filepath.Join(t.TempDir(), "one")}
		require.NoError(t, one.Update(t.Context(), unmapped, true))
		return len(one.Files) == 2
	}, time.Minute, 10*time.Millisecond)
	first := snapshot.Tree{From: from, To: filepath.Join(dir, "first")}
	require.NoError(t, first.Update(t.Context(), unmapped, true))
	assert.EqualValues(t, 65<<20+3, first.Bytes)
	one, err := os.Stat(filepath.Join(first.To, "large"))
	require.NoError(t, err)
	second := snapshot.Tree{From: from, To: filepath.Join(dir, "second"), Base: first.To, Earlier: first.Files}
	require.NoError(t, second.Update(t.Context(), unmapped, true))
	two, err := os.Stat(filepath.Join(second.To, "large"))
	require.NoError(t, err)
	assert.True(t, os.SameFile(one, two))
	assert.Zero(t, second.Copied)
	third := snapshot.Tree{From: from, To: filepath.Join(dir, "third"), Base: first.To, Earlier: first.Files}
	require.NoError(t, third.Update(t.Context(), func(uint64) bool { return true }, true))
	three, err := os.Stat(filepath.Join(third.To, "large"))
	require.NoError(t, err)
	assert.False(t, os.SameFile(one, three), "its times don't tell whether it has changed")
	assert.Empty(t, third.Files)
}

// A copy of data with a link out of it would share what is there with the original.
func TestTreeWithALinkOut(t *testing.T) {
	for _, target := range []string{"/var/tmp", "../elsewhere", "a/../../x"} {
		dir := t.TempDir()
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "from", "spaces"), 0o755))
		require.NoError(t, os.Symlink("../inside", filepath.Join(dir, "from", "spaces", "fine")))
		tree := snapshot.Tree{From: filepath.Join(dir, "from"), To: filepath.Join(dir, "to")}
		require.NoError(t, tree.Update(t.Context(), unmapped, true))
		require.NoError(t, os.Symlink(target, filepath.Join(dir, "from", "16400")))
		var out *snapshot.LinkError
		require.ErrorAs(t, tree.Update(t.Context(), unmapped, true), &out, target)
		assert.Equal(t, target, out.Target)
	}
}

// A restore that was written down is carried out, wherever it was interrupted.
func TestReplacement(t *testing.T) {
	const steps = 6
	for done := range steps {
		dir := t.TempDir()
		live, gone := filepath.Join(dir, "ledger"), filepath.Join(dir, "ledger-wal")
		write := func(path, text string) {
			require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
			require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		}
		fresh, old := snapshot.Prepared(live)
		_, oldWAL := snapshot.Prepared(gone)
		write(filepath.Join(live, "data"), "before")
		write(gone, "its log")
		write(filepath.Join(fresh, "data"), "after")
		store := snapshot.Store{Dir: filepath.Join(dir, "snapshots")}
		kept := snapshot.Manifest{Name: snapshot.Replaced, Why: "replaced by one", Services: []snapshot.Service{{Name: "ledger", Kind: "sqlite", Parts: []string{"ledger", "ledger-wal"}}}}
		r := &snapshot.Replacement{Restored: &snapshot.Manifest{Name: "one"}, Replaced: &kept, Swaps: []snapshot.Swap{
			{Live: live, Fresh: fresh, Old: old, Service: "ledger", Part: 0}, {Live: gone, Old: oldWAL, Service: "ledger", Part: 1}}}
		file := filepath.Join(dir, "restore.json")
		require.NoError(t, os.MkdirAll(store.Dir, 0o700))
		require.NoError(t, snapshot.Commit(file, r))
		part := func(n int) string {
			to := filepath.Join(store.Dir, ".replacing", "data", "ledger", fmt.Sprint(n))
			require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o700))
			return to
		}
		for _, step := range []func(){
			func() { require.NoError(t, os.Rename(live, old)) }, func() { require.NoError(t, os.Rename(fresh, live)) },
			func() { require.NoError(t, os.Rename(gone, oldWAL)) }, func() { require.NoError(t, os.Rename(old, part(0))) },
			func() { require.NoError(t, os.Rename(oldWAL, part(1))) },
		}[:done] {
			step()
		}
		for range 2 { // it may be interrupted at its end
			again, err := snapshot.Pending(file)
			require.NoError(t, err)
			require.NoError(t, store.Carry(again), "after %d steps", done)
			assert.Contains(t, contents(t, live)["data"], "after")
			assert.Empty(t, contents(t, gone))
			m, err := store.Get(snapshot.Replaced)
			require.NoError(t, err)
			assert.Contains(t, contents(t, snapshot.PartDir(store.Path(m.Name), "ledger", 0))["data"], "before")
			assert.Contains(t, contents(t, snapshot.PartDir(store.Path(m.Name), "ledger", 1))["."], "its log")
			assert.Equal(t, 2, m.Services[0].Files)
		}
	}
	none, err := snapshot.Pending(filepath.Join(t.TempDir(), "restore.json"))
	assert.Nil(t, none)
	assert.NoError(t, err)
}

// saved makes a store with a snapshot of two files, a folder that can't be written to and a link.
func saved(t *testing.T) snapshot.Store {
	store := snapshot.Store{Dir: filepath.Join(t.TempDir(), "snapshots")}
	t.Cleanup(func() { assert.NoError(t, tree.Remove(store.Dir)) })
	draft, err := store.Begin()
	require.NoError(t, err)
	defer draft.Discard()
	at := snapshot.PartDir(draft.Dir, "ledger", 0)
	require.NoError(t, os.MkdirAll(filepath.Join(at, "closed"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(at, "closed/tools"), []byte(strings.Repeat("drill", 1000)), 0o400))
	require.NoError(t, os.WriteFile(filepath.Join(at, "empty"), nil, 0o600))
	require.NoError(t, os.Symlink("closed/tools", filepath.Join(at, "link")))
	require.NoError(t, os.Chmod(filepath.Join(at, "closed"), 0o500))
	require.NoError(t, draft.Finish(&snapshot.Manifest{Name: "one", Project: "toolshed", Made: time.Now(), Bytes: 5000, Services: []snapshot.Service{{Name: "ledger", Kind: "postgres", Parts: []string{"ledger"}, Secrets: map[string]string{"password": "hidden"}}}}, nil))
	return store
}

func TestStore(t *testing.T) {
	store := saved(t)
	m, err := store.Get("one")
	require.NoError(t, err)
	assert.Equal(t, "hidden", m.Service("ledger").Secrets["password"])
	assert.Nil(t, m.Public().Services[0].Secrets)
	for _, name := range []string{"", "a/b", "../one", ".hidden", strings.Repeat("x", 65), "a\nb", "-x"} {
		_, err := store.Get(name)
		assert.ErrorContains(t, err, "can't be the name of a snapshot", name)
		assert.ErrorContains(t, store.Drop(name), "can't be the name", name)
	}
	_, err = store.Get("two")
	assert.ErrorIs(t, err, snapshot.ErrNone)
	draft, err := store.Begin()
	require.NoError(t, err)
	store.Clean()
	assert.DirExists(t, draft.Dir, "what is under way is left alone")
	assert.ErrorIs(t, draft.Finish(&snapshot.Manifest{Name: "one"}, nil), snapshot.ErrExists)
	require.NoError(t, draft.Finish(&snapshot.Manifest{Name: "two", Made: time.Now().Add(time.Hour), Boot: "of before"}, nil))
	draft.Discard()
	two, err := store.Get("two")
	require.NoError(t, err)
	assert.ErrorContains(t, two.Whole("of now"), "the machine went down before the snapshot two was on its disk")
	assert.NoError(t, two.Whole("of before"))
	require.NoError(t, store.Settle("two"))
	two, _ = store.Get("two")
	assert.NoError(t, two.Whole("of now"))
	require.NoError(t, os.MkdirAll(store.Path("three"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(store.Path("three"), "manifest.json"), []byte(`{"format":7}`), 0o600))
	all, wrong := store.List()
	require.Len(t, all, 2)
	assert.Equal(t, "two", all[0].Name, "the newest first")
	require.Len(t, wrong, 1)
	assert.ErrorContains(t, wrong[0], "three can't be used: it was made by a newer version")
	left, err := os.MkdirTemp(store.Dir, ".unfinished-")
	require.NoError(t, err)
	store.Clean()
	assert.NoDirExists(t, left)
	require.NoError(t, store.Drop("one"), "also what can't be written to")
	require.NoError(t, store.Drop("three"))
	entries, _ := os.ReadDir(store.Dir)
	assert.Len(t, entries, 2, "two, and the lock")
}

func TestArchive(t *testing.T) {
	store := saved(t)
	var out bytes.Buffer
	require.NoError(t, store.Export("one", &out, func(int64) {}))
	_, err := store.Import(bytes.NewReader(out.Bytes()), "", func(int64) {})
	assert.ErrorIs(t, err, snapshot.ErrExists)
	m, err := store.Import(bytes.NewReader(out.Bytes()), "theirs", func(int64) {})
	require.NoError(t, err)
	assert.Equal(t, "hidden", m.Service("ledger").Secrets["password"], "without it nobody gets at the data")
	want := contents(t, snapshot.PartDir(store.Path("one"), "ledger", 0))
	assert.Equal(t, want, contents(t, snapshot.PartDir(store.Path("theirs"), "ledger", 0)))

	// Whatever part of it is missing or other, nothing is taken.
	b := out.Bytes()
	for i := range 40 {
		_, err := store.Import(bytes.NewReader(b[:len(b)*i/40]), "half", func(int64) {})
		require.Error(t, err)
		flipped := bytes.Clone(b)
		flipped[len(b)*i/40] ^= 0x10
		_, err = store.Import(bytes.NewReader(flipped), "flipped", func(int64) {})
		if err == nil { // a bit that means nothing
			assert.Equal(t, want, contents(t, snapshot.PartDir(store.Path("flipped"), "ledger", 0)))
			require.NoError(t, store.Drop("flipped"))
		}
	}
	entries, _ := os.ReadDir(store.Dir)
	assert.Len(t, entries, 3, "nothing is left of what was refused")
}

func FuzzImport(f *testing.F) {
	f.Add([]byte("data/ledger/0"), byte(tar.TypeDir), []byte(""))
	f.Add([]byte("data/ledger/0"), byte(tar.TypeSymlink), []byte("../../x"))
	f.Add([]byte("data/ledger/0/up\ndata/ledger/0/x"), byte(tar.TypeSymlink), []byte("..\nup/../../../../../secret"))
	f.Fuzz(func(t *testing.T, name []byte, kind byte, text []byte) {
		dir := t.TempDir()
		store := snapshot.Store{Dir: filepath.Join(dir, "in", "snapshots")}
		entries := []tar.Header{{Typeflag: tar.TypeDir, Name: "data"}, {Typeflag: tar.TypeDir, Name: "data/ledger"}, {Typeflag: tar.TypeDir, Name: "data/ledger/0"}}
		// Several of them, so that one can lead the next elsewhere.
		names, texts := strings.Split(string(name), "\n"), strings.Split(string(text), "\n")
		for i, name := range names {
			entries = append(entries, tar.Header{Typeflag: kind, Name: name, Linkname: texts[i%len(texts)], Size: 3})
		}
		_, _ = store.Import(packed(t, 10, append(entries, tar.Header{Typeflag: tar.TypeReg, Name: "checksums.sha256"})...), "x", func(int64) {})
		out, err := os.ReadDir(dir)
		require.NoError(t, err)
		assert.Len(t, out, 1, "nothing is beside it")
		// No imported link has a target outside.
		_ = filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
			if real, err := filepath.EvalSymlinks(path); err == nil {
				assert.True(t, strings.HasPrefix(real, dir), "%s leads to %s", path, real)
			}
			return err
		})
	})
}

// packed makes an archive with these entries, three bytes in each file, that says it holds so
// many bytes. An entry for sums of no size gets those that are right.
func packed(t testing.TB, bytesSaid int64, entries ...tar.Header) *bytes.Buffer {
	var out bytes.Buffer
	z, err := zstd.NewWriter(&out)
	require.NoError(t, err)
	w := tar.NewWriter(z)
	text, err := json.Marshal(snapshot.Manifest{Format: 1, Name: "x", Bytes: bytesSaid, Services: []snapshot.Service{{Name: "ledger", Kind: "postgres", Parts: []string{"ledger"}}}})
	require.NoError(t, err)
	entries = append([]tar.Header{{Typeflag: tar.TypeReg, Name: "manifest.json", Size: int64(len(text))}}, entries...)
	sums := ""
	for i, h := range entries {
		h.Mode = 0o700
		body := text
		if i > 0 {
			body = bytes.Repeat([]byte("abc"), int(h.Size)/3)
		}
		if h.Typeflag != tar.TypeReg {
			h.Size, body = 0, nil
		} else if h.Name == "checksums.sha256" && h.Size == 0 {
			body, h.Size = []byte(sums), int64(len(sums))
		} else {
			sums += fmt.Sprintf("%x  %s\n", sha256.Sum256(body), h.Name)
		}
		if w.WriteHeader(&h) == nil {
			_, _ = w.Write(body)
		}
	}
	_ = w.Close()
	require.NoError(t, z.Close())
	return &out
}

// An archive can't reach what is outside, nor grow beyond what it says.
func TestHostileArchives(t *testing.T) {
	dir, file := tar.Header{Typeflag: tar.TypeDir, Name: "data"}, func(name string, size int64) tar.Header {
		return tar.Header{Typeflag: tar.TypeReg, Name: name, Size: size}
	}
	ledger, part := tar.Header{Typeflag: tar.TypeDir, Name: "data/ledger"}, tar.Header{Typeflag: tar.TypeDir, Name: "data/ledger/0"}
	link := func(name, to string) tar.Header {
		return tar.Header{Typeflag: tar.TypeSymlink, Name: name, Linkname: to}
	}
	folder := func(name string) tar.Header { return tar.Header{Typeflag: tar.TypeDir, Name: name} }
	sums := file("checksums.sha256", 0)
	for name, c := range map[string]struct {
		entries []tar.Header
		says    string
	}{
		"above":                {[]tar.Header{dir, file("../x", 3)}, `it has "../x", which is outside of the data`},
		"above from within":    {[]tar.Header{dir, ledger, file("data/ledger/../../../x", 3)}, "outside of the data"},
		"from the root":        {[]tar.Header{dir, file("/etc/x", 3)}, "outside of the data"},
		"beside the data":      {[]tar.Header{dir, file("files.json", 3)}, "outside of the data"},
		"of no service":        {[]tar.Header{dir, {Typeflag: tar.TypeDir, Name: "data/shelf"}}, "outside of the data"},
		"a link out":           {[]tar.Header{dir, ledger, part, link("data/ledger/0/l", "../../../../x"), sums}, "which leads to"},
		"a link to the root":   {[]tar.Header{dir, ledger, part, link("data/ledger/0/l", "/etc"), sums}, "which leads to"},
		"through a link":       {[]tar.Header{dir, ledger, part, link("data/ledger/0/l", "../../.."), file("data/ledger/0/l/x", 3)}, "in what is no folder"},
		"a chain of links":     {[]tar.Header{dir, ledger, part, folder("data/ledger/0/a"), folder("data/ledger/0/a/b"), link("data/ledger/0/a/b/up", "../.."), link("data/ledger/0/x.eml", "a/b/up/../../../secret"), sums}, "outside of the data"},
		"right":                {[]tar.Header{dir, ledger, part, folder("data/ledger/0/a"), file("data/ledger/0/x", 3), link("data/ledger/0/a/l", "../x"), sums}, ""},
		"a chain into another": {[]tar.Header{dir, ledger, part, link("data/ledger/0/l", "../1/x"), sums}, "outside of the data"},
		"a link for a part":    {[]tar.Header{dir, ledger, link("data/ledger/0", "x"), sums}, "in place of data"},
		"a hard link":          {[]tar.Header{dir, ledger, part, {Typeflag: tar.TypeLink, Name: "data/ledger/0/x", Linkname: "/etc/passwd"}}, "neither file, folder nor link"},
		"a device":             {[]tar.Header{dir, ledger, part, {Typeflag: tar.TypeChar, Name: "data/ledger/0/x"}}, "neither file, folder nor link"},
		"more than it says":    {[]tar.Header{dir, ledger, part, file("data/ledger/0/x", 9), file("data/ledger/0/y", 3)}, "it holds more than it says"},
		"without sums":         {[]tar.Header{dir, ledger, part, file("data/ledger/0/x", 3)}, "it is damaged"},
		"with other sums":      {[]tar.Header{dir, ledger, part, file("data/ledger/0/x", 3), file("checksums.sha256", 3)}, "it is damaged"},
		"twice":                {[]tar.Header{dir, ledger, part, file("data/ledger/0/x", 3), file("data/ledger/0/x", 3)}, "exist"},
	} {
		t.Run(name, func(t *testing.T) {
			base := t.TempDir()
			store := snapshot.Store{Dir: filepath.Join(base, "a", "b", "snapshots")}
			_, err := store.Import(packed(t, 10, c.entries...), "", func(int64) {})
			if c.says == "" {
				require.NoError(t, err)
				return
			}
			require.ErrorContains(t, err, c.says)
			entries, _ := os.ReadDir(store.Dir)
			assert.Len(t, entries, 1, "the lock alone")
			assert.NoFileExists(t, filepath.Join(base, "a", "b", "x"))
		})
	}
	store := snapshot.Store{Dir: t.TempDir()}
	_, err := store.Import(strings.NewReader("no archive"), "", func(int64) {})
	assert.ErrorContains(t, err, "it is no snapshot that Neighbour has exported")
	_, err = store.Import(packed(t, 1<<62), "", func(int64) {})
	var full *snapshot.NoRoomError
	assert.ErrorAs(t, err, &full)
}
