package tui

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/core/declare"
	"neighbour/internal/core/discover"
	"neighbour/internal/core/kind"
)

// Setup shows what was found in a project, and what is proposed for it, until
// the user has it written (true) or leaves.
func Setup(ctx context.Context, p *discover.Proposal) (bool, error) {
	s := newSetup(p)
	_, err := tea.NewProgram(s, tea.WithContext(ctx)).Run()
	if err != nil && !errors.Is(err, tea.ErrInterrupted) {
		return false, fmt.Errorf("the full screen failed: %w", err)
	}
	return s.write, nil
}

// setup is the screen on which a first declaration is made: the services on
// the left, the file that they make on the right.
type setup struct {
	p *discover.Proposal
	ground
	width, height int
	row, column   int
	editing       *field
	kinds         []string
	here          map[string]discover.Here // by kind, and by name for programs
	problem       string
	flash         string
	asked         bool // leaving without a file was asked about
	write         bool
	text          []string // the file
	owner         []string
	cut           int // the first row of the table that is shown
}

// hereMsg brings what is installed: by kind, and for programs by their command.
type hereMsg map[string]discover.Here

func newSetup(p *discover.Proposal) *setup {
	s := &setup{p: p, kinds: discover.Kinds(), ground: newGround()}
	s.column = nameColumn
	s.render()
	return s
}

// Init looks for what is installed, which takes a moment.
func (s *setup) Init() tea.Cmd {
	kinds, programs := s.kinds, map[string]discover.Service{}
	for _, v := range s.p.Services {
		if v.Kind == declare.DefaultKind {
			programs[hereKey(v)] = *v
		}
	}
	look := func() tea.Msg {
		m := hereMsg{}
		var mu sync.Mutex
		var all sync.WaitGroup
		find := func(key string, look func() discover.Here) {
			all.Go(func() {
				here := look()
				mu.Lock()
				m[key] = here
				mu.Unlock()
			})
		}
		for _, k := range kinds {
			find(k, func() discover.Here { return discover.Installed(k) })
		}
		for key, v := range programs {
			find(key, v.Here)
		}
		all.Wait()
		return m
	}
	settle := tea.Tick(500*time.Millisecond, func(t time.Time) tea.Msg { return tickMsg(t) })
	return tea.Batch(tea.RequestBackgroundColor, look, settle)
}

// hereKey returns what a service's entry in here goes by.
func hereKey(v *discover.Service) string {
	if v.Kind == declare.DefaultKind {
		return "program " + strings.Join(v.Lines, " ")
	}
	return v.Kind
}

// missing returns what the services that are on lack, and the command that installs
// it.
func (s *setup) missing() (names []string, command string) {
	var packages []kind.Packages
	for _, v := range s.p.Services {
		if here := s.here[hereKey(v)]; v.On && here.Missing != "" && !slices.Contains(names, v.Name) {
			names, packages = append(names, v.Name), append(packages, here.Packages)
		}
	}
	return names, kind.InstallCommand(packages...)
}

// render makes the file anew.
func (s *setup) render() {
	text, owner := s.p.Render()
	s.text, s.owner = strings.Split(strings.TrimSuffix(text, "\n"), "\n"), owner
	s.problem = ""
	var problems declare.Problems
	if err := s.p.Check(); errors.As(err, &problems) {
		s.problem = problems[0].Message
		if problems[0].Key != "" {
			s.problem = problems[0].Key + ": " + s.problem
		}
		if problems[0].Remedy != "" {
			s.problem += "; " + strings.SplitN(problems[0].Remedy, "\n", 2)[0]
		}
	} else if err != nil {
		s.problem = err.Error()
	}
	if !slices.ContainsFunc(s.p.Services, func(v *discover.Service) bool { return v.On }) {
		s.problem = "no service is on, so there is nothing to write yet: switch one on with the space bar"
	}
}

