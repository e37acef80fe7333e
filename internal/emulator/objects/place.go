package objects

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// placeOf is the path of an object's file: its bucket and its key, as they are where they
// can be the names of files.
func placeOf(bucket, key string) string {
	parts := strings.Split(key, "/")
	for i, part := range parts {
		last := i == len(parts)-1
		var out strings.Builder
		for _, b := range []byte(part) {
			if b < ' ' || b == '%' || b == 0x7f || b == '\\' || b == ':' {
				fmt.Fprintf(&out, "%%%02X", b)
			} else {
				out.WriteByte(b)
			}
		}
		name := out.String()
		switch {
		case name == "" && last:
			name = "%" // a key that ends with a slash, as folders are marked
		case name == "":
			name = "%00"
		case name == "." || name == "..":
			name = strings.ReplaceAll(name, ".", "%2E")
		case i == 0 && name == ".neighbour":
			name = "%2Eneighbour"
		}
		var folders string // one for each 200 bytes, which is what file systems take
		for len(name) > 200 {
			folders, name = folders+name[:200]+"%/", name[200:]
		}
		parts[i] = folders + name
	}
	return bucket + "/" + strings.Join(parts, "/")
}

// recover finishes what a kill has interrupted: objects that have not got to their names,
// and files that belong to nothing.
func (s *Store) recover() error {
	rows, err := s.db.Query("SELECT id FROM objects WHERE path LIKE '" + incoming + "/%'")
	if err != nil {
		return err
	}
	var ids []int64
	for rows.Next() {
		var id int64
		if err := rows.Scan(&id); err != nil {
			return err
		}
		ids = append(ids, id)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	for _, id := range ids {
		o, err := s.byRow(context.Background(), id)
		if err != nil {
			return err
		}
		if err := s.settle(context.Background(), o); err != nil {
			return err
		}
	}
	for _, sub := range []string{incoming, versions} {
		entries, err := os.ReadDir(filepath.Join(s.dir, sub))
		if err != nil {
			return err
		}
		for _, e := range entries {
			var known int
			path := sub + "/" + e.Name()
			if err := s.db.QueryRow("SELECT (SELECT count(*) FROM objects WHERE path = ?) + (SELECT count(*) FROM parts WHERE path = ?)", path, path).Scan(&known); err != nil {
				return err
			}
			if known == 0 {
				if err := os.Remove(filepath.Join(s.dir, path)); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// settle moves the file of an object that came in to its name. What stands in the way,
// since a key can be the beginning of another, has its file moved aside.
func (s *Store) settle(ctx context.Context, o Object) error {
	to := placeOf(o.Bucket, o.Key)
	if _, err := os.Lstat(s.file(o.path)); errors.Is(err, fs.ErrNotExist) {
		// It was moved, and that not written down.
		for _, at := range []string{to, to + "%"} {
			if info, err := os.Lstat(s.file(at)); err == nil && info.Mode().IsRegular() {
				return s.moved(ctx, o, at)
			}
		}
		return fmt.Errorf("what %s/%s holds is lost", o.Bucket, o.Key)
	}
	if err := s.clear(ctx, to); err != nil {
		return err
	}
	if info, err := os.Lstat(s.file(to)); err == nil && info.IsDir() { // others have names below it
		to += "%"
	}
	if err := os.Rename(s.file(o.path), s.file(to)); err != nil {
		if errors.Is(err, errNameTooLong) { // it stays where it is
			return nil
		}
		return err
	}
	return s.moved(ctx, o, to)
}

func (s *Store) moved(ctx context.Context, o Object, to string) error {
	_, err := s.db.ExecContext(ctx, "UPDATE objects SET path = ? WHERE id = ?", to, o.row)
	return err
}

// clear makes the folders of a path. Where an object's file has the name of one, that gets
// another name.
func (s *Store) clear(ctx context.Context, path string) error {
	parts := strings.Split(path, "/")
	for i := 1; i < len(parts); i++ {
		dir := strings.Join(parts[:i], "/")
		info, err := os.Lstat(s.file(dir))
		switch {
		case errors.Is(err, fs.ErrNotExist):
			err = os.Mkdir(s.file(dir), 0o700)
		case err == nil && info.IsDir():
			continue
		case err == nil && info.Mode().IsRegular() && i > 1:
			if err = os.Link(s.file(dir), s.file(dir+"%")); errors.Is(err, fs.ErrExist) {
				err = nil
			}
			if err == nil {
				_, err = s.db.ExecContext(ctx, "UPDATE objects SET path = ? WHERE path = ?", dir+"%", dir)
			}
			if err == nil {
				err = os.Remove(s.file(dir))
			}
			if err == nil {
				err = os.Mkdir(s.file(dir), 0o700)
			}
		case err == nil:
			return &Error{Code: "InternalError", Status: 500, Message: dir + " is no folder: it leads somewhere else, and nothing is written there"}
		}
		if err != nil && !errors.Is(err, errNameTooLong) {
			return err
		}
	}
	return nil
}
