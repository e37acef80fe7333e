package journal

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"os"
	"slices"
)

// A log is read in chunks that begin at multiples of chunkSize, forwards,
// backwards, or many at the same time. A line belongs to the chunk in which
// it begins, and no entry goes over the end of its chunk by more than a line,
// so that a chunk can be read without those around it.
const chunkSize = 128 << 10

// step is how much more is read at first where the end of a line is missing.
const step = 4 << 10

// searched is how much is read of a line that goes over the end of its chunk.
const searched = 64 << 10

// logFile is an open log.
type logFile struct {
	f            *os.File
	begins, size int64 // what is there
	times        times
}

// openLog opens a log; nil without an error if there is none.
func openLog(path string) (*logFile, error) {
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err != nil {
		f.Close()
		return nil, err
	}
	l := &logFile{f: f, size: info.Size()}
	if l.size > 0 {
		l.begins = min(beginsAt(f), l.size)
	}
	if l.times, err = openTimes(path); err != nil {
		f.Close()
		return nil, err
	}
	return l, nil
}

func (l *logFile) close() {
	l.f.Close()
	l.times.close()
}

func (l *logFile) firstChunk() int64 { return l.begins / chunkSize }

// lastChunk returns the last one with a byte, -1 if the log is empty.
func (l *logFile) lastChunk() int64 { return (l.size+chunkSize-1)/chunkSize - 1 }

// chunk is the lines that begin in a chunk.
type chunk struct {
	data   []byte // from the beginning of the first line to the end of the last
	offset int64  // of data
	times  stamps
}

// buffer returns a buffer that is large enough to read any chunk into.
func buffer() []byte { return make([]byte, 1+chunkSize+searched) }

// read reads a chunk, into the buffer if that is not nil.
func (l *logFile) read(i int64, buf []byte) (chunk, error) {
	from, to := i*chunkSize, min((i+1)*chunkSize, l.size)
	if from >= to {
		return chunk{}, nil
	}
	// The byte before tells whether a line begins with the chunk.
	before := max(from-1, l.begins, 0)
	if buf == nil {
		buf = make([]byte, to-before, to-before+min(l.size-to, step))
	}
	n, err := l.f.ReadAt(buf[:to-before], before)
	if err != nil && err != io.EOF {
		return chunk{}, err
	}
	if int64(n) < to-before { // shorter than it was: begun anew
		to = before + int64(n)
	}
	start := int64(0)
	if before > 0 {
		start = int64(bytes.IndexByte(buf[:n], '\n')) + 1
		if start == 0 || before+start >= to {
			return chunk{}, nil // the middle of a long line
		}
	}
	// The rest of the last line.
	for further := step; n > 0 && buf[n-1] != '\n' && before+int64(n) < l.size && n < 1+chunkSize+searched; further *= 4 {
		room := min(n+further, 1+chunkSize+searched, int(l.size-before))
		if room > len(buf) {
			buf = slices.Grow(buf, room-len(buf))[:room]
		}
		more, err := l.f.ReadAt(buf[n:room], before+int64(n))
		if end := bytes.IndexByte(buf[n:n+more], '\n'); end >= 0 {
			n += end + 1
			break
		}
		n += more
		if err != nil {
			break
		}
	}
	c := chunk{data: buf[start:n], offset: before + start}
	if l.times.f != nil {
		c.times = l.times.between(c.offset, to)
	}
	return c, nil
}

// lines returns the lines of the chunk.
func (c chunk) lines() []Line {
	var out []Line
	data, offset := c.data, c.offset
	for len(data) > 0 {
		line, rest, whole := bytes.Cut(data, []byte{'\n'})
		out = append(out, newLine(fromMillis(c.times.at(offset)), offset, line))
		offset += int64(len(line))
		if whole {
			offset++
		}
		data = rest
	}
	return out
}

// span is an entry's place in its chunk: one line, or several that belong
// together.
type span struct{ from, to int }

// together is how long after the line before, in milliseconds, a line may
// come that continues it.
const together = 1000

// spans returns the chunk's entries.
func (c chunk) spans() []span {
	out := make([]span, 0, len(c.data)/64)
	data := c.data
	var prev []byte
	prevAt := 0
	for at := 0; at < len(data); {
		end := bytes.IndexByte(data[at:], '\n')
		next := len(data)
		line := data[at:]
		if end >= 0 {
			next = at + end + 1
			line = data[at : at+end]
		}
		if len(out) > 0 && continues(prev, line, data[next:]) && c.close(prevAt, at) {
			out[len(out)-1].to = next
		} else {
			out = append(out, span{at, next})
		}
		prev, prevAt = line, at
		at = next
	}
	return out
}

// close reports whether the line at one place was seen soon after that at another.
func (c chunk) close(before, line int) bool {
	if len(c.times) < 2 {
		return true
	}
	return c.times.at(c.offset+int64(line))-c.times.at(c.offset+int64(before)) <= together
}

// continues reports whether a line goes on with the one before, as in the trace of
// an error; rest is what follows it.
func continues(prev, line, rest []byte) bool {
	if len(line) == 0 || line[0] == '\r' {
		return true
	}
	switch line[0] {
	case ' ', '\t':
		return true
	case '}', ']', ')': // the end of a value over several lines
		return len(line) <= 3
	case 'C':
		return bytes.HasPrefix(line, []byte("Caused by:"))
	case 'S':
		return bytes.HasPrefix(line, []byte("Suppressed:"))
	case 'D':
		return bytes.HasPrefix(line, []byte("During handling of the above exception"))
	case 'T':
		if bytes.HasPrefix(line, []byte("The above exception was the direct cause")) {
			return true
		}
	case 'g':
		return bytes.HasPrefix(line, []byte("goroutine ")) && bytes.HasSuffix(bytes.TrimSpace(line), []byte("]:"))
	case '.':
		return bytes.HasPrefix(line, []byte("... "))
	}
	// A call of a goroutine's stack: its place is on the next line, indented.
	if len(rest) > 1 && rest[0] == '\t' && line[len(line)-1] == ')' && bytes.IndexByte(line, '(') > 0 && bytes.IndexByte(line, ' ') < 0 {
		return true
	}
	if len(rest) > 1 && rest[0] == '\t' && bytes.HasPrefix(line, []byte("created by ")) {
		return true
	}
	// A trace that ends with what was raised.
	return len(prev) > 0 && prev[0] == ' ' && raised(line)
}

// raised reports whether a line names an error that was raised: "ValueError: bad".
func raised(line []byte) bool {
	n := 0
	for n < len(line) && (line[n] == '.' || line[n] == '_' || line[n] >= 'a' && line[n] <= 'z' || line[n] >= 'A' && line[n] <= 'Z' || line[n] >= '0' && line[n] <= '9') {
		n++
	}
	word := line[:n]
	if n < len(line) && line[n] != ':' || n == 0 {
		return false
	}
	for _, end := range []string{"Error", "Exception", "Interrupt", "Exit", "Warning"} {
		if bytes.HasSuffix(word, []byte(end)) {
			return true
		}
	}
	return false
}
