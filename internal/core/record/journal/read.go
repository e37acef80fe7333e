package journal

import (
	"context"
	"errors"
	"runtime"
	"slices"
	"sort"
	"sync"
	"sync/atomic"
)

// Filter says which entries are wanted.
type Filter struct {
	// Services are those whose entries are wanted.
	Services []string
	// Events asks for what the keeper noted of them, too.
	Events bool
	// Event asks for the events of this name, and for nothing else.
	Event string
	// Level is the least that an entry must have; None: any.
	Level Level
	// Patterns must all match.
	Patterns []*Pattern
}

// Query asks for a part of a project's time line.
type Query struct {
	Filter
	// From is the first place that may be in the answer, Before the first
	// that may not. Zero: no bound.
	From, Before Place
	// N is how many entries are wanted at most.
	N int
	// Oldest asks for the first N of them rather than the last.
	Oldest bool
}

// Answer is a part of the time line.
type Answer struct {
	Entries []Entry `json:"entries"` // the oldest first
	// More says that there may be more than N between the bounds.
	More bool `json:"more"`
}

// Read answers a query about the logs in a folder.
func Read(ctx context.Context, dir string, q Query) (Answer, error) {
	var sources []*source
	defer func() {
		for _, s := range sources {
			s.log.close()
		}
	}()
	for _, name := range q.logs() {
		s, err := openSource(dir, name, &q)
		if err != nil {
			return Answer{}, err
		}
		if s != nil {
			sources = append(sources, s)
		}
	}
	a := Answer{Entries: []Entry{}}
	for len(sources) > 0 && ctx.Err() == nil {
		// The source whose next entry comes first; one that isn't read yet
		// has only a bound, so it is read when its turn comes.
		best := 0
		for i := 1; i < len(sources); i++ {
			if c := sources[i].next.Compare(sources[best].next); q.Oldest && c < 0 || !q.Oldest && c > 0 {
				best = i
			}
		}
		s := sources[best]
		if s.ready {
			if len(a.Entries) == q.N {
				a.More = true
				break
			}
			a.Entries = append(a.Entries, s.take())
		}
		over, err := s.advance(&q)
		if err != nil {
			return Answer{}, err
		}
		if over {
			s.log.close()
			sources = slices.Delete(sources, best, best+1)
		}
	}
	if !q.Oldest {
		slices.Reverse(a.Entries)
	}
	return a, ctx.Err()
}

func (q *Query) logs() []string {
	if q.Event != "" {
		return []string{Events}
	}
	logs := slices.Clone(q.Services)
	if q.Events {
		logs = append(logs, Events)
	}
	return logs
}

// logPath returns the file of a service's log, or of the events.
func logPath(dir, log string) string {
	if log == Events {
		return eventsPath(dir)
	}
	return Path(dir, log)
}

// source reads the entries of one log in the order of a query.
type source struct {
	log    *logFile
	name   string
	lo, hi int64 // the offsets at which wanted entries begin: lo ≤ offset < hi
	at     int64 // the chunk to read next
	step   int64
	batch  int64 // how many chunks to read at a time
	found  []hit
	next   Place // of the next entry, or before it
	ready  bool  // next is that of found[0]
}

// hit is an entry that is wanted, not yet read.
type hit struct {
	chunk chunk
	span  span
}

func (h hit) offset() int64 { return h.chunk.offset + int64(h.span.from) }

// openSource opens a log for a query; nil if there is nothing to be read.
func openSource(dir, name string, q *Query) (*source, error) {
	l, err := openLog(logPath(dir, name))
	if l == nil {
		return nil, err
	}
	s := &source{log: l, name: name, lo: l.begins, hi: l.size, step: 1, batch: 1}
	if !q.From.IsZero() {
		s.lo = max(s.lo, l.offsetOf(name, q.From))
	}
	if !q.Before.IsZero() {
		s.hi = min(s.hi, l.offsetOf(name, q.Before))
	}
	if s.lo >= s.hi {
		l.close()
		return nil, nil
	}
	s.at = s.lo / chunkSize
	s.next = Place{Log: name}
	if !q.Oldest {
		s.at, s.step = (s.hi-1)/chunkSize, -1
		s.next = Place{Seen: l.times.last().Millis, Log: name, Offset: s.hi}
		if !q.Before.IsZero() {
			s.next.Seen = min(s.next.Seen, q.Before.Seen)
		}
	} else if l.times.n > 0 {
		s.next.Seen = l.times.between(s.lo, s.lo).at(s.lo)
	}
	return s, nil
}

// offsetOf returns where a place is in a log: every entry before the offset is
// before the place, and the others are not.
func (l *logFile) offsetOf(name string, p Place) int64 {
	if p.Log == name {
		return p.Offset
	}
	if p.Seen < 0 { // before everything, seen or not
		return 0
	}
	millis := p.Seen
	if name < p.Log { // at the same time it comes before
		millis++
	}
	if offset, ok := l.times.since(millis); ok {
		return offset
	}
	return l.size
}

func (s *source) take() Entry {
	h := s.found[0]
	s.found = s.found[1:]
	return h.chunk.entry(s.name, h.span)
}

// maxBatch is how many chunks are read at a time while nothing is found.
const maxBatch = 64

