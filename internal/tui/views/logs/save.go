package logs

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/record/journal"
	"neighbour/internal/display"
	"neighbour/internal/tui/view"
)

// selection returns the selected entries.
func (v *logs) selection() []journal.Entry {
	if len(v.entries) == 0 {
		return nil
	}
	from, to := v.cursor, v.cursor
	if v.mark >= 0 {
		from, to = min(v.mark, v.cursor), max(v.mark, v.cursor)
	}
	return v.entries[from:min(len(v.entries), to+1)]
}

func (v *logs) copy() tea.Cmd {
	v.pause()
	all := v.selection()
	if len(all) == 0 {
		return nil
	}
	var texts []string
	for _, e := range all {
		texts = append(texts, joinLines(e.Text))
	}
	v.Say(fmt.Sprintf("copied %d %s", len(all), display.Plural(len(all), "entry", "entries")), false)
	v.mark = -1
	return tea.SetClipboard(strings.Join(texts, "\n"))
}

// joinLines returns a text of several lines without control sequences.
func joinLines(text string) string {
	lines := strings.Split(text, "\n")
	for i, l := range lines {
		lines[i] = display.Plain(l)
	}
	return strings.Join(lines, "\n")
}

// saved says how saving went.
func (v *logs) saved(path string, n int, err error) view.Later {
	return func() tea.Cmd {
		if err != nil {
			v.Say("not saved: "+err.Error(), true)
		} else {
			v.Say(fmt.Sprintf("saved %s entries to %s", words.Thousands(int64(n)), path), false)
		}
		return nil
	}
}

// askFile asks where to save what is shown, or what is selected.
func (v *logs) askFile() tea.Cmd {
	name := fmt.Sprintf("%s-%s.log", v.Overview.Project, time.Now().Format("20060102-150405"))
	v.prompt = newPrompt("save to", name, "a file, from the project's folder", func(v *logs, text string) (tea.Cmd, error) {
		if text == "" {
			return nil, errors.New("write the file's name")
		}
		path := text
		if !filepath.IsAbs(path) {
			path = filepath.Join(v.Overview.Dir, path)
		}
		f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if errors.Is(err, fs.ErrExist) {
			return nil, fmt.Errorf("%s is there already; write another name", text)
		}
		if err != nil {
			return nil, err
		}
		if v.mark >= 0 {
			selected := v.selection()
			v.mark = -1
			return func() tea.Msg {
				n, err := writeEntries(f, selected)
				return v.saved(path, n, errors.Join(err, f.Close()))
			}, nil
		}
		return v.save(f, path), nil
	})
	return nil
}

// save writes everything that the filters let through.
func (v *logs) save(f *os.File, path string) tea.Cmd {
	q := v.query()
	q.Oldest, q.N = true, 5000
	client := v.Client()
	v.Say("saving…", false)
	return func() tea.Msg {
		n := 0
		for {
			ctx, cancel := context.WithTimeout(v.Context(), view.CallLimit)
			a, err := client.Logs(ctx, q)
			cancel()
			if err == nil {
				var more int
				more, err = writeEntries(f, a.Entries)
				n += more
			}
			if err != nil || !a.More || len(a.Entries) == 0 {
				return v.saved(path, n, errors.Join(err, f.Close()))
			}
			q.From = a.Entries[len(a.Entries)-1].Place
			q.From.Offset++
		}
	}
}

// writeEntries writes entries and returns how many those are.
func writeEntries(f *os.File, entries []journal.Entry) (int, error) {
	var b strings.Builder
	for _, e := range entries {
		at := strings.Repeat("-", 23)
		if !e.At.IsZero() {
			at = e.At.Local().Format("2006-01-02 15:04:05.000")
		}
		if e.Event != "" {
			at += "  --"
		}
		for line := range strings.SplitSeq(joinLines(e.Text), "\n") {
			fmt.Fprintf(&b, "%s  %s  %s\n", at, e.Service, line)
		}
	}
	_, err := f.WriteString(b.String())
	return len(entries), err
}
