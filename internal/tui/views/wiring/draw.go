package wiring

import (
	"fmt"
	"slices"
	"strings"

	"neighbour/internal/core/keeper/insight"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
	"neighbour/internal/core/project/drift"
	"neighbour/internal/display"
	"neighbour/internal/tui/ui"
)

func (v *wiring) draw(rows int) []string {
	t := v.Theme()
	head := "  "
	for i, name := range parts {
		in := ui.Faint
		text := fmt.Sprintf("  %s %d  ", name, v.count(i))
		if i == v.part {
			in, text = ui.Accent, fmt.Sprintf("▌ %s %d  ", name, v.count(i))
		}
		head += t.Paint(in, text)
	}
	out := []string{head, ""}
	switch {
	case v.err != "":
		return ui.Fill(append(out, "  "+t.Paint(ui.Bad, display.Truncate(v.err, v.Columns-4))), rows)
	case !v.loaded:
		return ui.Fill(append(out, "  "+t.Paint(ui.Faint, "asking the keeper")), rows)
	}
	switch v.part {
	case variablesPart:
		out = append(out, v.drawVariables(rows-len(out))...)
	case portsPart:
		out = append(out, v.drawPorts(rows-len(out))...)
	case filesPart:
		out = append(out, v.drawFiles(rows-len(out))...)
	}
	return ui.Fill(out, rows)
}

// matrix shows which service (rows) reads which facts of which (columns).
func (v *wiring) matrix(room int) []string {
	t := v.Theme()
	reads := map[[2]string][]string{}
	var readers, sources []string
	for _, w := range v.wiring.Variables {
		for _, from := range w.From {
			source, fact, ok := strings.Cut(from, ".")
			if !ok || source == "env" || source == "project" {
				continue
			}
			k := [2]string{w.Service, source}
			if !slices.Contains(reads[k], fact) {
				reads[k] = append(reads[k], fact)
			}
			if !slices.Contains(sources, source) {
				sources = append(sources, source)
			}
			if !slices.Contains(readers, w.Service) {
				readers = append(readers, w.Service)
			}
		}
	}
	if len(readers) == 0 {
		return []string{"  " + t.Paint(ui.Faint, "no service reads anything of another")}
	}
	// In the order of a start, so that what is read stands left of who reads.
	order := func(a, b string) int {
		return slices.Index(v.wiring.Services, a) - slices.Index(v.wiring.Services, b)
	}
	slices.SortFunc(sources, order)
	slices.SortFunc(readers, order)
	name := 10
	for _, r := range readers {
		name = max(name, min(18, display.Width(r)+1))
	}
	cell := min(20, max(8, (v.Columns-name-6)/len(sources)))
	fits := min(len(sources), (v.Columns-name-6)/cell)
	head := "  " + t.Paint(ui.Faint, display.Pad("reads from", name)) + "  "
	for _, s := range sources[:fits] {
		head += t.Paint(ui.Strong, display.Pad(display.Truncate(s, cell-1), cell))
	}
	out := []string{head}
	selected := ""
	if len(v.wiring.Variables) > 0 {
		selected = v.wiring.Variables[v.row[variablesPart]].Service
	}
	for _, r := range readers {
		in := ui.Plain
		if r == selected {
			in = ui.Accent
		}
		l := "  " + t.Paint(in, display.Pad(display.Truncate(r, name-1), name)) + "  "
		for _, s := range sources[:fits] {
			facts := reads[[2]string{r, s}]
			if len(facts) == 0 {
				l += t.Paint(ui.Line, display.Pad("·", cell))
				continue
			}
			text := "● " + strings.Join(facts, " ")
			if display.Width(text) > cell-1 {
				text = "● " + words.Count(len(facts), "fact")
			}
			l += t.Paint(in, display.Pad(display.Truncate(text, cell-1), cell))
		}
		out = append(out, l)
	}
	if more := len(sources) - fits; more > 0 {
		out[0] += t.Paint(ui.Faint, fmt.Sprintf("+%d", more))
	}
	if len(out) > room {
		out = append(out[:room-1], "  "+t.Paint(ui.Faint, fmt.Sprintf("%d more read", len(out)-room+1)))
	}
	return out
}

