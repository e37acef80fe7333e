package migrate

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"neighbour/internal/core/machine/input"
	"neighbour/internal/core/machine/lazyregexp"
)

// File is a file of SQL statements.
type File struct {
	Name     string // without its folder
	Path     string // as errors name it
	Text     string
	Checksum string // of the text, in hexadecimal
}

// mostBytes is how long a file may be: it is read whole.
const mostBytes = 512 << 20

// ReadFile reads one file of SQL. Path is relative to root.
func ReadFile(root, path string) (File, error) {
	f := File{Name: filepath.Base(path), Path: path}
	full := path
	if !filepath.IsAbs(full) {
		full = filepath.Join(root, path)
	}
	b, err := read(full)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return f, &Error{File: path, What: "there is no such file", Remedy: "write it, or correct the declaration"}
	case err != nil:
		return f, &Error{File: path, What: "it can't be read: " + reason(err)}
	}
	f.Text = string(b)
	if i := invalid(f.Text); i >= 0 {
		return f, &Error{File: path, Line: 1 + strings.Count(f.Text[:i], "\n"), What: "it is not in UTF-8", Remedy: "save it in UTF-8"}
	}
	sum := sha256.Sum256(b)
	f.Checksum = hex.EncodeToString(sum[:])
	return f, nil
}

func read(path string) ([]byte, error) {
	f, err := input.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, mostBytes+1))
	if err == nil && len(b) > mostBytes {
		return nil, fmt.Errorf("it has more than %d MB", mostBytes>>20)
	}
	return b, err
}

func reason(err error) string {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err.Error()
	}
	return err.Error()
}

// invalid returns the place of the first byte that is no UTF-8, -1 if there is
// none.
func invalid(text string) int {
	if utf8.ValidString(text) {
		return -1
	}
	for i, r := range text {
		if _, size := utf8.DecodeRuneInString(text[i:]); r == utf8.RuneError && size == 1 {
			return i
		}
	}
	return -1
}

// ReadDir reads the migrations of a folder, in the order in which they run: by
// their numbers, then by their names. Files that undo others (*.down.sql) are
// left out. Dir is relative to root.
func ReadDir(root, dir string) ([]File, error) {
	names, err := list(root, dir)
	if err != nil {
		return nil, err
	}
	if len(names) == 0 {
		return nil, &Error{File: dir, What: "the folder holds no *.sql file", Remedy: "neighbour migrations new NAME makes the first"}
	}
	files := make([]File, 0, len(names))
	for _, name := range names {
		f, err := ReadFile(root, filepath.Join(dir, name))
		if err != nil {
			return nil, err
		}
		files = append(files, f)
	}
	return files, nil
}

func list(root, dir string) ([]string, error) {
	full := dir
	if !filepath.IsAbs(full) {
		full = filepath.Join(root, dir)
	}
	entries, err := os.ReadDir(full)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, &Error{File: dir, What: "there is no such folder", Remedy: "neighbour migrations new NAME makes it with a first file, or correct the declaration"}
	case err != nil:
		return nil, &Error{File: dir, What: "the folder can't be read: " + reason(err)}
	}
	var names []string
	for _, e := range entries {
		switch name := e.Name(); {
		case e.IsDir():
			if inside, _ := filepath.Glob(filepath.Join(full, name, "*.sql")); len(inside) > 0 {
				return nil, &Error{File: filepath.Join(dir, name), What: "it is a folder with *.sql files, and only those directly in " + dir + " are run", Remedy: "move them there, or name this folder in the declaration"}
			}
		case strings.HasSuffix(name, ".sql") && !strings.HasSuffix(name, ".down.sql") && !strings.HasPrefix(name, "."):
			names = append(names, name)
		}
	}
	slices.SortFunc(names, compare)
	return names, nil
}

var leading = lazyregexp.New(`^\D{0,2}?(\d+)`)

// number returns the one that a file's name begins with, perhaps after a letter
// or two: "007_loans.sql", "V7__loans.sql"; -1 if there is none.
func number(name string) int {
	m := leading.FindStringSubmatch(name)
	if m == nil {
		return -1
	}
	n, err := strconv.Atoi(m[1])
	if err != nil {
		return -1
	}
	return n
}

// compare orders names of migrations.
func compare(a, b string) int {
	if x, y := number(a), number(b); x >= 0 && y >= 0 && x != y {
		return cmp.Compare(x, y)
	}
	return cmp.Compare(a, b)
}

// New makes the next file of a folder, in the style that the folder has: a number
// with as many digits, or a time. It returns its path, relative to root. The
// folder is made if it isn't there.
func New(root, dir, name string, now time.Time) (string, error) {
	name = strings.Trim(lazyregexp.New(`[^a-z0-9]+`).ReplaceAllString(strings.ToLower(strings.TrimSuffix(name, ".sql")), "_"), "_")
	if name == "" {
		return "", errors.New("a migration's name needs letters or digits: neighbour migrations new add_loans")
	}
	if err := os.MkdirAll(filepath.Join(root, dir), 0o755); err != nil {
		return "", err
	}
	names, err := list(root, dir)
	if err != nil {
		return "", err
	}
	path := filepath.Join(dir, next(names, name, now))
	f, err := os.OpenFile(filepath.Join(root, path), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return "", err
	}
	_, err = fmt.Fprintf(f, "-- %s\n", strings.ReplaceAll(name, "_", " "))
	if closing := f.Close(); err == nil {
		err = closing
	}
	return path, err
}

// times are the forms of a time at the beginning of a name, by their length.
var times = map[int]string{14: "20060102150405", 12: "200601021504", 8: "20060102", 10: "unix"}

var styled = lazyregexp.New(`^(\D{0,2}?)(\d+)(\D+?)([a-zA-Z0-9].*)$`)

func next(names []string, name string, now time.Time) string {
	prefix, digits, between, after := "", "001", "_", ".sql"
	if len(names) > 0 {
		last := names[len(names)-1]
		m := styled.FindStringSubmatch(last)
		if m == nil {
			m = []string{"", "", "000", "_", last}
		}
		prefix, between = m[1], m[3]
		if strings.HasSuffix(last, ".up.sql") {
			after = ".up.sql"
		}
		n, _ := strconv.Atoi(m[2])
		digits = fmt.Sprintf("%0*d", len(m[2]), n+1)
		switch form := times[len(m[2])]; {
		case form == "unix" && m[2][0] != '0':
			digits = strconv.FormatInt(max(now.Unix(), int64(n)+1), 10)
		case form != "" && form != "unix" && m[2][0] != '0':
			if stamp := now.UTC().Format(form); stamp > m[2] {
				digits = stamp
			}
		}
		if strings.Contains(last, "-") && !strings.Contains(last, "_") {
			name = strings.ReplaceAll(name, "_", "-")
		}
	}
	return prefix + digits + between + name + after
}
