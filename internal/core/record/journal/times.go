package journal

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"syscall"
	"time"
)

// stamp says that all of a log from the offset on was seen at a time, up to
// the next stamp's offset.
type stamp struct {
	Offset, Millis int64
}

const stampSize = 16

type stamps []stamp

// at returns when the line at the offset was seen, in milliseconds, 0 if unknown.
func (s stamps) at(offset int64) int64 {
	i := sort.Search(len(s), func(i int) bool { return s[i].Offset > offset })
	if i == 0 || s[i-1].Millis > lastMillis {
		return 0
	}
	return s[i-1].Millis
}

func timesPath(path string) string { return strings.TrimSuffix(path, ".log") + ".times" }

// times is the file of a log's stamps. Their offsets and times only grow.
type times struct {
	f *os.File // nil if there is none
	n int      // how many there are
}

func openTimes(path string) (times, error) {
	f, err := os.Open(timesPath(path))
	if errors.Is(err, fs.ErrNotExist) {
		return times{}, nil
	}
	if err != nil {
		return times{}, err
	}
	info, err := f.Stat()
	if err != nil {
		f.Close()
		return times{}, err
	}
	return times{f, int(info.Size() / stampSize)}, nil
}

func (t times) close() {
	if t.f != nil {
		t.f.Close()
	}
}

// get reads a stamp. One that can't be read is later than all.
func (t times) get(i int) stamp {
	var b [stampSize]byte
	if _, err := t.f.ReadAt(b[:], int64(i)*stampSize); err != nil {
		return stamp{1 << 62, 1 << 62}
	}
	return decode(b[:])
}

// lastMillis is the last time that JSON can say (RFC 3339: the year 9999).
const lastMillis = 253402300799999

// decode reads a stamp. One that can't be is later than all.
func decode(b []byte) stamp {
	s := stamp{int64(binary.LittleEndian.Uint64(b)), int64(binary.LittleEndian.Uint64(b[8:]))}
	if s.Offset < 0 || s.Millis < 0 || s.Millis > lastMillis {
		return stamp{1 << 62, 1 << 62}
	}
	return s
}

// sound reports whether offsets and times only grow, up to a time.
func (t times) sound(until int64) bool {
	all := t.between(0, 1<<62)
	for i, s := range all {
		if s.Millis > until || i > 0 && (s.Offset < all[i-1].Offset || s.Millis < all[i-1].Millis) {
			return false
		}
	}
	return true
}

// last returns the newest stamp, zero if there is none.
func (t times) last() stamp {
	if t.n == 0 {
		return stamp{}
	}
	return t.get(t.n - 1)
}

// between returns the stamps that matter for the offsets from one to another.
func (t times) between(from, to int64) stamps {
	i := max(0, sort.Search(t.n, func(i int) bool { return t.get(i).Offset > from })-1)
	var out stamps
	b := make([]byte, 256*stampSize)
	for i < t.n {
		n, _ := t.f.ReadAt(b, int64(i)*stampSize)
		n /= stampSize
		for k := range n {
			s := decode(b[k*stampSize:])
			if s.Offset > to {
				return out
			}
			out = append(out, s)
		}
		if n == 0 {
			return out
		}
		i += n
	}
	return out
}

// since returns the offset from which on all was seen at the time or later, in
// milliseconds; false if nothing was.
func (t times) since(millis int64) (offset int64, ok bool) {
	i := sort.Search(t.n, func(i int) bool { return t.get(i).Millis >= millis })
	if i == t.n {
		return 0, false
	}
	return t.get(i).Offset, true
}

func appendTime(path string, s stamp) error {
	f, err := os.OpenFile(timesPath(path), os.O_CREATE|os.O_APPEND|os.O_WRONLY|syscall.O_NOFOLLOW, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(encode(nil, s))
	return errors.Join(err, f.Close())
}

func encode(b []byte, s stamp) []byte {
	return binary.LittleEndian.AppendUint64(binary.LittleEndian.AppendUint64(b, uint64(s.Offset)), uint64(s.Millis))
}

// dropTimes forgets the stamps of what is no longer there.
func dropTimes(path string, begins int64) error {
	t, err := openTimes(path)
	if err != nil || t.f == nil {
		return err
	}
	defer t.close()
	var b bytes.Buffer
	for _, s := range t.between(begins, 1<<62) {
		b.Write(encode(nil, s))
	}
	f, err := os.CreateTemp(filepath.Dir(path), filepath.Base(timesPath(path))+".*")
	if err != nil {
		return err
	}
	_, err = f.Write(b.Bytes())
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.Rename(f.Name(), timesPath(path))
	}
	if err != nil {
		os.Remove(f.Name())
	}
	return err
}

// fromMillis returns a time, zero for 0.
func fromMillis(ms int64) time.Time {
	if ms <= 0 || ms > lastMillis {
		return time.Time{}
	}
	return time.UnixMilli(ms)
}
