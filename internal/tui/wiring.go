package tui

import (
	"context"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/core/keep"
	"neighbour/internal/core/project"
	"neighbour/internal/core/wire"
)

// wiringMsg brings the wiring.
type wiringMsg struct {
	wiring keep.Wiring
	err    error
}

func (m *model) askWiring() tea.Cmd {
	client := m.client
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, callLimit)
		defer cancel()
		w, err := client.Wiring(ctx)
		return wiringMsg{w, err}
	}
}

// The parts of the wiring view.
const (
	variablesPart = iota
	portsPart
	filesPart
	wiringParts
)

// wiringView is which service reads what of which, the ports, and the env
// files.
type wiringView struct {
	wiring keep.Wiring
	loaded bool
	err    string
	part   int
	row    [wiringParts]int
	reveal bool
}

func (v *wiringView) title() string { return "wiring" }

func (v *wiringView) took(msg wiringMsg) {
	v.loaded, v.err = true, ""
	if msg.err != nil {
		v.err = msg.err.Error()
		return
	}
	v.wiring = msg.wiring
	for part := range wiringParts {
		v.row[part] = min(v.row[part], max(0, v.count(part)-1))
	}
}

// drifts returns the rows of the env files.
func (v *wiringView) drifts() (out []driftRow) {
	for _, f := range v.wiring.Files {
		if f.Problem != "" {
			out = append(out, driftRow{f, wire.Drift{Line: f.Line}})
		}
		for _, d := range f.Drift {
			out = append(out, driftRow{f, d})
		}
	}
	return out
}

type driftRow struct {
	file project.EnvFile
	wire.Drift
}

func (v *wiringView) count(part int) int {
	switch part {
	case variablesPart:
		return len(v.wiring.Variables)
	case portsPart:
		return len(v.wiring.Ports)
	}
	return len(v.drifts())
}

func (v *wiringView) move(_ *model, by int) {
	v.row[v.part] = min(max(0, v.row[v.part]+by), max(0, v.count(v.part)-1))
}

func (v *wiringView) key(m *model, pressed string) tea.Cmd {
	switch pressed {
	case "up":
		v.move(m, -1)
	case "down":
		v.move(m, 1)
	case "pgup":
		v.move(m, -10)
	case "pgdown":
		v.move(m, 10)
	case "tab", "right":
		v.part = (v.part + 1) % wiringParts
	case "shift+tab", "left":
		v.part = (v.part + wiringParts - 1) % wiringParts
	case "v":
		v.reveal = !v.reveal
	case "r":
		return m.askWiring()
	case "c":
		if v.part == variablesPart && len(v.wiring.Variables) > 0 {
			w := v.wiring.Variables[v.row[v.part]]
			m.say("copied the value of "+w.Name, false)
			return tea.SetClipboard(w.Value)
		}
	}
	return nil
}

func (v *wiringView) bindings(*model) []binding {
	does := "show values"
	if v.reveal {
		does = "hide values"
	}
	out := []binding{key("↑ ↓", "choose"), key("tab", [...]string{"ports", "env files", "variables"}[v.part])}
	if v.part != portsPart {
		out = append(out, key("v", does))
	}
	if v.part == variablesPart {
		out = append(out, spare(3, "c", "copy"))
	}
	return append(out, spare(2, "r", "look again"), spare(1, "1", "map"), key("?", "help"), key("q", "leave"))
}

func (v *wiringView) draw(m *model, rows int) []string {
	t := m.theme
	head := "  "
	for i, name := range []string{"variables", "ports", "env files"} {
		in := faint
		text := fmt.Sprintf("  %s %d  ", name, v.count(i))
		if i == v.part {
			in, text = accent, fmt.Sprintf("▌ %s %d  ", name, v.count(i))
		}
		head += t.paint(in, text)
	}
	out := []string{head, ""}
	switch {
	case v.err != "":
		return fill(append(out, "  "+t.paint(stateBad, Truncate(v.err, m.width-4))), rows)
	case !v.loaded:
		return fill(append(out, "  "+t.paint(faint, "asking the keeper")), rows)
	}
	switch v.part {
	case variablesPart:
		out = append(out, v.drawVariables(m, rows-len(out))...)
	case portsPart:
		out = append(out, v.drawPorts(m, rows-len(out))...)
	case filesPart:
		out = append(out, v.drawFiles(m, rows-len(out))...)
	}
	return fill(out, rows)
}