// Update takes a message.
func (s *setup) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		s.width, s.height = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		s.told(msg)
	case tea.ColorProfileMsg:
		s.profiled(msg)
	case tickMsg:
		s.decided = true
	case hereMsg:
		s.here = msg
	case tea.MouseClickMsg:
		if i := s.cut + msg.Y - setupTop; msg.Button == tea.MouseLeft && s.editing == nil && msg.X < s.tableWidth() && i >= s.cut && i < len(s.p.Services) {
			s.row = i
		}
	case tea.KeyPressMsg:
		return s, s.key(msg)
	}
	return s, nil
}

// The columns of the table that can be changed.
const (
	nameColumn = iota
	kindColumn
	versionColumn
	portColumn
	setupColumns
)

func (s *setup) key(k tea.KeyPressMsg) tea.Cmd {
	pressed := k.String()
	if pressed == "ctrl+c" {
		return tea.Quit
	}
	s.flash = ""
	if s.editing != nil {
		s.editKey(k)
		return nil
	}
	asked := s.asked
	s.asked = false
	switch pressed {
	case "up":
		s.row = max(0, s.row-1)
	case "down":
		s.row = min(len(s.p.Services)-1, s.row+1)
	case "left":
		s.column = max(0, s.column-1)
	case "right", "tab":
		s.column = min(setupColumns-1, s.column+1)
	case "space":
		s.current().On = !s.current().On
		s.render()
	case "enter":
		s.begin()
	case "n":
		s.p.Add()
		s.row, s.column = len(s.p.Services)-1, nameColumn
		s.render()
		s.begin()
	case "w":
		if s.problem != "" {
			s.flash = "not written: " + s.problem
			return nil
		}
		s.write = true
		return tea.Quit
	case "q", "esc":
		if asked {
			return tea.Quit
		}
		s.asked = true
		s.flash = "leave without writing " + declare.FileName + "? " + pressed + " again leaves, any other key goes on"
	}
	return nil
}

func (s *setup) current() *discover.Service { return s.p.Services[s.row] }

// begin makes a cell a field.
func (s *setup) begin() {
	v := s.current()
	switch s.column {
	case nameColumn:
		s.editing = textField("name", v.Name, "", 40)
	case kindColumn:
		s.editing = &field{label: "kind", choices: s.kinds, chosen: max(0, slices.Index(s.kinds, v.Kind))}
	case versionColumn:
		s.editing = textField("version", v.Version, "", 40)
	case portColumn:
		port := ""
		if v.Port != 0 {
			port = strconv.Itoa(v.Port)
		}
		s.editing = textField("port", port, "", 10)
	}
}

// editKey takes a key for the cell that is changed. What it holds counts as
// it changes, so that the file beside it shows it.
func (s *setup) editKey(k tea.KeyPressMsg) {
	switch pressed := k.String(); {
	case pressed == "enter" || pressed == "esc" || pressed == "up" || pressed == "down" || pressed == "tab":
		s.editing = nil
		if pressed == "up" || pressed == "down" || pressed == "tab" {
			s.key(k)
		}
		return
	case !s.editing.press(k):
		return
	}
	v, value := s.current(), s.editing.value()
	v.On = true // who changes it wants it
	switch s.column {
	case nameColumn:
		v.Name = value
	case kindColumn:
		v.Kind = value
	case versionColumn:
		v.Version = value
	case portColumn:
		v.Port, _ = strconv.Atoi(value)
		if value != "" && (v.Port < 1 || v.Port > 65535) {
			v.Port = -1
		}
	}
	s.render()
}

// View draws the screen.
func (s *setup) View() tea.View { return s.view(s.screen(), s.p.Name+" · Neighbour") }

// setupTop is the row of the screen that the table's first row is in.
const setupTop = 4

// tableWidth returns how much of the screen is the table's.
func (s *setup) tableWidth() int { return max(47, s.width*11/20) }