func (v *wiring) drawVariables(rows int) []string {
	t := v.Theme()
	out := append(v.matrix(max(3, rows/3)), "")
	if len(v.wiring.Variables) == 0 {
		return append(out, "  "+t.Paint(ui.Plain, "The declaration gives no variables. Write them under [service.NAME.env]."))
	}
	at := v.row[variablesPart]
	detail := v.variable(v.wiring.Variables[at])
	service, name := 10, 12
	for _, w := range v.wiring.Variables {
		service, name = max(service, min(16, display.Width(w.Service)+1)), max(name, min(26, display.Width(w.Name)+1))
	}
	return append(out, v.list(rows-len(out), detail, len(v.wiring.Variables), at, func(i int, in ui.Ink) string {
		w := v.wiring.Variables[i]
		state := ""
		switch {
		case w.Stale:
			state = t.Paint(ui.Warn, "▲ stale")
		case len(w.Hides) > 0 && slices.ContainsFunc(w.Hides, func(h project.Hidden) bool { return !h.Same }):
			state = t.Paint(ui.Faint, "hides another value")
		}
		from := strings.Join(w.From, ", ")
		if from == "" {
			from = "as declared"
			if w.Because != "" {
				from = w.Because
			}
		}
		l := t.Paint(in, display.Pad(display.Truncate(w.Service, service-1), service)) + t.Paint(in, display.Pad(display.Truncate(w.Name, name-1), name))
		rest := v.Columns - display.Width(l) - 4
		value, source := rest/2, rest/4
		return l + t.Paint(ui.Plain, display.Pad(display.Truncate(v.value(w.Value, w.Secret), value-1), value)) + t.Paint(ui.Faint, display.Pad(display.Truncate(from, source-1), source)) + display.Truncate(state, rest-value-source)
	})...)
}

// list draws rows with the selected one in view, and its detail below.
func (v *wiring) list(rows int, detail []string, n, at int, row func(i int, in ui.Ink) string) []string {
	room := max(2, rows-len(detail))
	first := min(max(0, at-room/2), max(0, n-room))
	var out []string
	for i := first; i < min(n, first+room); i++ {
		mark, in := "  ", ui.Plain
		if i == at {
			mark, in = v.Theme().Paint(ui.Accent, "▌ "), ui.Strong
		}
		out = append(out, mark+row(i, in))
	}
	for len(out) < rows-len(detail) {
		out = append(out, "")
	}
	return append(out, detail...)
}

func (v *wiring) value(value string, secret bool) string {
	if secret && !v.reveal {
		return display.Mask(value)
	}
	return display.Plain(value)
}

// rule returns the line above the details of something.
func (v *wiring) rule(title string) string {
	return v.Theme().Rule(title, v.Columns)
}

func (v *wiring) detailRow(label, text string, in ui.Ink) []string {
	var out []string
	for i, l := range display.Wrap(text, v.Columns-18) {
		if i > 0 {
			label = ""
		}
		out = append(out, "  "+v.Theme().Paint(ui.Faint, fmt.Sprintf("%-12s", label))+v.Theme().Paint(in, l))
	}
	return out
}

// variable returns the chain from the facts to what reads the variable.
func (v *wiring) variable(w insight.Wired) []string {
	out := []string{v.rule(w.Service + " · " + w.Name)}
	out = append(out, v.detailRow("value", v.value(w.Value, w.Secret), ui.Strong)...)
	chain := ""
	for _, from := range w.From {
		chain += "${" + from + "}  →  "
	}
	chain += w.Name + "  →  environment of " + w.Service
	if s := v.Services[w.Service]; s.PID != 0 {
		chain += fmt.Sprintf(", pid %d", s.PID)
	}
	out = append(out, v.detailRow("chain", chain, ui.Plain)...)
	if w.Where != "" {
		out = append(out, v.detailRow("declared", w.Where+"   "+display.Plain(w.Declared), ui.Plain)...)
	} else {
		out = append(out, v.detailRow("because", w.Because, ui.Plain)...)
	}
	for i, h := range w.Hides {
		label := ""
		if i == 0 {
			label = "goes before"
		}
		out = append(out, v.detailRow(label, h.String(), ui.Plain)...)
	}
	if w.Stale {
		out = append(out, v.detailRow("stale", fmt.Sprintf("%s was started with another value; restart %s to give it this one (on the map: r)", w.Service, w.Service), ui.Warn)...)
	}
	return out
}