// matrix shows which service (rows) reads which facts of which (columns).
func (v *wiringView) matrix(m *model, room int) []string {
	t := m.theme
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
		return []string{"  " + t.paint(faint, "no service reads anything of another")}
	}
	// In the order of a start, so that what is read stands left of who reads.
	order := func(a, b string) int {
		return slices.Index(v.wiring.Services, a) - slices.Index(v.wiring.Services, b)
	}
	slices.SortFunc(sources, order)
	slices.SortFunc(readers, order)
	name := 10
	for _, r := range readers {
		name = max(name, min(18, Width(r)+1))
	}
	cell := min(20, max(8, (m.width-name-6)/len(sources)))
	fits := min(len(sources), (m.width-name-6)/cell)
	head := "  " + t.paint(faint, pad("reads from", name)) + "  "
	for _, s := range sources[:fits] {
		head += t.paint(strong, pad(Truncate(s, cell-1), cell))
	}
	out := []string{head}
	selected := ""
	if len(v.wiring.Variables) > 0 {
		selected = v.wiring.Variables[v.row[variablesPart]].Service
	}
	for _, r := range readers {
		in := plain
		if r == selected {
			in = accent
		}
		l := "  " + t.paint(in, pad(Truncate(r, name-1), name)) + "  "
		for _, s := range sources[:fits] {
			facts := reads[[2]string{r, s}]
			if len(facts) == 0 {
				l += t.paint(line, pad("·", cell))
				continue
			}
			text := "● " + strings.Join(facts, " ")
			if Width(text) > cell-1 {
				text = fmt.Sprintf("● %d facts", len(facts))
			}
			l += t.paint(in, pad(Truncate(text, cell-1), cell))
		}
		out = append(out, l)
	}
	if more := len(sources) - fits; more > 0 {
		out[0] += t.paint(faint, fmt.Sprintf("+%d", more))
	}
	if len(out) > room {
		out = append(out[:room-1], "  "+t.paint(faint, fmt.Sprintf("%d more read", len(out)-room+1)))
	}
	return out
}

func (v *wiringView) drawVariables(m *model, rows int) []string {
	t := m.theme
	out := append(v.matrix(m, max(3, rows/3)), "")
	if len(v.wiring.Variables) == 0 {
		return append(out, "  "+t.paint(plain, "The declaration gives no variables. Write them under [service.NAME.env]."))
	}
	at := v.row[variablesPart]
	detail := v.variable(m, v.wiring.Variables[at])
	service, name := 10, 12
	for _, w := range v.wiring.Variables {
		service, name = max(service, min(16, Width(w.Service)+1)), max(name, min(26, Width(w.Name)+1))
	}
	return append(out, v.list(m, rows-len(out), detail, len(v.wiring.Variables), at, func(i int, in ink) string {
		w := v.wiring.Variables[i]
		state := ""
		switch {
		case w.Stale:
			state = t.paint(stateWarn, "▲ stale")
		case len(w.Hides) > 0 && slices.ContainsFunc(w.Hides, func(h project.Hidden) bool { return !h.Same }):
			state = t.paint(faint, "hides another value")
		}
		from := strings.Join(w.From, ", ")
		if from == "" {
			from = "as declared"
			if w.Because != "" {
				from = w.Because
			}
		}
		l := t.paint(in, pad(Truncate(w.Service, service-1), service)) + t.paint(in, pad(Truncate(w.Name, name-1), name))
		rest := m.width - Width(l) - 4
		value, source := rest/2, rest/4
		return l + t.paint(plain, pad(Truncate(v.value(w.Value, w.Secret), value-1), value)) + t.paint(faint, pad(Truncate(from, source-1), source)) + Truncate(state, rest-value-source)
	})...)
}

