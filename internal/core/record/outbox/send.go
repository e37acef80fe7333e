package outbox

import (
	"cmp"
	"context"
	"maps"
	"math/rand/v2"
	"slices"
	"time"
)

// sender is what is known of one in memory: which events wait. What they are is in the file.
type sender struct {
	name   string
	cursor string
	paused string
	last   int64

	keys    map[string][]int64 // the events of each key, in their order
	ready   []string           // keys of which none is being sent, in the order of coming
	due     map[int64]time.Time
	flying  map[int64]bool
	held    map[int64]int64 // the sizes of the events that wait or were put aside
	bytes   int64           // the sum of them
	waiting int
	// done is how many events have arrived since those of before were pruned, and doneBytes how
	// much of them.
	done, doneBytes int

	wake chan struct{} // holds a value when there may be something to do
	room chan struct{} // the same, when there may be room
}

// hold counts an event that waits or was put aside.
func (s *sender) hold(id, size int64) {
	s.held[id] = size
	s.bytes += size
}

// release counts one no more.
func (s *sender) release(id int64) {
	s.bytes -= s.held[id]
	delete(s.held, id)
	select {
	case s.room <- struct{}{}:
	default:
	}
}

// put has an event wait.
func (s *sender) put(id int64, key string, due time.Time) {
	if len(s.keys[key]) == 0 {
		s.ready = append(s.ready, key)
	}
	// One that was put aside may go before others of its key.
	at, _ := slices.BinarySearch(s.keys[key], id)
	if at == 0 && len(s.keys[key]) > 0 && s.flying[s.keys[key][0]] {
		at = 1
	}
	s.keys[key] = slices.Insert(s.keys[key], at, id)
	s.due[id] = due
	s.waiting++
}

// take has an event not wait any more.
func (s *sender) take(id int64, key string) {
	at := slices.Index(s.keys[key], id)
	if at < 0 {
		return
	}
	s.keys[key] = slices.Delete(s.keys[key], at, at+1)
	if len(s.keys[key]) == 0 {
		delete(s.keys, key)
		s.ready = slices.DeleteFunc(s.ready, func(k string) bool { return k == key })
	}
	delete(s.due, id)
	delete(s.flying, id)
	s.waiting--
}

func (s *sender) stir() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// Config says how the events of a sender are sent.
type Config struct {
	// AtOnce is how many are sent at a time, of different keys; 0: 16.
	AtOnce int
	// Tries is how often one is tried before it is put aside; 0: 8.
	Tries int
	// Wait is how long the second try waits, and each after it twice as long as the one
	// before, up to MostWait; 0: a second, and a minute.
	Wait, MostWait time.Duration
	// Ready reports whether events can be sent now; nil: they always can.
	Ready func() bool
	// Send sends one. It is called in goroutines of its own, at the same time.
	Send func(context.Context, Delivery) Outcome
	// Note is told of what becomes of each try; nil: nobody is.
	Note func(Delivery)
}

func (c *Config) defaults() {
	c.AtOnce, c.Tries, c.Wait, c.MostWait = cmp.Or(c.AtOnce, 16), cmp.Or(c.Tries, 8), cmp.Or(c.Wait, time.Second), cmp.Or(c.MostWait, time.Minute)
}

// pollEvery is how often it is looked whether events can be sent that could not be.
const pollEvery = 100 * time.Millisecond

// Run sends the events of a sender until the context ends, and returns when those on their way
// have come back. It ends with an error if what becomes of events can't be written down; then it
// can be called again. There must be one Run of a sender at a time.
func (b *Box) Run(ctx context.Context, name string, c Config) error {
	c.defaults()
	b.mu.Lock()
	s, err := b.of(name)
	if err == nil {
		// A run before may have failed with some on their way.
		s.flying, s.ready = map[int64]bool{}, slices.Collect(maps.Keys(s.keys))
		slices.SortFunc(s.ready, func(a, b string) int { return cmp.Compare(s.keys[a][0], s.keys[b][0]) })
	}
	b.mu.Unlock()
	if err != nil {
		return err
	}
	back := make(chan Delivery, c.AtOnce)
	flying := 0
	for {
		pause := time.NewTimer(time.Hour)
		if ctx.Err() == nil {
			next := b.next(s, c.AtOnce-flying, c.Ready)
			for _, id := range next.ids {
				d, err := b.Get(id)
				if err != nil {
					b.mu.Lock()
					delete(s.flying, id)
					b.mu.Unlock()
					return err
				}
				flying++
				go func() { back <- send(ctx, d, c) }()
			}
			if next.after > 0 {
				pause.Reset(next.after)
			}
		} else if flying == 0 {
			pause.Stop()
			return nil
		}
		select {
		case d := <-back:
			all := []Delivery{d}
			for len(back) > 0 { // what came in the meantime is written at the same time
				all = append(all, <-back)
			}
			flying -= len(all)
			if err := b.settle(s, all, c, ctx.Err() != nil); err != nil {
				return err
			}
		case <-s.wake:
		case <-pause.C:
		case <-ctxDone(ctx, flying):
		}
		pause.Stop()
	}
}

