package data

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"neighbour/internal/cli/command"
	"neighbour/internal/core/data/store"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
)

// heldData is what a service holds, and where that is kept.
type heldData struct {
	keep.Data
	Kept *project.KeptData `json:"kept,omitempty"`
}

// withKept adds where it is kept to what services hold, and services that can't be looked into
// unless one was named.
func withKept(all []keep.Data, kept []project.KeptData, one bool) []heldData {
	out := []heldData{}
	for _, d := range all {
		out = append(out, heldData{Data: d})
	}
	for i, k := range kept {
		at := slices.IndexFunc(out, func(d heldData) bool { return d.Service == k.Service })
		if at < 0 && one {
			continue
		}
		if at < 0 {
			out, at = append(out, heldData{Data: keep.Data{Service: k.Service, Asked: []string{}, Collections: []store.Collection{}}}), len(out)
		}
		out[at].Kept = &kept[i]
	}
	return out
}

// printKept prints what the data of services is on the disk.
func printKept(a *command.App, kept []project.KeptData) {
	rows := [][]string{{"service", "kind", "on disk", "begun", "changed", "identity", "snapshots"}}
	for _, k := range kept {
		ago := func(t time.Time) string {
			if t.IsZero() {
				return "–"
			}
			return words.Span(time.Since(t)) + " ago"
		}
		var saved []string
		for _, name := range k.Snapshots {
			if !slices.Contains(k.Same, name) {
				name += " (other data)"
			}
			saved = append(saved, name)
		}
		rows = append(rows, []string{k.Service, strings.TrimSpace(k.Kind + " " + k.Version), words.Bytes(k.Bytes), ago(k.Began), ago(k.Changed), cmp.Or(k.ID, "–"), cmp.Or(strings.Join(saved, ", "), "–")})
	}
	if len(rows) > 1 {
		_ = command.PrintTable(a.Out, rows, 2)
		fmt.Fprintln(a.Out)
	}
}