func (v *wiring) drawPorts(rows int) []string {
	t := v.Theme()
	if len(v.wiring.Ports) == 0 {
		return []string{"  " + t.Paint(ui.Plain, "No service has a port.")}
	}
	family := 18
	if v.Columns < 100 {
		family = 0 // who it is matters more
	}
	head := t.Paint(ui.Faint, fmt.Sprintf("  %-8s%-16s%-12s", "port", "service", "is")+display.Pad("by", family)+"who listens")
	at := v.row[portsPart]
	p := v.wiring.Ports[at]
	detail := []string{v.rule(fmt.Sprintf("port %d", p.Port))}
	declared := "given by Neighbour, the same again next time"
	if p.Declared {
		declared = "declared"
	}
	detail = append(detail, v.detailRow("service", p.Service+", "+declared, ui.Plain)...)
	if h := p.Holder; h != nil {
		detail = append(detail, v.detailRow("listens", h.String()+", "+p.Whose, ui.Plain)...)
		if h.Line != "" {
			detail = append(detail, v.detailRow("command", display.Plain(h.Line), ui.Plain)...)
		}
		detail = append(detail, v.detailRow("addresses", h.Family(), ui.Plain)...)
	} else {
		detail = append(detail, v.detailRow("listens", "nobody", ui.Plain)...)
	}
	if p.Conflict {
		detail = append(detail, v.detailRow("do", "7 shows what can be done about it", ui.Strong)...)
	}
	return append([]string{head}, v.list(rows-1, detail, len(v.wiring.Ports), at, func(i int, in ui.Ink) string {
		p := v.wiring.Ports[i]
		is, who, by, stateOf := "free", "", "", ui.Faint
		if p.Holder != nil {
			is, who, by, stateOf = "● in use", p.Holder.String(), p.Holder.Family(), ui.Good
			if p.Conflict {
				is, stateOf = "✖ held", ui.Bad
			}
		}
		return t.Paint(in, fmt.Sprintf("%-8d%-16s", p.Port, display.Truncate(p.Service, 15))) + t.Paint(stateOf, display.Pad(is, 12)) + t.Paint(ui.Faint, display.Pad(display.Truncate(by, family-1), family)) + t.Paint(ui.Plain, who)
	})...)
}

func (v *wiring) drawFiles(rows int) []string {
	t := v.Theme()
	all := v.drifts()
	if len(all) == 0 {
		return []string{"  " + t.Paint(ui.Plain, "There is no env file in the project's folder or in those of its programs.")}
	}
	at := v.row[filesPart]
	d := all[at]
	place := func(d driftRow) string {
		if d.Line == 0 {
			return d.file.Path
		}
		return fmt.Sprintf("%s:%d", d.file.Path, d.Line)
	}
	title := place(d)
	if d.Name != "" {
		title += " · " + d.Name
	}
	detail := []string{v.rule(title)}
	if d.file.Problem != "" {
		detail = append(detail, v.detailRow("found", d.file.Problem, ui.Plain)...)
	} else {
		detail = append(detail, v.detailRow("it is", resultInWords(d), ui.Plain)...)
		if len(d.Parts) > 0 {
			detail = append(detail, v.detailRow("differs in", strings.Join(d.Parts, "; "), ui.Strong)...)
		}
		if d.file.Production {
			detail = append(detail, v.detailRow("values", "of a production file are not shown", ui.Plain)...)
		} else {
			if d.Line != 0 {
				detail = append(detail, v.detailRow("the file", v.value(d.Theirs, d.Secret), ui.Plain)...)
			}
			if d.Ours != "" {
				detail = append(detail, v.detailRow("ours", v.value(d.Ours, d.Secret), ui.Plain)...)
			}
		}
	}
	where, name, service := min(26, v.Columns/4), min(24, v.Columns/4), min(14, v.Columns/8)
	return append([]string{t.Paint(ui.Faint, fmt.Sprintf("  %-*s%-*s%-20s%s", where, "in", name, "variable", "is", "for"))}, v.list(rows-1, detail, len(all), at, func(i int, in ui.Ink) string {
		d := all[i]
		if d.file.Problem != "" {
			return t.Paint(in, display.Pad(display.Truncate(place(d), where-1), where)) + t.Paint(ui.Warn, "▲ "+display.Truncate(d.file.Problem, v.Columns-where-6))
		}
		mark, shape := ui.Good, "="
		switch d.Result {
		case drift.Elsewhere:
			mark, shape = ui.Bad, "✖"
			if d.Provided {
				mark, shape = ui.Warn, "▲"
			}
		case drift.Different:
			mark, shape = ui.Warn, "▲"
		case drift.Missing, drift.Unused:
			mark, shape = ui.Faint, "·"
		}
		return t.Paint(in, display.Pad(display.Truncate(place(d), where-1), where)+display.Pad(display.Truncate(d.Name, name-1), name)) + t.Paint(mark, display.Pad(shape+" "+string(d.Result), 20)) +
			t.Paint(ui.Plain, display.Pad(display.Truncate(d.file.Service, service-1), service)) + t.Paint(ui.Faint, strings.Join(d.Parts, "; "))
	})...)
}

func resultInWords(d driftRow) string {
	switch d.Result {
	case drift.Same:
		return "the same as what the declaration provides"
	case drift.Missing:
		return "not in the file; the declaration gives it to " + d.file.Service
	case drift.Unused:
		return "only in the file; nothing of the declaration is meant by it"
	case drift.Elsewhere:
		if d.Provided {
			return "other than what the declaration gives " + d.file.Service + ", which goes before the file for most readers"
		}
		return "what " + d.file.Service + " uses, since the declaration doesn't give it, and it doesn't lead to " + d.Service
	}
	return "another value than the declaration's"
}
