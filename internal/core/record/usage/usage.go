// Package usage keeps what services and their machine use over time: the latest
// minutes in memory, and a day at falling resolution in rows that somebody else
// stores.
package usage

import (
	"sync"
	"time"
)

// Sample is what a service uses at one time, with all that it has started.
type Sample struct {
	CPU     float32 `json:"cpu"`     // percent of one processor
	Memory  uint64  `json:"memory"`  // bytes
	Read    uint64  `json:"read"`    // bytes a second from disk
	Written uint64  `json:"written"` // bytes a second to disk
	// Files are open files, Threads and Processes how many there are.
	Files     int `json:"files"`
	Threads   int `json:"threads"`
	Processes int `json:"processes"`
}

// Row is what a service used in a length of time: the average, and the highest
// processor use.
type Row struct {
	Service string
	At      time.Time // when it begins
	Step    time.Duration
	Sample
	Peak float32
}

// Machine is the name of the machine's own series.
const Machine = ""

// The lengths of time that rows are of, and for how long those of each are kept.
const (
	Fine       = 10 * time.Second
	Coarse     = 2 * time.Minute
	KeepFine   = 2 * time.Hour
	KeepCoarse = 24 * time.Hour
)

// InMemory is the longest period that the samples in memory are enough for, where
// one is taken each second or two.
const InMemory = 5 * time.Minute

// recent is how many samples of each service are in memory.
const recent = 300

// Recorder takes samples. Its methods may be called concurrently.
type Recorder struct {
	mu     sync.Mutex
	latest map[string][]stamped
	fine   map[string]*bucket
	coarse map[string]*bucket
	rows   []Row // that are complete, and not taken yet
}

// stamped is a sample with its time.
type stamped struct {
	at time.Time
	Sample
}

// bucket adds up the samples of a length of time.
type bucket struct {
	at  time.Time
	n   int
	sum [7]float64
	top float32
}

// NewRecorder returns a recorder without samples.
func NewRecorder() *Recorder {
	return &Recorder{latest: map[string][]stamped{}, fine: map[string]*bucket{}, coarse: map[string]*bucket{}}
}

// Add takes a sample of a service, Machine being the machine itself.
func (r *Recorder) Add(service string, at time.Time, s Sample) {
	r.mu.Lock()
	defer r.mu.Unlock()
	list := r.latest[service]
	if len(list) >= recent+recent/4 { // moved now and then, not each time
		list = append(make([]stamped, 0, cap(list)), list[len(list)-recent+1:]...)
	}
	r.latest[service] = append(list, stamped{at, s})
	r.add(r.fine, service, at, Fine, s)
	r.add(r.coarse, service, at, Coarse, s)
}

func (r *Recorder) add(to map[string]*bucket, service string, at time.Time, step time.Duration, s Sample) {
	begins := at.Truncate(step)
	b := to[service]
	if b != nil && !b.at.Equal(begins) {
		r.rows = append(r.rows, b.row(service, step))
		b = nil
	}
	if b == nil {
		b = &bucket{at: begins}
		to[service] = b
	}
	b.n++
	for i, v := range s.values() {
		b.sum[i] += v
	}
	b.top = max(b.top, s.CPU)
}

func (s Sample) values() [7]float64 {
	return [7]float64{float64(s.CPU), float64(s.Memory), float64(s.Read), float64(s.Written), float64(s.Files), float64(s.Threads), float64(s.Processes)}
}

func (b *bucket) row(service string, step time.Duration) Row {
	v := b.sum
	for i := range v {
		v[i] /= float64(b.n)
	}
	return Row{Service: service, At: b.at, Step: step, Peak: b.top, Sample: Sample{
		CPU: float32(v[0]), Memory: uint64(v[1]), Read: uint64(v[2]), Written: uint64(v[3]), Files: int(v[4] + 0.5), Threads: int(v[5] + 0.5), Processes: int(v[6] + 0.5),
	}}
}

// Take returns the rows that are complete since it was last called; with all,
// also those that aren't, as at the end.
func (r *Recorder) Take(all bool) []Row {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := r.rows
	r.rows = nil
	if all {
		for step, buckets := range map[time.Duration]map[string]*bucket{Fine: r.fine, Coarse: r.coarse} {
			for service, b := range buckets {
				out = append(out, b.row(service, step))
			}
			clear(buckets)
		}
	}
	return out
}

// Recent returns the samples in memory, the oldest first.
func (r *Recorder) Recent(service string) []Row {
	r.mu.Lock()
	defer r.mu.Unlock()
	var out []Row
	list := r.latest[service]
	for i, s := range list {
		// A sample counts until the next, if that comes as soon as it should.
		step := 2 * time.Second
		if i+1 < len(list) {
			step = min(list[i+1].at.Sub(s.at), Fine+2*time.Second)
		}
		out = append(out, Row{Service: service, At: s.at, Step: step, Sample: s.Sample, Peak: s.CPU})
	}
	return out
}

// Pending returns the rows of a service that are complete, or begun, and not taken
// yet.
func (r *Recorder) Pending(service string, step time.Duration) []Row {
	r.mu.Lock()
	defer r.mu.Unlock()
	var out []Row
	for _, row := range r.rows {
		if row.Service == service && row.Step == step {
			out = append(out, row)
		}
	}
	buckets := r.fine
	if step == Coarse {
		buckets = r.coarse
	}
	if b := buckets[service]; b != nil {
		out = append(out, b.row(service, step))
	}
	return out
}
