package data

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/cli/command"
	"neighbour/internal/core/data/store"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
	"neighbour/internal/display"
)

// wantedData says which items are wanted, and how.
type wantedData struct {
	where, after string
	limit        int
	json, csv    bool
	sql          bool
	structure    bool
}

// forms fails if more than one form is wanted.
func (w wantedData) forms() error {
	wanted := 0
	for _, w := range []bool{w.json, w.csv, w.sql} {
		if w {
			wanted++
		}
	}
	if wanted > 1 {
		return command.Misuse(errors.New("--json, --csv and --sql: choose one"))
	}
	return nil
}

// wide is how many characters of a value are wanted; 0: as a list has them.
func (w wantedData) wide() int {
	if w.csv || w.json || w.sql {
		return store.ValueLimit
	}
	return 0
}

func newData(a *command.App) *cobra.Command {
	var want wantedData
	var from string
	var dry, yes bool
	cmd := &cobra.Command{
		Use: "data [SERVICE [COLLECTION [KEY]]]", Short: "Print what services hold: tables, queues, keys, mails",
		Long: `Data lists what services hold. With a service it lists its collections, with
one of those its items, and with an item's key that item whole. Before the collections
stands what is kept on the disk: how much, since when, which data it is, and which
snapshots have some of it.`,
		Example: "  neighbour data\n  neighbour data ledger loans --where 'returned is null'\n  neighbour data ledger loans 12",
		Args:    command.Takes(cobra.MaximumNArgs(3)), ValidArgsFunction: a.CompleteCollections,
		RunE: func(cmd *cobra.Command, args []string) error {
			if want.limit < 1 {
				return command.Misuse(fmt.Errorf("--limit %d: write how many items, 1 or more", want.limit))
			}
			if err := want.forms(); err != nil {
				return err
			}
			if (want.structure || want.sql) && len(args) != 2 {
				return command.Misuse(errors.New("--structure and --sql take a service and a collection: neighbour data ledger loans --structure"))
			}
			p, err := a.Project()
			if err != nil {
				return err
			}
			ask := api.AskOf(cmd.Context(), p, strings.Join(args[:min(len(args), 1)], ""))
			if from != "" {
				if len(args) != 2 {
					return command.Misuse(errors.New("--from takes a service and a collection: neighbour data ledger loans --from loans.csv"))
				}
				return fill(cmd.Context(), a, ask, args[0], args[1], from, dry, yes)
			}
			switch len(args) {
			case 3:
				return printItem(cmd.Context(), a, ask, args[0], args[1], args[2], want)
			case 2:
				if want.structure {
					page, err := ask.Structure(cmd.Context(), args[0], args[1])
					if err != nil {
						return err
					}
					return printPage(a, page, want)
				}
				return printItems(cmd.Context(), a, ask, args[0], args[1], want)
			}
			return printCollections(cmd.Context(), a, p, ask, args, want)
		},
	}
	cmd.Flags().StringVar(&want.where, "where", "", "only items that meet a `condition`, in the server's language, or contain these words")
	cmd.Flags().StringVar(&want.after, "after", "", "begin after this `place`")
	cmd.Flags().IntVar(&want.limit, "limit", 100, "how many items at most")
	cmd.Flags().BoolVar(&want.json, "json", false, "print as JSON")
	cmd.Flags().BoolVar(&want.csv, "csv", false, "print as CSV (RFC 4180), nothing for no value")
	cmd.Flags().BoolVar(&want.sql, "sql", false, "print statements that insert the items of a table")
	cmd.Flags().BoolVar(&want.structure, "structure", false, "print the columns, indexes and foreign keys of a table")
	cmd.Flags().StringVar(&from, "from", "", "add the items of a `file`, of CSV with names or of JSON: all of them, or none if one doesn't fit")
	cmd.Flags().BoolVar(&dry, "dry-run", false, "with --from, only say what fits")
	cmd.Flags().BoolVar(&yes, "yes", false, "with --from, don't ask")
	return cmd
}