// advance makes the next entry ready; over says that there is none.
func (s *source) advance(q *Query) (over bool, err error) {
	s.ready = false
	for len(s.found) == 0 {
		if s.at < s.lo/chunkSize || s.at > (s.hi-1)/chunkSize {
			return true, nil
		}
		n := s.batch
		if s.step > 0 {
			n = min(n, (s.hi-1)/chunkSize-s.at+1)
		} else {
			n = min(n, s.at-s.lo/chunkSize+1)
		}
		chunks := make([][]hit, n)
		err := inParallel(int(n), func(i int) error {
			hits, err := s.scan(s.at+int64(i)*s.step, &q.Filter)
			chunks[i] = hits
			return err
		})
		if err != nil {
			return false, err
		}
		for _, hits := range chunks {
			if s.step < 0 {
				slices.Reverse(hits)
			}
			s.found = append(s.found, hits...)
		}
		s.at += n * s.step
		s.batch = min(2*s.batch, maxBatch)
	}
	h := s.found[0]
	s.next = Place{Seen: h.chunk.times.at(h.offset()), Log: s.name, Offset: h.offset()}
	s.ready = true
	return false, nil
}

// scan reads a chunk and finds the wanted entries in it.
func (s *source) scan(i int64, f *Filter) ([]hit, error) {
	c, err := s.log.read(i, nil)
	if err != nil {
		return nil, err
	}
	var hits []hit
	for _, span := range c.wanted(f, s.name) {
		if at := c.offset + int64(span.from); at >= s.lo && at < s.hi {
			hits = append(hits, hit{c, span})
		}
	}
	return hits, nil
}

// wanted returns the spans of the chunk that the filter lets through.
func (c chunk) wanted(f *Filter, log string) []span {
	if len(c.data) == 0 {
		return nil
	}
	if log == Events {
		return c.wantedEvents(f)
	}
	var first *Pattern // that whose literal leads to the candidates
	for _, p := range f.Patterns {
		if len(p.literal) > 0 && (first == nil || len(p.literal) > len(first.literal)) {
			first = p
		}
	}
	if first != nil && first.index(c.data, 0) < 0 {
		return nil
	}
	all := c.spans()
	if first == nil && len(f.Patterns) == 0 && f.Level == None {
		return all
	}
	out := all[:0]
	at := -1 // the next place of the literal
	for i := 0; i < len(all); i++ {
		s := all[i]
		if first != nil {
			if at < s.from {
				if at = first.index(c.data, s.from); at < 0 {
					break
				}
			}
			if at >= s.to {
				i += sort.Search(len(all)-i, func(k int) bool { return all[i+k].to > at }) - 1
				continue
			}
		}
		if f.lets(trimEnd(c.data[s.from:s.to]), first) {
			out = append(out, s)
		}
	}
	return out
}

func trimEnd(b []byte) []byte {
	for len(b) > 0 && (b[len(b)-1] == '\n' || b[len(b)-1] == '\r') {
		b = b[:len(b)-1]
	}
	return b
}

// lets reports whether the filter lets an entry through. That the literal of
// found is in it is known.
func (f *Filter) lets(entry []byte, found *Pattern) bool {
	for _, p := range f.Patterns {
		if p == found && p.re == nil {
			continue
		}
		if p == found && !p.re.Match(entry) || p != found && !p.Matches(entry) {
			return false
		}
	}
	if f.Level == None {
		return true
	}
	line := entry
	for i, c := range entry {
		if c == '\n' {
			line = entry[:i]
			break
		}
	}
	return levelOf(line) >= f.Level
}

// wantedEvents returns the events of the filter's services, and of the project.
func (c chunk) wantedEvents(f *Filter) []span {
	var out []span
	for _, s := range c.spans() {
		if f.Matches(c.entry(Events, s)) {
			out = append(out, s)
		}
	}
	return out
}

// inParallel does n things on all processors and returns the errors.
func inParallel(n int, do func(i int) error) error {
	if n == 1 {
		return do(0)
	}
	errs := make([]error, n)
	var next atomic.Int64
	var all sync.WaitGroup
	for range min(n, runtime.GOMAXPROCS(0)) {
		all.Go(func() {
			for {
				i := int(next.Add(1)) - 1
				if i >= n {
					return
				}
				errs[i] = do(i)
			}
		})
	}
	all.Wait()
	return errors.Join(errs...)
}

// Count is how far a count has come.
type Count struct {
	Entries int64 `json:"entries"` // that match so far
	// Read and Size are bytes.
	Read int64 `json:"read"`
	Size int64 `json:"size"`
}

// CountEntries counts the entries between the bounds that the filter lets
// through. It calls progress now and then, from one goroutine at a time.
func CountEntries(ctx context.Context, dir string, q Query, progress func(Count)) (Count, error) {
	type work struct {
		s *source
		i int64
	}
	var all []work
	var c Count
	for _, name := range q.logs() {
		s, err := openSource(dir, name, &q)
		if err != nil {
			return c, err
		}
		if s == nil {
			continue
		}
		defer s.log.close()
		for i := s.lo / chunkSize; i <= (s.hi-1)/chunkSize; i++ {
			all = append(all, work{s, i})
		}
		c.Size += s.hi - s.lo
	}
	var mu sync.Mutex
	buffers := sync.Pool{New: func() any { b := buffer(); return &b }}
	err := inParallel(len(all), func(i int) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		w := all[i]
		buf := buffers.Get().(*[]byte)
		defer buffers.Put(buf)
		ch, err := w.s.log.read(w.i, *buf)
		if err != nil {
			return err
		}
		n := int64(0)
		for _, span := range ch.wanted(&q.Filter, w.s.name) {
			if at := ch.offset + int64(span.from); at >= w.s.lo && at < w.s.hi {
				n++
			}
		}
		mu.Lock()
		defer mu.Unlock()
		c.Entries += n
		c.Read += int64(len(ch.data))
		if progress != nil && i%64 == 63 {
			progress(c)
		}
		return nil
	})
	c.Read = c.Size
	return c, err
}
