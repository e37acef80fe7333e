package journal

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// readStamp reads a time from a value: a date, or seconds, milliseconds or
// nanoseconds since 1970.
func readStamp(v string) (time.Time, bool) {
	if n, err := strconv.ParseFloat(v, 64); err == nil {
		switch {
		case n > 1e17:
			return time.Unix(0, int64(n)), true
		case n > 1e11:
			return time.UnixMilli(int64(n)), true
		case n > 1e8:
			return time.UnixMicro(int64(n * 1e6)), true
		}
		return time.Time{}, false
	}
	for _, layout := range []string{time.RFC3339Nano, "2006-01-02T15:04:05.999999999", "2006-01-02 15:04:05.999999999Z07:00", "2006-01-02 15:04:05.999999999"} {
		if at, err := time.ParseInLocation(layout, v, time.Local); err == nil {
			return at, true
		}
	}
	return time.Time{}, false
}

// readTime reads a time at the beginning of b, perhaps in brackets, and says
// how long it is. One without a day is recognised and returned as zero.
func readTime(b []byte) (at time.Time, n int, ok bool) {
	if len(b) > 2 && b[0] == '[' {
		if end := bytes.IndexByte(b[:min(len(b), 40)], ']'); end > 0 {
			at, n, ok = readTime(b[1:end])
			if ok && n == end-1 {
				return at, end + 1, true
			}
		}
		return at, 0, false
	}
	if len(b) < 8 {
		return at, 0, false
	}
	digit := func(i int) bool { return i < len(b) && b[i] >= '0' && b[i] <= '9' }
	switch {
	case digit(0) && digit(3) && (b[4] == '-' || b[4] == '/') && len(b) >= 19 && digit(18): // 2026-11-23 12:00:00
		year, month, day := number(b[:4]), number(b[5:7]), number(b[8:10])
		clock, nanos, length := readClock(b[11:])
		if length == 0 || month < 1 || month > 12 {
			return at, 0, false
		}
		n = 11 + length
		zone, length := readZone(b[n:])
		n += length
		return time.Date(year, time.Month(month), day, clock/3600, clock/60%60, clock%60, nanos, zone), n, true
	case digit(0) && digit(1) && b[2] == ':': // 12:00:00
		_, _, length := readClock(b)
		return at, length, length > 0
	case digit(0) && digit(9) && (len(b) > 10 && b[10] == ':') && b[0] == '1' && digits(b[:10]): // seconds since 1970
		return time.Unix(int64(number(b[:10])), 0), 11, true
	}
	return readNamedMonth(b)
}

// readNamedMonth reads a time whose month is a name: "23 Nov 2026 12:00:00",
// "23-Nov-2026 12:00:00", "Nov 23 12:00:00", "Mon Nov 23 12:00:00.5 2026".
func readNamedMonth(b []byte) (at time.Time, n int, ok bool) {
	f := make([]int, 0, 8) // where words begin
	s := string(b[:min(len(b), 48)])
	in := false
	for i := 0; i < len(s) && len(f) < 7; i++ {
		gap := s[i] == ' ' || s[i] == '/' || s[i] == '-' && i < 11 || s[i] == ':' && i < 13 && i > 9 && s[i-5] == '/'
		if !gap && !in {
			f = append(f, i)
		}
		in = !gap
	}
	word := func(i int) string {
		if i >= len(f) {
			return ""
		}
		end := f[i]
		for end < len(s) && s[end] != ' ' && s[end] != '/' && (s[end] != '-' || end > 10) && (s[end] != ':' || end-f[i] != 4 || !digits([]byte(s[f[i]:end]))) {
			end++
		}
		return s[f[i]:end]
	}
	year, month, day, clockAt := 0, 0, 0, 0
	switch {
	case monthOf(word(1)) > 0 && digits([]byte(word(0))) && digits([]byte(word(2))):
		day, month, year, clockAt = number([]byte(word(0))), monthOf(word(1)), number([]byte(word(2))), 3
	case monthOf(word(0)) > 0 && digits([]byte(word(1))):
		day, month, clockAt = number([]byte(word(1))), monthOf(word(0)), 2
	case monthOf(word(1)) > 0 && digits([]byte(word(2))):
		day, month, clockAt = number([]byte(word(2))), monthOf(word(1)), 3
	default:
		return at, 0, false
	}
	if clockAt >= len(f) {
		return at, 0, false
	}
	clock, nanos, length := readClock(b[f[clockAt]:])
	if length == 0 {
		return at, 0, false
	}
	n = f[clockAt] + length
	if year == 0 {
		if len(b) >= n+5 && b[n] == ' ' && digits(b[n+1:n+5]) && (len(b) == n+5 || b[n+5] < '0') {
			year = number(b[n+1 : n+5])
			n += 5
		} else {
			year = time.Now().Year()
		}
	}
	zone, length := readZone(b[n:])
	n += length
	return time.Date(year, time.Month(month), day, clock/3600, clock/60%60, clock%60, nanos, zone), n, true
}

func monthOf(s string) int {
	if len(s) != 3 {
		return 0
	}
	i := strings.Index("JanFebMarAprMayJunJulAugSepOctNovDec", s)
	if i < 0 || i%3 != 0 {
		return 0
	}
	return i/3 + 1
}

func number(b []byte) int {
	n := 0
	for _, c := range b {
		if c < '0' || c > '9' {
			return -1
		}
		n = n*10 + int(c-'0')
	}
	return n
}

// readClock reads "12:00:00", with parts of a second perhaps.
func readClock(b []byte) (seconds, nanos, n int) {
	if len(b) < 8 || b[2] != ':' || b[5] != ':' {
		return 0, 0, 0
	}
	h, m, s := number(b[:2]), number(b[3:5]), number(b[6:8])
	if h < 0 || h > 23 || m < 0 || m > 59 || s < 0 || s > 60 {
		return 0, 0, 0
	}
	n = 8
	if n+1 < len(b) && (b[n] == '.' || b[n] == ',') && b[n+1] >= '0' && b[n+1] <= '9' {
		scale := 100_000_000
		for n++; n < len(b) && b[n] >= '0' && b[n] <= '9'; n++ {
			nanos += int(b[n]-'0') * scale
			scale /= 10
		}
	}
	return h*3600 + m*60 + s, nanos, n
}

// readZone reads a time zone; without one it is the machine's.
func readZone(b []byte) (*time.Location, int) {
	switch {
	case bytes.HasPrefix(b, []byte("Z")):
		return time.UTC, 1
	case bytes.HasPrefix(b, []byte(" UTC")), bytes.HasPrefix(b, []byte(" GMT")):
		return time.UTC, 4
	}
	skip := 0
	if len(b) > 0 && b[0] == ' ' {
		skip = 1
	}
	z := b[skip:]
	if len(z) >= 5 && (z[0] == '+' || z[0] == '-') {
		length, hours, minutes := 5, number(z[1:3]), number(z[3:5])
		if z[3] == ':' && len(z) >= 6 {
			length, minutes = 6, number(z[4:6])
		}
		if hours >= 0 && hours < 15 && minutes >= 0 && minutes < 60 {
			east := hours*3600 + minutes*60
			if z[0] == '-' {
				east = -east
			}
			return time.FixedZone(fmt.Sprintf("%+03d:%02d", hours, minutes), east), skip + length
		}
	}
	return time.Local, 0
}