// fill adds the items of a file, after it was tried.
func fill(ctx context.Context, a *command.App, ask api.Questions, service, collection, file string, dry, yes bool) error {
	path, err := filepath.Abs(file)
	if err != nil {
		return err
	}
	f := api.Filling{Collection: collection, File: path, Dry: true}
	tried, err := ask.Fill(ctx, service, f)
	if err != nil {
		return err
	}
	for _, p := range tried.Problems {
		fmt.Fprintf(a.Err, "%s:%d: %s\n", file, p.Line, display.Plain(p.Says))
	}
	if tried.Wrong > 0 {
		return fmt.Errorf("%s would fit, %d would not; nothing was added", words.Count(tried.Rows, "row"), tried.Wrong)
	}
	if dry {
		fmt.Fprintf(a.Out, "%s would fit; nothing was added\n", words.Count(tried.Rows, "row"))
		return nil
	}
	if !yes {
		if ok, err := a.Confirm(fmt.Sprintf("Add %s to %s?", words.Count(tried.Rows, "row"), collection)); err != nil || !ok {
			return err
		}
	}
	f.Dry = false
	done, err := ask.Fill(ctx, service, f)
	if err == nil && done.Wrong > 0 {
		err = fmt.Errorf("%d rows don't fit any more; nothing was added", done.Wrong)
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(a.Out, "%s added\n", words.Count(done.Rows, "row"))
	return nil
}

func printCollections(ctx context.Context, a *command.App, p *project.Project, ask api.Questions, names []string, want wantedData) error {
	if err := p.Check(names...); err != nil {
		return err
	}
	one := len(names) > 0
	if !one {
		if names = keep.Holding(p); len(names) == 0 {
			return errors.New("no service here holds anything that can be looked into")
		}
	}
	all := []keep.Data{}
	var unknown []string
	for _, name := range names {
		d, err := ask.Data(ctx, name)
		var none *api.Problem
		var notRunning *keep.NoDataError
		switch {
		case err == nil:
			all = append(all, d)
		case one || !errors.As(err, &none) && !errors.As(err, &notRunning):
			return err
		default:
			unknown = append(unknown, err.Error())
		}
	}
	kept, err := p.KeptData()
	if err != nil {
		return err
	}
	kept = slices.DeleteFunc(kept, func(k project.KeptData) bool { return one && k.Service != names[0] })
	if want.json {
		return a.JSON(withKept(all, kept, one))
	}
	if !want.csv {
		printKept(a, kept)
	}
	rows := [][]string{{"service", "collection", "is", "items", "size"}}
	if want.csv {
		for _, d := range all {
			for _, c := range d.Collections {
				rows = append(rows, []string{d.Service, c.Name, c.Is, known(c.Count), known(c.Bytes)})
			}
		}
		return writeCSV(a, rows)
	}
	for _, d := range all {
		if len(d.Collections) == 0 {
			rows = append(rows, []string{d.Service, "nothing yet"})
		}
		for _, c := range d.Collections {
			rows = append(rows, []string{d.Service, c.Name, c.Is, countOf(c), sizeOf(c.Bytes)})
		}
	}
	if len(rows) > 1 {
		columns(a, rows)
	}
	for _, u := range unknown {
		fmt.Fprintln(a.Err, u)
	}
	return nil
}

func known(n int64) string {
	if n < 0 {
		return ""
	}
	return fmt.Sprint(n)
}

// countOf is how many items there are: "about 12,408".
func countOf(c store.Collection) string {
	switch {
	case c.Count < 0:
		return ""
	case c.About:
		return "about " + words.Thousands(c.Count)
	}
	return words.Thousands(c.Count)
}

func sizeOf(n int64) string {
	if n < 0 {
		return ""
	}
	return words.Bytes(uint64(n))
}

// columns prints rows as columns that are as wide as what is in them; the first
// are their headings.
func columns(a *command.App, rows [][]string) {
	if len(rows) == 0 {
		return
	}
	wide := make([]int, len(rows[0]))
	for _, r := range rows {
		for i, v := range r {
			r[i] = display.Plain(v) // a table can be called anything
			wide[i] = max(wide[i], display.Width(r[i]))
		}
	}
	for _, r := range rows {
		var b strings.Builder
		for i, v := range r {
			if i > 0 {
				b.WriteString("  ")
			}
			b.WriteString(display.Pad(v, wide[i]))
		}
		fmt.Fprintln(a.Out, strings.TrimRight(b.String(), " "))
	}
}

func writeCSV(a *command.App, rows [][]string) error {
	w := csv.NewWriter(a.Raw)
	if err := w.WriteAll(rows); err != nil {
		return err
	}
	return w.Error()
}

// mostItems is how many items are asked for at a time.
const mostItems = 500

func printItems(ctx context.Context, a *command.App, ask api.Questions, service, collection string, want wantedData) error {
	q := store.Query{Collection: collection, Where: want.where, After: want.after, Wide: want.wide()}
	var whole store.Page
	for left := want.limit; ; {
		q.Limit = min(left, mostItems)
		page, err := ask.Items(ctx, service, q)
		if err != nil {
			return err
		}
		rows := append(whole.Rows, page.Rows...)
		whole = page
		whole.Rows = rows
		left -= len(page.Rows)
		if left <= 0 || !page.More || len(page.Rows) == 0 || page.Next == "" {
			break
		}
		q.After = page.Next
	}
	return printPage(a, whole, want)
}

// printPage prints rows as JSON objects, as CSV, or as columns for people.
func printPage(a *command.App, p store.Page, want wantedData) error {
	switch {
	case want.json:
		return errors.Join(store.WriteObjects(a.Raw, p.Columns, p.Rows), cut(p))
	case want.sql:
		return errors.Join(store.WriteInserts(a.Raw, p), cut(p))
	case want.csv:
		return errors.Join(store.CSV{}.Write(a.Raw, p.Columns, p.Rows), cut(p))
	}
	if len(p.Columns) > 0 {
		var head []string
		for _, c := range p.Columns {
			head = append(head, display.Plain(c.Name))
		}
		rows := [][]string{head}
		for _, r := range p.Rows {
			row := make([]string, len(head))
			for i, v := range r.Values {
				row[i] = v.Line(60)
			}
			rows = append(rows, row)
		}
		columns(a, rows)
	}
	switch {
	case p.Says != "":
		fmt.Fprintln(a.Out, p.Says)
	case len(p.Rows) == 0:
		fmt.Fprintln(a.Err, "no items")
	case p.More:
		after := ""
		if p.Next != "" {
			after = fmt.Sprintf(", or --after '%s' shows what follows", strings.ReplaceAll(p.Next, "'", `'\''`))
		}
		a.Out.Flush()
		fmt.Fprintf(a.Err, "there are more; --limit %d shows more%s\n", 10*len(p.Rows), after)
	}
	return nil
}

// cut is an error if a value is not whole.
func cut(p store.Page) error {
	n := store.CutValues(p.Rows)
	if n == 0 {
		return nil
	}
	return fmt.Errorf("of %s only the first %s are here; neighbour dump writes all", words.Count(n, "value"), words.Bytes(store.ValueLimit))
}

func printItem(ctx context.Context, a *command.App, ask api.Questions, service, collection, key string, want wantedData) error {
	item, err := ask.Item(ctx, service, collection, store.KeyOf(key))
	if err != nil {
		return err
	}
	var p store.Page
	row := store.Row{Key: item.Key}
	for _, f := range item.Fields {
		p.Columns = append(p.Columns, f.Column)
		row.Values = append(row.Values, f.Value)
	}
	p.Rows = []store.Row{row}
	if want.json || want.csv {
		return printPage(a, p, want)
	}
	var rows [][]string
	for _, f := range item.Fields {
		leads := ""
		if f.To != nil {
			leads = strings.TrimRight("→ "+f.To.Collection+" "+f.To.Says, " ")
		}
		rows = append(rows, []string{display.Plain(f.Column.Name), f.Value.Line(2000), leads})
	}
	columns(a, rows)
	for _, n := range item.Notes {
		fmt.Fprintln(a.Out, display.Plain(n))
	}
	return nil
}

func newAsk(a *command.App) *cobra.Command {
	var want wantedData
	var write bool
	cmd := &cobra.Command{
		Use: "ask SERVICE STATEMENT", Short: "Ask a service in its own language: SQL, or its commands",
		Long: `Ask has a service carry out a statement and prints what it answers. Unless
--write is given, it is carried out so that it can't change data. The statement -
is read from standard input.`,
		Example: "  neighbour ask ledger 'select count(*) from loans'\n  neighbour ask shelf 'TTL session:12'",
		Args:    command.Takes(cobra.ExactArgs(2)), ValidArgsFunction: a.CompleteCollections,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := want.forms(); err != nil {
				return err
			}
			p, err := a.Project()
			if err != nil {
				return err
			}
			statement := args[1]
			if statement == "-" {
				b, err := io.ReadAll(io.LimitReader(cmd.InOrStdin(), 1<<20))
				if err != nil {
					return err
				}
				statement = string(b)
			}
			answer, err := api.AskOf(cmd.Context(), p, args[0]).AskService(cmd.Context(), args[0], store.Question{Statement: statement, Write: write, Limit: want.limit, Wide: want.wide()})
			switch {
			case err != nil:
				return err
			case answer.Writes:
				return errors.New("this would change data, and was not carried out; --write lets it")
			case answer.Refused != "":
				return errors.New(args[0] + " refuses it: " + answer.Refused + pointer(statement, answer.At))
			}
			return printPage(a, answer.Page, want)
		},
	}
	cmd.Flags().BoolVar(&write, "write", false, "let it change data")
	cmd.Flags().IntVar(&want.limit, "limit", 500, "how many rows at most, up to 1000")
	cmd.Flags().BoolVar(&want.json, "json", false, "print a JSON object for each row")
	cmd.Flags().BoolVar(&want.csv, "csv", false, "print as CSV (RFC 4180), nothing for no value")
	return cmd
}

// pointer shows the line of a statement in which something is wrong, and the place.
func pointer(statement string, at int) string {
	r := []rune(statement)
	if at < 1 || at > len(r)+1 {
		return ""
	}
	before := r[:at-1]
	from := 0
	if i := slices.Index(reversed(before), '\n'); i >= 0 {
		from = len(before) - i
	}
	to := len(r)
	if i := slices.Index(r[from:], '\n'); i >= 0 {
		to = from + i
	}
	line := display.Plain(string(r[from:to]))
	return "\n    " + line + "\n    " + strings.Repeat(" ", display.Width(display.Plain(string(r[from:at-1])))) + "^"
}

func reversed(r []rune) []rune {
	out := slices.Clone(r)
	slices.Reverse(out)
	return out
}