func (s *setup) screen() []string {
	if s.width == 0 {
		return nil
	}
	if s.width < minWidth || s.height < minHeight {
		return wrap(fmt.Sprintf("This needs a terminal of %d × %d. Make it larger, or take the proposal as it is: neighbour init --yes", minWidth, minHeight), s.width)
	}
	t := s.theme
	files := "nothing to go by was found here"
	if n := len(s.p.Files); n > 0 {
		files = fmt.Sprintf("from %s of the project", count(n, "file"))
	}
	head := "  " + t.paint(strong, s.p.Name) + t.paint(faint, " · a first declaration, "+files)
	left := s.table(s.tableWidth()-3, s.height-4)
	right := s.file(s.width-s.tableWidth()-2, s.height-4)
	lacks := ""
	if names, command := s.missing(); len(names) > 0 {
		lacks = "  " + t.paint(stateWarn, "▲ not installed here: what "+strings.Join(names, ", ")+" runs")
		if command != "" {
			lacks += t.paint(faint, "; ") + t.paint(plain, command)
		}
	}
	out := []string{pad(head, s.width), Truncate(lacks, s.width-2)}
	for i := range s.height - 3 {
		l, r := "", ""
		if i < len(left) {
			l = left[i]
		}
		if i < len(right) {
			r = right[i]
		}
		out = append(out, Truncate("  "+pad(l, s.tableWidth()-3)+" "+t.paint(line, "│")+" "+r, s.width))
	}
	return append(out[:s.height-1], s.bar())
}

func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// widths returns those of the table's columns, after the mark and the switch.
func (s *setup) widths(width int) [setupColumns]int {
	if width < 66 {
		return [setupColumns]int{11, 10, 8, 6}
	}
	return [setupColumns]int{16, 12, 12, 8}
}

// table returns the services with what is proposed, and below it why.
func (s *setup) table(width, rows int) []string {
	t := s.theme
	w := s.widths(width)
	room := max(3, rows/2-2)
	s.cut = min(max(s.cut, s.row-room+1), s.row)
	head := fmt.Sprintf("         %-*s%-*s%-*s%-*s", w[0], "name", w[1], "kind", w[2], "version", w[3], "port")
	if width >= 66 {
		head += "installed"
	}
	out := []string{t.paint(faint, head), ""}
	for i, v := range s.p.Services {
		if i < s.cut || i >= s.cut+room {
			continue
		}
		out = append(out, s.line(i, v, w, width))
	}
	if more := len(s.p.Services) - s.cut - room; more > 0 {
		out = append(out, t.paint(faint, fmt.Sprintf("         %d more below", more)))
	}
	return append(append(out, ""), s.why(width, rows-len(out)-1)...)
}

func (s *setup) line(i int, v *discover.Service, w [setupColumns]int, width int) string {
	t := s.theme
	mark, in := "  ", plain
	if i == s.row {
		mark = t.paint(accent, "▌ ")
	}
	onOff := t.paint(stateGood, "■ on   ")
	if !v.On {
		onOff, in = t.paint(faint, "□ off  "), faint
	}
	cells := [setupColumns]string{v.Name, v.Kind, v.Version, ""}
	switch {
	case v.Port > 0:
		cells[portColumn] = strconv.Itoa(v.Port)
	case v.Port == 0:
		cells[portColumn] = "any"
		if v.Kind == "program" {
			cells[portColumn] = "–"
		}
	}
	if v.Version == "" {
		cells[versionColumn] = "any"
		if v.Kind == "program" || v.Kind == "mail" || v.Kind == "static" || v.Kind == "outside" {
			cells[versionColumn] = "–"
		}
	}
	out := mark + onOff
	for c, cell := range cells {
		selected := i == s.row && c == s.column
		switch {
		case selected && s.editing != nil:
			out += pad(s.editing.draw(t, true, w[c]-1), w[c])
		case selected:
			out += t.style[accent].Underline(true).Render(Truncate(cell, w[c]-1)) + strings.Repeat(" ", max(0, w[c]-Width(Truncate(cell, w[c]-1))))
		case cell == "any" || cell == "–":
			out += t.paint(faint, pad(cell, w[c]))
		default:
			out += t.paint(in, pad(Truncate(cell, w[c]-1), w[c]))
		}
	}
	if width < 66 {
		return out
	}
	switch here, known := s.here[hereKey(v)]; {
	case known && here.Missing != "":
		return out + t.paint(stateWarn, "▲ missing")
	case v.Kind == declare.DefaultKind || v.Kind == "outside":
		return out + t.paint(faint, "–")
	case !known:
		return out + t.paint(faint, "…")
	case here.Version != "":
		return out + t.paint(plain, Truncate(here.Version, width-Width(out)))
	}
	return out + t.paint(faint, "built in")
}