// list draws rows with the selected one in view, and its detail below.
func (v *wiringView) list(m *model, rows int, detail []string, n, at int, row func(i int, in ink) string) []string {
	room := max(2, rows-len(detail))
	first := min(max(0, at-room/2), max(0, n-room))
	var out []string
	for i := first; i < min(n, first+room); i++ {
		mark, in := "  ", plain
		if i == at {
			mark, in = m.theme.paint(accent, "▌ "), strong
		}
		out = append(out, mark+row(i, in))
	}
	for len(out) < rows-len(detail) {
		out = append(out, "")
	}
	return append(out, detail...)
}

func (v *wiringView) value(value string, secret bool) string {
	if secret && !v.reveal {
		return Mask(value)
	}
	return Plain(value)
}

// rule returns the line above the details of something.
func (m *model) rule(title string) string {
	t := m.theme
	return t.paint(line, "── ") + t.paint(accent, title+" ") + t.paint(line, strings.Repeat("─", max(0, m.width-4-Width(title))))
}

func (m *model) detailRow(label, text string, in ink) []string {
	var out []string
	for i, l := range wrap(text, m.width-18) {
		if i > 0 {
			label = ""
		}
		out = append(out, "  "+m.theme.paint(faint, fmt.Sprintf("%-12s", label))+m.theme.paint(in, l))
	}
	return out
}

// variable returns the chain from the facts to what reads the variable.
func (v *wiringView) variable(m *model, w keep.Wired) []string {
	out := []string{m.rule(w.Service + " · " + w.Name)}
	out = append(out, m.detailRow("value", v.value(w.Value, w.Secret), strong)...)
	chain := ""
	for _, from := range w.From {
		chain += "${" + from + "}  →  "
	}
	chain += w.Name + "  →  environment of " + w.Service
	if s := m.services[w.Service]; s.PID != 0 {
		chain += fmt.Sprintf(", pid %d", s.PID)
	}
	out = append(out, m.detailRow("chain", chain, plain)...)
	if w.Where != "" {
		out = append(out, m.detailRow("declared", w.Where+"   "+Plain(w.Declared), plain)...)
	} else {
		out = append(out, m.detailRow("because", w.Because, plain)...)
	}
	for i, h := range w.Hides {
		label := ""
		if i == 0 {
			label = "goes before"
		}
		out = append(out, m.detailRow(label, h.String(), plain)...)
	}
	if w.Stale {
		out = append(out, m.detailRow("stale", fmt.Sprintf("%s was started with another value; restart %s to give it this one (on the map: r)", w.Service, w.Service), stateWarn)...)
	}
	return out
}

func (v *wiringView) drawPorts(m *model, rows int) []string {
	t := m.theme
	if len(v.wiring.Ports) == 0 {
		return []string{"  " + t.paint(plain, "No service has a port.")}
	}
	family := 18
	if m.width < 100 {
		family = 0 // who it is matters more
	}
	head := t.paint(faint, fmt.Sprintf("  %-8s%-16s%-12s", "port", "service", "is")+pad("by", family)+"who listens")
	at := v.row[portsPart]
	p := v.wiring.Ports[at]
	detail := []string{m.rule(fmt.Sprintf("port %d", p.Port))}
	declared := "given by Neighbour, the same again next time"
	if p.Declared {
		declared = "declared"
	}
	detail = append(detail, m.detailRow("service", p.Service+", "+declared, plain)...)
	if h := p.Holder; h != nil {
		detail = append(detail, m.detailRow("listens", h.String()+", "+p.Whose, plain)...)
		if h.Line != "" {
			detail = append(detail, m.detailRow("command", Plain(h.Line), plain)...)
		}
		detail = append(detail, m.detailRow("addresses", h.Family(), plain)...)
	} else {
		detail = append(detail, m.detailRow("listens", "nobody", plain)...)
	}
	if p.Conflict {
		detail = append(detail, m.detailRow("do", "7 shows what can be done about it", strong)...)
	}
	return append([]string{head}, v.list(m, rows-1, detail, len(v.wiring.Ports), at, func(i int, in ink) string {
		p := v.wiring.Ports[i]
		is, who, by, stateOf := "free", "", "", faint
		if p.Holder != nil {
			is, who, by, stateOf = "● in use", p.Holder.String(), p.Holder.Family(), stateGood
			if p.Conflict {
				is, stateOf = "✖ held", stateBad
			}
		}
		return t.paint(in, fmt.Sprintf("%-8d%-16s", p.Port, Truncate(p.Service, 15))) + t.paint(stateOf, pad(is, 12)) + t.paint(faint, pad(Truncate(by, family-1), family)) + t.paint(plain, who)
	})...)
}

