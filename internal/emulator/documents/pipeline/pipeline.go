// Package pipeline makes documents of documents, stage by stage. Its stages are those of
// the protocol's documentation ("Aggregation Stages"); one that isn't here is an error that
// names it.
package pipeline

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"neighbour/internal/emulator/documents/fault"
	"neighbour/internal/emulator/documents/value"
)

// Next returns the document that follows, nil at the end.
type Next func(context.Context) (bson.Raw, error)

// Source is where stages find other collections.
type Source interface {
	// Find returns the documents of a collection that a filter means.
	Find(ctx context.Context, collection string, filter bson.Raw) (Next, error)
}

// Pipeline is one that has been read. It is run once.
type Pipeline struct {
	// Filter, Sort, Skip and Limit are what it begins with; whoever gives it its documents
	// gives those only. Limit 0 is none.
	Filter, Sort bson.Raw
	Skip, Limit  int64
	// Out says where the documents go, nil if they are the answer.
	Out *Out
	// Watch is the first stage of a pipeline of changes, of no type if it is none.
	Watch bson.RawValue

	stages  []stage
	options Options
}

// Out is a stage that writes.
type Out struct {
	Database, Collection string // "" as where they come from
	// Merge says that documents are merged into what is there; else they replace it.
	Merge     bool
	On        []string
	Matched   string // replace, merge, keepExisting, fail
	Unmatched string // insert, discard, fail
}

// stage makes documents of those before it.
type stage func(*run, Next) Next

// run is what stages know while they run.
type run struct {
	source    Source
	variables map[string]bson.RawValue
	memory    *int64 // how many bytes are held
}

// mostHeld is how many bytes all stages of a pipeline may hold.
const mostHeld = 100 << 20

// hold notes that some bytes more are held.
func (r *run) hold(n int) error {
	if *r.memory += int64(n) + 32; *r.memory > mostHeld {
		return &fault.Error{Code: 292, Name: "QueryExceededMemoryLimitNoDiskUseAllowed", Message: fmt.Sprintf("the pipeline holds more than %d MB", mostHeld>>20)}
	}
	return nil
}

// Options are what a pipeline is read with.
type Options struct {
	Collation *value.Collation
	Text      [][]string
	Variables map[string]bson.RawValue
	inside    string // of which stage it is a part
	level     int
}

// stages are those that there are, by name.
var stages map[string]func(Options, bson.RawValue) (stage, error)

// Names lists the stages.
func Names() []string {
	all := append(slices.Collect(maps.Keys(stages)), "$out", "$merge", "$changeStream")
	slices.Sort(all)
	return all
}

// Absent lists the stages of the protocol that aren't here.
func Absent() []string { return strings.Fields(unfinished) }

// unfinished are stages of the protocol that aren't here.
const unfinished = " $bucketAuto $collStats $currentOp $densify $documents $fill $geoNear $graphLookup $indexStats $listSessions $planCacheStats $redact $search $searchMeta $setWindowFields $unionWith $vectorSearch "

// Parse reads a pipeline. Its errors are of the type *fault.Error.
func Parse(all []bson.Raw, o Options) (*Pipeline, error) {
	if o.level++; o.level > 20 {
		return nil, fault.FailedToParse("pipelines are nested deeper than 20")
	}
	if len(all) > 1000 {
		return nil, fault.FailedToParse("Pipeline length must be no longer than 1000 stages")
	}
	p := &Pipeline{options: o}
	for i, raw := range all {
		if err := value.Validate(raw); err != nil {
			return nil, fault.FailedToParse("a stage is no valid document: %v", err)
		}
		members := value.Members(raw)
		if len(members) != 1 {
			return nil, &fault.Error{Code: 40323, Name: "Location40323", Message: "A pipeline stage specification object must contain exactly one field."}
		}
		if err := p.add(i, len(all), members[0], o); err != nil {
			return nil, err
		}
	}
	return p, nil
}

func (p *Pipeline) add(i, n int, m value.Named, o Options) error {
	switch {
	case m.Name == "$changeStream":
		if i > 0 || o.inside != "" {
			return &fault.Error{Code: 40602, Name: "Location40602", Message: "$changeStream is only valid as the first stage in a pipeline"}
		}
		p.Watch = m.Value
		return nil
	case m.Name == "$out" || m.Name == "$merge":
		if i != n-1 || o.inside != "" {
			return &fault.Error{Code: 40601, Name: "Location40601", Message: m.Name + " can only be the final stage in the pipeline"}
		}
		var err error
		p.Out, err = readOut(m, o)
		return err
	case strings.Contains(unfinished, " "+m.Name+" "):
		return fault.NotImplemented("the stage %s is not here", m.Name)
	}
	read := stages[m.Name]
	if read == nil {
		return &fault.Error{Code: 40324, Name: "Location40324", Message: "Unrecognized pipeline stage name: '" + m.Name + "'"}
	}
	s, err := read(o, m.Value)
	if err != nil {
		return err
	}
	if len(p.stages) > 0 || p.Watch.Type != 0 || !p.begin(m) {
		p.stages = append(p.stages, s)
	}
	return nil
}

