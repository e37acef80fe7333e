package objects

import (
	"context"
	"errors"
	"slices"
	"strings"
)

// Listing asks for objects by their keys.
type Listing struct {
	Bucket, Prefix, Delimiter string
	After                     string // the key after which it begins
	Limit                     int
	Versions                  bool // all of them, not only what is there
	AfterVersion              int64
}

// List returns objects in the order of their keys, and the beginnings that keys with the
// delimiter behind the prefix have in common. More says where to go on.
func (s *Store) List(ctx context.Context, l Listing) (objects []Object, common []string, next string, more bool, err error) {
	after := []byte(l.After)
	for len(objects)+len(common) <= l.Limit {
		text := "SELECT " + columns + " FROM objects WHERE bucket = ? AND key > ? AND latest AND NOT deleted"
		if l.Versions {
			text = "SELECT " + columns + " FROM objects WHERE bucket = ? AND key > ?"
		}
		args := []any{l.Bucket, after}
		if l.Prefix != "" {
			text += " AND key >= ?"
			args = append(args, []byte(l.Prefix))
			if end := following([]byte(l.Prefix)); end != nil {
				text += " AND key < ?"
				args = append(args, end)
			}
		}
		rows, err := s.db.QueryContext(ctx, text+" ORDER BY key, id DESC LIMIT ?", append(args, l.Limit+1)...)
		if err != nil {
			return nil, nil, "", false, err
		}
		n, skipped := 0, false
		for rows.Next() {
			o, err := scanObject(rows)
			if err != nil {
				rows.Close()
				return nil, nil, "", false, err
			}
			n++
			if len(objects)+len(common) == l.Limit && !(l.Versions && len(objects) > 0 && objects[len(objects)-1].Key == o.Key) {
				rows.Close()
				return objects, common, next, true, nil
			}
			if i := strings.Index(o.Key[len(l.Prefix):], l.Delimiter); l.Delimiter != "" && i >= 0 {
				whole := o.Key[:len(l.Prefix)+i+len(l.Delimiter)]
				common, next = append(common, whole), string(lastWith(whole))
				// All that begins so is passed over; no key is greater than that.
				after, skipped = lastWith(whole), true
				break
			}
			objects, next, after = append(objects, o), o.Key, []byte(o.Key)
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil {
			return nil, nil, "", false, err
		}
		if !skipped && n <= l.Limit {
			break
		}
	}
	return objects, common, next, false, nil
}

// lastWith is a key that is greater than all that begin as one does: keys have at most
// 1,024 bytes.
func lastWith(prefix string) []byte {
	out := []byte(prefix)
	for len(out) < 1100 {
		out = append(out, 0xff)
	}
	return out
}

// following returns the first key that doesn't begin as one does, nil if there is none.
func following(key []byte) []byte {
	for n := len(key) - 1; n >= 0; n-- {
		if key[n] != 0xff {
			out := slices.Clone(key[:n+1])
			out[n]++
			return out
		}
	}
	return nil
}
