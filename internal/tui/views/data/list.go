package data

import (
	"neighbour/internal/core/data/store"
	"neighbour/internal/core/keeper/supervise"
)

// entry is a row of the list on the left: a heading, or a collection.
type entry struct {
	service, group string
	collection     *store.Collection
	problem        string
}

// entries are the rows of the list.
func (v *screen) entries() []entry {
	var out []entry
	for _, name := range v.Overview.Holding {
		out = append(out, entry{service: name})
		h := v.held[name]
		state := v.Services[name].State
		switch {
		case state != supervise.Ready && state != supervise.Ailing:
			out = append(out, entry{service: name, problem: string(state)})
		case h == nil || !h.loaded && h.problem == "":
			out = append(out, entry{service: name, problem: "looking"})
		case h.problem != "":
			out = append(out, entry{service: name, problem: h.problem})
		case len(h.data.Collections) == 0:
			out = append(out, entry{service: name, problem: "nothing yet"})
		}
		if h == nil {
			continue
		}
		group := ""
		for i := range h.data.Collections {
			c := &h.data.Collections[i]
			if c.Group != group {
				group = c.Group
				out = append(out, entry{service: name, group: group})
			}
			out = append(out, entry{service: name, collection: c})
		}
	}
	return out
}

// current returns the collection that is looked at, nil if it isn't known.
func (v *screen) current() *store.Collection {
	h := v.held[v.place.service]
	if h == nil {
		return nil
	}
	for i := range h.data.Collections {
		if h.data.Collections[i].Name == v.place.collection {
			return &h.data.Collections[i]
		}
	}
	return nil
}