// why says what the selected service was proposed for, and what there is for
// it on this machine; then what else was found.
func (s *setup) why(width, rows int) []string {
	t := s.theme
	v := s.current()
	title := "── " + v.Name + " "
	out := []string{t.paint(line, "── ") + t.paint(accent, v.Name+" ") + t.paint(line, strings.Repeat("─", max(0, width-Width(title))))}
	say := func(in ink, mark, text string) {
		for i, l := range wrap(Plain(text), width-3) {
			if i > 0 {
				mark = strings.Repeat(" ", Width(mark))
			}
			out = append(out, t.paint(in, mark+l))
		}
	}
	if s.problem != "" {
		say(stateBad, "✖ ", s.problem)
	}
	if here := s.here[hereKey(v)]; here.Missing != "" {
		say(stateWarn, "▲ ", here.Missing)
	}
	if !v.On && v.Off != "" {
		say(plain, "□ ", "Off, because "+v.Off+". The space bar switches it on.")
	}
	for _, f := range v.Why {
		if f.File != "" {
			out = append(out, t.paint(faint, Truncate(f.Place(), width)))
			say(plain, "  ", f.What)
		} else {
			say(plain, "", f.What)
		}
	}
	if len(s.p.Notes) > 0 {
		out = append(out, "", t.paint(faint, "also found"))
		for _, n := range s.p.Notes {
			out = append(out, t.paint(faint, Truncate(n.Place(), width)))
			say(plain, "  ", n.What)
		}
	}
	if len(s.p.Files) > 0 {
		out = append(out, "", t.paint(faint, "read"))
		for _, l := range wrap(strings.Join(s.p.Files, ", "), width-3) {
			out = append(out, t.paint(faint, "  "+l))
		}
	}
	if len(out) > rows && rows > 1 {
		out = append(out[:rows-1], t.paint(faint, fmt.Sprintf("… %d more lines", len(out)-rows+1)))
	}
	return out
}

// file returns the file as it would be written, with the selected service in view.
func (s *setup) file(width, rows int) []string {
	t := s.theme
	out := []string{t.paint(faint, declare.FileName), ""}
	room := rows - 2
	first := slices.Index(s.owner, s.current().Name)
	if !s.current().On {
		first = -1
	}
	from := 0
	if last := first; first >= 0 {
		for last < len(s.owner) && s.owner[last] == s.owner[first] {
			last++
		}
		from = max(0, min(last-room, first))
	}
	for i := from; i < len(s.text) && i < from+room; i++ {
		in, mark := plain, "  "
		if first >= 0 && s.owner[i] == s.owner[first] {
			in, mark = strong, t.paint(accent, "▌ ")
		}
		if strings.HasPrefix(s.text[i], "[") {
			in = accent
			if first < 0 || s.owner[i] != s.owner[first] {
				in = faint
			}
		}
		out = append(out, mark+t.paint(in, Truncate(s.text[i], width-2)))
	}
	if left := len(s.text) - from - room; left > 0 {
		out[len(out)-1] = t.paint(faint, fmt.Sprintf("  … %s more", count(left+1, "line")))
	}
	return out
}

// bar returns the keys that work now.
func (s *setup) bar() string {
	t := s.theme
	if s.flash != "" {
		return "  " + t.paint(stateWarn, Truncate(s.flash, s.width-4))
	}
	bindings := []binding{key("↑ ↓ ← →", "choose"), key("space", "on or off"), key("enter", "change"), key("n", "add one"), key("w", "write the file"), key("q", "leave without")}
	if s.editing != nil {
		bindings = []binding{key("type", "what it is to be"), key("enter", "done")}
		if s.editing.choices != nil {
			bindings = []binding{key("← →", "or its first letter: another kind"), key("enter", "done")}
		}
	}
	out := " "
	for _, b := range bindings {
		out += " " + t.paint(accent, b.key) + " " + t.paint(faint, b.does) + " "
	}
	return Truncate(out, s.width)
}