// begin takes a stage into what the pipeline begins with, and reports whether it could:
// match, sort, skip and limit in this order are what a find does.
func (p *Pipeline) begin(m value.Named) bool {
	n, _ := value.Integer(m.Value)
	switch {
	case m.Name == "$match" && p.Filter == nil && p.Sort == nil && p.Skip == 0 && p.Limit == 0:
		p.Filter = m.Value.Value
	case m.Name == "$sort" && p.Sort == nil && p.Skip == 0 && p.Limit == 0 && plainSort(m.Value):
		p.Sort = m.Value.Value
	case m.Name == "$skip" && p.Skip == 0 && p.Limit == 0 && n > 0:
		p.Skip = n
	case m.Name == "$limit" && p.Limit == 0:
		p.Limit = n
	default:
		return false
	}
	return true
}

func plainSort(v bson.RawValue) bool {
	for _, m := range value.Members(v.Value) {
		if m.Value.Type == bson.TypeEmbeddedDocument {
			return false
		}
	}
	return true
}

// Run returns the documents that the pipeline makes of others, which are those that it
// begins with already.
func (p *Pipeline) Run(in Next, source Source, variables map[string]bson.RawValue) Next {
	held := int64(0)
	return p.run(&run{source: source, variables: variables, memory: &held}, in)
}

func (p *Pipeline) run(r *run, in Next) Next {
	for _, s := range p.stages {
		in = s(r, in)
	}
	return in
}

// Only says that the stages are some of those that are named.
func (p *Pipeline) Only(all []bson.Raw, names ...string) error {
	for _, raw := range all {
		for _, m := range value.Members(raw) {
			if !strings.Contains(" "+strings.Join(names, " ")+" ", " "+m.Name+" ") {
				return &fault.Error{Code: 72, Name: "InvalidOptions", Message: m.Name + " is not allowed here"}
			}
		}
	}
	return nil
}

// Whole returns the documents that the pipeline makes of others, which are not what it
// begins with yet.
func (p *Pipeline) Whole(in Next, source Source) (Next, error) {
	held := int64(0)
	return p.whole(&run{source: source, variables: p.options.Variables, memory: &held}, in)
}

// whole runs a pipeline on documents that are not what it begins with yet.
func (p *Pipeline) whole(r *run, in Next) (Next, error) {
	var all []bson.Raw
	if p.Filter != nil {
		all = append(all, value.Document(value.Named{Name: "$match", Value: value.OfDocument(p.Filter)}))
	}
	if p.Sort != nil {
		all = append(all, value.Document(value.Named{Name: "$sort", Value: value.OfDocument(p.Sort)}))
	}
	if p.Skip > 0 {
		all = append(all, value.Document(value.Named{Name: "$skip", Value: value.Of(p.Skip)}))
	}
	if p.Limit > 0 {
		all = append(all, value.Document(value.Named{Name: "$limit", Value: value.Of(p.Limit)}))
	}
	for _, raw := range all {
		m := value.Members(raw)[0]
		s, err := stages[m.Name](p.options, m.Value)
		if err != nil {
			return nil, err
		}
		in = s(r, in)
	}
	return p.run(r, in), nil
}

// From returns documents one after another.
func From(all []bson.Raw) Next {
	return func(context.Context) (bson.Raw, error) {
		if len(all) == 0 {
			return nil, nil
		}
		d := all[0]
		all = all[1:]
		return d, nil
	}
}

// collect reads all documents.
func collect(ctx context.Context, r *run, in Next) (all []bson.Raw, err error) {
	for {
		d, err := in(ctx)
		if err != nil || d == nil {
			return all, err
		}
		if err := r.hold(len(d)); err != nil {
			return nil, err
		}
		all = append(all, d)
	}
}

// later makes all documents when the first is asked for.
func later(make func(context.Context) ([]bson.Raw, error)) Next {
	var out Next
	return func(ctx context.Context) (bson.Raw, error) {
		if out == nil {
			all, err := make(ctx)
			if err != nil {
				return nil, err
			}
			out = From(all)
		}
		return out(ctx)
	}
}

// each makes one document of each; nil is none.
func each(in Next, do func(bson.Raw) (bson.Raw, error)) Next {
	return func(ctx context.Context) (bson.Raw, error) {
		for {
			d, err := in(ctx)
			if err != nil || d == nil {
				return nil, err
			}
			if d, err = do(d); err != nil || d != nil {
				if err == nil && len(d) > value.MostBytes {
					err = fault.TooLarge("a document that the pipeline makes is larger than %d bytes", value.MostBytes)
				}
				return d, err
			}
		}
	}
}