func (v *wiringView) drawFiles(m *model, rows int) []string {
	t := m.theme
	all := v.drifts()
	if len(all) == 0 {
		return []string{"  " + t.paint(plain, "There is no env file in the project's folder or in those of its programs.")}
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
	detail := []string{m.rule(title)}
	if d.file.Problem != "" {
		detail = append(detail, m.detailRow("found", d.file.Problem, plain)...)
	} else {
		detail = append(detail, m.detailRow("it is", resultInWords(d), plain)...)
		if len(d.Parts) > 0 {
			detail = append(detail, m.detailRow("differs in", strings.Join(d.Parts, "; "), strong)...)
		}
		if d.file.Production {
			detail = append(detail, m.detailRow("values", "of a production file are not shown", plain)...)
		} else {
			if d.Line != 0 {
				detail = append(detail, m.detailRow("the file", v.value(d.Theirs, d.Secret), plain)...)
			}
			if d.Ours != "" {
				detail = append(detail, m.detailRow("ours", v.value(d.Ours, d.Secret), plain)...)
			}
		}
	}
	where, name, service := min(26, m.width/4), min(24, m.width/4), min(14, m.width/8)
	return append([]string{t.paint(faint, fmt.Sprintf("  %-*s%-*s%-20s%s", where, "in", name, "variable", "is", "for"))}, v.list(m, rows-1, detail, len(all), at, func(i int, in ink) string {
		d := all[i]
		if d.file.Problem != "" {
			return t.paint(in, pad(Truncate(place(d), where-1), where)) + t.paint(stateWarn, "▲ "+Truncate(d.file.Problem, m.width-where-6))
		}
		mark, shape := stateGood, "="
		switch d.Result {
		case wire.Elsewhere:
			mark, shape = stateBad, "✖"
			if d.Provided {
				mark, shape = stateWarn, "▲"
			}
		case wire.Different:
			mark, shape = stateWarn, "▲"
		case wire.Missing, wire.Unused:
			mark, shape = faint, "·"
		}
		return t.paint(in, pad(Truncate(place(d), where-1), where)+pad(Truncate(d.Name, name-1), name)) + t.paint(mark, pad(shape+" "+string(d.Result), 20)) +
			t.paint(plain, pad(Truncate(d.file.Service, service-1), service)) + t.paint(faint, strings.Join(d.Parts, "; "))
	})...)
}

func resultInWords(d driftRow) string {
	switch d.Result {
	case wire.Same:
		return "the same as what the declaration provides"
	case wire.Missing:
		return "not in the file; the declaration gives it to " + d.file.Service
	case wire.Unused:
		return "only in the file; nothing of the declaration is meant by it"
	case wire.Elsewhere:
		if d.Provided {
			return "other than what the declaration gives " + d.file.Service + ", which goes before the file for most readers"
		}
		return "what " + d.file.Service + " uses, since the declaration doesn't give it, and it doesn't lead to " + d.Service
	}
	return "another value than the declaration's"
}