// ctxDone returns what ends a wait when the context does; nothing, if there is something else
// to wait for after that.
func ctxDone(ctx context.Context, flying int) <-chan struct{} {
	if ctx.Err() != nil && flying > 0 {
		return nil
	}
	return ctx.Done()
}

func send(ctx context.Context, d Delivery, c Config) Delivery {
	d.Began = time.Now()
	d.Tries++
	d.Outcome = c.Send(ctx, d)
	d.Took = time.Since(d.Began) - d.Waited
	d.Began = d.Began.Add(d.Waited)
	d.Answer = d.Answer[:min(len(d.Answer), answerLimit)]
	return d
}

type chosen struct {
	ids   []int64
	after time.Duration // when to look again; 0: when something happens
}

// next chooses up to n events to be sent now: the first of keys of which none is being sent.
func (b *Box) next(s *sender, n int, ready func() bool) (c chosen) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if n <= 0 || s.paused != "" || len(s.ready) == 0 {
		return c
	}
	if ready != nil && !ready() {
		c.after = pollEvery
		return c
	}
	now := time.Now()
	const mostLooked = 5000
	for looked := min(len(s.ready), mostLooked); looked > 0 && len(c.ids) < n; looked-- {
		key := s.ready[0]
		s.ready = s.ready[1:]
		id := s.keys[key][0]
		if wait := s.due[id].Sub(now); wait > 0 {
			if c.after == 0 || wait < c.after {
				c.after = wait
			}
			s.ready = append(s.ready, key)
			continue
		}
		s.flying[id] = true
		c.ids = append(c.ids, id)
	}
	if len(s.ready) > mostLooked { // others may be due sooner
		c.after = pollEvery
	}
	return c
}

// settle writes down what became of events that were sent.
func (b *Box) settle(s *sender, all []Delivery, c Config, ending bool) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	tx, err := b.db.Begin()
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	for i := range all {
		d := &all[i]
		switch {
		case d.Problem == "":
			d.State = Done
			s.done++
			s.doneBytes += len(d.Data) + len(d.Answer) + len(d.Request)
		case ending:
			d.Tries-- // the end of who sends is not its fault
			d.Due = time.Now()
		case d.Never || d.Tries >= c.Tries:
			d.State = Aside
		default:
			wait := min(c.Wait<<min(d.Tries-1, 20), c.MostWait)
			wait += time.Duration(rand.Int64N(int64(wait)/10 + 1)) // so that not all come at once
			d.Due = time.Now().Add(max(wait, d.Again))
		}
		_, err := tx.Exec("UPDATE event SET state = ?, tries = ?, due = ?, began = ?, took = ?, status = ?, answer = ?, request = ?, problem = ? WHERE id = ?",
			d.State, d.Tries, d.Due.UnixMilli(), d.Began.UnixMicro(), d.Took.Microseconds(), d.Status, d.Answer, d.Request, d.Problem, d.ID)
		if err != nil {
			return err
		}
	}
	if s.done >= mostDone/10 || s.doneBytes >= b.done/4 {
		s.done, s.doneBytes = 0, 0
		_, err := tx.Exec(`DELETE FROM event WHERE sender = ?1 AND state IN (?2, ?3) AND id IN (SELECT id FROM (
			SELECT id, row_number() OVER newer AS n, sum(coalesce(length(data), 0) + coalesce(length(answer), 0) + coalesce(length(request), 0)) OVER newer AS bytes
			FROM event WHERE sender = ?1 AND state IN (?2, ?3) WINDOW newer AS (ORDER BY id DESC)) WHERE n > ?4 OR bytes > ?5)`,
			s.name, Done, Dropped, mostDone, b.done)
		if err != nil {
			return err
		}
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	for _, d := range all {
		if d.State == Waiting {
			s.due[d.ID] = d.Due
			delete(s.flying, d.ID)
			s.ready = append(s.ready, d.Key)
		} else {
			s.take(d.ID, d.Key)
			if d.State == Done {
				s.release(d.ID)
			}
			if len(s.keys[d.Key]) > 0 {
				s.ready = append(s.ready, d.Key)
			}
		}
		if c.Note != nil {
			c.Note(d)
		}
	}
	b.tell()
	return nil
}
