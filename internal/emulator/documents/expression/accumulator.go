package expression

import (
	"math"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/value"
)

// Accumulator makes one value of many. It is used by one goroutine.
type Accumulator interface {
	// Add takes a value, which is Missing if there is none.
	Add(bson.RawValue) error
	// Result is the value of all that was added.
	Result() bson.RawValue
}

// Accumulators are the names of those that there are.
var Accumulators = []string{"$sum", "$avg", "$min", "$max", "$first", "$last", "$push", "$addToSet", "$stdDevPop", "$stdDevSamp", "$mergeObjects", "$count"}

// NewAccumulator returns an accumulator by its name, nil if there is none.
func NewAccumulator(name string, c *value.Collation) Accumulator {
	switch name {
	case "$sum", "$avg":
		return &sum{average: name == "$avg", total: value.Of(int32(0))}
	case "$count":
		return &counted{}
	case "$min", "$max":
		return &extreme{sign: map[string]int{"$min": -1, "$max": 1}[name], collation: c, found: value.Null}
	case "$first":
		return &first{}
	case "$last":
		return &last{}
	case "$push":
		return &pushed{}
	case "$addToSet":
		return &pushed{seen: map[string]bool{}, collation: c}
	case "$stdDevPop", "$stdDevSamp":
		return &deviation{sample: name == "$stdDevSamp"}
	case "$mergeObjects":
		return &merged{document: value.OfDocument(value.Document())}
	}
	return nil
}

// sum adds numbers, exactly while they are whole, and passes over all else.
type sum struct {
	average bool
	total   bson.RawValue
	rest    float64 // what additions of doubles have lost (Neumaier's sum)
	n       int64
}

func (s *sum) Add(v bson.RawValue) error {
	if !value.IsNumber(v) {
		return nil
	}
	s.n++
	if (s.total.Type == bson.TypeDouble || v.Type == bson.TypeDouble) && s.total.Type != bson.TypeDecimal128 && v.Type != bson.TypeDecimal128 {
		x, y := value.Float(s.total), value.Float(v)
		t := x + y
		if math.Abs(x) >= math.Abs(y) {
			s.rest += (x - t) + y
		} else {
			s.rest += (y - t) + x
		}
		s.total = value.Of(t)
		return nil
	}
	s.total = combined("$add", s.total, v)
	return nil
}

func (s *sum) Result() bson.RawValue {
	total := s.total
	if total.Type == bson.TypeDouble && !math.IsNaN(s.rest) && !math.IsInf(s.rest, 0) {
		total = value.Of(value.Float(total) + s.rest)
	}
	if !s.average {
		return total
	}
	if s.n == 0 {
		return value.Null
	}
	if total.Type == bson.TypeDecimal128 {
		q, err := quotient(total, value.Of(s.n))
		if err != nil {
			return value.Null
		}
		return q
	}
	return value.Of(value.Float(total) / float64(s.n))
}

type counted struct{ n int64 }

func (c *counted) Add(bson.RawValue) error { c.n++; return nil }
func (c *counted) Result() bson.RawValue   { return like(nil, c.n) }

type extreme struct {
	sign      int
	collation *value.Collation
	found     bson.RawValue
}

func (e *extreme) Add(v bson.RawValue) error {
	if !null(v) && (null(e.found) || e.sign*e.collation.Compare(v, e.found) > 0) {
		e.found = v
	}
	return nil
}
func (e *extreme) Result() bson.RawValue { return e.found }

type first struct {
	some bool
	v    bson.RawValue
}

func (f *first) Add(v bson.RawValue) error {
	if !f.some {
		f.some, f.v = true, v
	}
	return nil
}
func (f *first) Result() bson.RawValue { return orNull(f.v) }

type last struct{ v bson.RawValue }

func (l *last) Add(v bson.RawValue) error { l.v = v; return nil }
func (l *last) Result() bson.RawValue     { return orNull(l.v) }

func orNull(v bson.RawValue) bson.RawValue {
	if v.Type == 0 {
		return value.Null
	}
	return v
}

// pushed collects what is there, each once if seen isn't nil.
type pushed struct {
	all       []bson.RawValue
	seen      map[string]bool
	collation *value.Collation
}

func (p *pushed) Add(v bson.RawValue) error {
	if v.Type == 0 {
		return nil
	}
	if p.seen != nil {
		key := string(p.collation.Key(v))
		if p.seen[key] {
			return nil
		}
		p.seen[key] = true
	}
	p.all = append(p.all, v)
	return nil
}
func (p *pushed) Result() bson.RawValue { return value.Array(p.all) }

// deviation is the standard deviation (Welford's algorithm).
type deviation struct {
	sample bool
	n      float64
	mean   float64
	square float64
}

func (d *deviation) Add(v bson.RawValue) error {
	if value.IsNumber(v) {
		x := value.Float(v)
		d.n++
		delta := x - d.mean
		d.mean += delta / d.n
		d.square += delta * (x - d.mean)
	}
	return nil
}

func (d *deviation) Result() bson.RawValue {
	n := d.n
	if d.sample {
		n--
	}
	if n <= 0 {
		return value.Null
	}
	return value.Of(math.Sqrt(d.square / n))
}

type merged struct{ document bson.RawValue }

func (m *merged) Add(v bson.RawValue) error {
	if null(v) {
		return nil
	}
	if v.Type != bson.TypeEmbeddedDocument {
		return (&call{name: "$mergeObjects"}).wrong(v, "documents")
	}
	for _, e := range value.Members(v.Value) {
		m.document = Put(m.document, e.Name, e.Value)
	}
	return nil
}
func (m *merged) Result() bson.RawValue { return m.document }

// Put returns a document with a member that is a value, in the place of one of that name.
func Put(on bson.RawValue, name string, to bson.RawValue) bson.RawValue {
	out, done := value.Begin(make([]byte, 0, len(on.Value)+len(to.Value)+len(name)+2)), false
	value.Elements(on.Value, func(n string, v bson.RawValue) bool {
		if n == name {
			v, done = to, true
		}
		out = value.Append(out, n, v)
		return true
	})
	if !done {
		out = value.Append(out, name, to)
	}
	return value.OfDocument(value.Finish(out))
}
