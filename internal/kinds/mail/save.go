package mail

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"neighbour/internal/core/data/store"
	"neighbour/internal/core/machine/probe"
	"neighbour/internal/core/machine/words"
	emulator "neighbour/internal/emulator/mail"
)

// folder is where an act puts attachments: an existing folder; one that doesn't begin
// at the root is the project's.
func (s *source) folder(a store.Act) (string, error) {
	dir := strings.TrimSpace(a.Given("folder", s.root))
	if rest, home := strings.CutPrefix(dir, "~/"); home {
		if own, err := os.UserHomeDir(); err == nil {
			dir = filepath.Join(own, rest)
		}
	}
	if !filepath.IsAbs(dir) {
		dir = filepath.Join(s.root, dir)
	}
	if info, err := os.Stat(dir); err != nil || !info.IsDir() {
		return "", &store.FixedError{Why: "folder: " + dir + " is not a folder; make it first, or name another"}
	}
	return dir, nil
}

// attached are the parts of a mail that are files, by their numbers.
func (s *source) attached(ctx context.Context, key string) (map[int]emulator.Part, error) {
	var m emulator.Whole
	if err := s.ask(ctx, "GET", "/messages/"+url.PathEscape(idOf(key)), nil, &m); err != nil {
		return nil, err
	}
	out := map[int]emulator.Part{}
	for i, p := range m.Parts {
		if !p.Inline {
			out[i] = p
		}
	}
	return out, nil
}

// saveAll writes the attachments of a mail into a folder. No file that is there is
// written over.
func (s *source) saveAll(ctx context.Context, a store.Act) (string, error) {
	dir, err := s.folder(a)
	if err != nil {
		return "", err
	}
	parts, err := s.attached(ctx, a.Key)
	if err != nil {
		return "", err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return "", err
	}
	defer root.Close()
	last := ""
	for i, p := range parts {
		if last, err = s.save(ctx, root, fmt.Sprintf("/messages/%s/parts/%d", url.PathEscape(idOf(a.Key)), i), fileName(p.Name, i)); err != nil {
			return "", err
		}
	}
	if len(parts) == 1 {
		return "saved as " + filepath.Join(dir, last), nil
	}
	return words.Count(len(parts), "file") + " saved in " + dir, nil
}

// save writes one part into a new file, and returns its name.
func (s *source) save(ctx context.Context, root *os.Root, path, name string) (string, error) {
	r, err := http.NewRequestWithContext(ctx, "GET", s.page+path, nil)
	if err != nil {
		return "", err
	}
	answer, err := s.http.Do(r)
	if err != nil {
		return "", errors.New(probe.Explain(err))
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return "", &store.GoneError{What: "the attachment " + name}
	}
	ext := filepath.Ext(name)
	for n, base := 2, strings.TrimSuffix(name, ext); ; n++ {
		f, err := root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if errors.Is(err, fs.ErrExist) {
			name = fmt.Sprintf("%s-%d%s", base, n, ext)
			continue
		}
		if err != nil {
			return "", err
		}
		_, err = io.Copy(f, answer.Body)
		return name, errors.Join(err, f.Close())
	}
}

// fileName makes a name for a file of what a sender called it, who may mean harm.
func fileName(name string, number int) string {
	name = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || strings.ContainsRune(`/\:*?"<>|`, r) {
			return '_'
		}
		return r
	}, strings.ToValidUTF8(name, "_"))
	name = strings.TrimLeft(strings.TrimSpace(name), ".-")
	if len(name) > 120 {
		ext := filepath.Ext(name)
		if len(ext) > 16 {
			ext = ""
		}
		name = strings.ToValidUTF8(name[:100], "") + ext
	}
	if name == "" {
		return fmt.Sprintf("part-%d", number+1)
	}
	return name
}
