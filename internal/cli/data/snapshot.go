package data

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"

	"neighbour/internal/api"
	"neighbour/internal/cli/command"
	"neighbour/internal/core/data/snapshot"
	"neighbour/internal/core/declaration/declare"
	"neighbour/internal/core/keeper/keep"
	"neighbour/internal/core/keeper/mask"
	"neighbour/internal/core/machine/words"
	"neighbour/internal/core/project"
	"neighbour/internal/display"
)

func newSnapshots(a *command.App) *cobra.Command {
	cmd := &cobra.Command{
		Use: "snapshot", Short: "Save the data of services, and put it back", Aliases: []string{"snapshots"},
		Long: `Snapshot saves the data of services as it is at one moment, all of them or some, and puts
it back. Services go on while most of it is copied, and stand still only for what has
changed meanwhile. Without a command it lists the snapshots that there are.`,
		Example: `  neighbour snapshot save before-the-import
  neighbour snapshot restore before-the-import
  neighbour snapshot export bug-17 /tmp/bug-17.tar.zst`,
		Args: command.Takes(cobra.NoArgs),
	}
	list := newListSnapshots(a)
	cmd.RunE = list.RunE
	cmd.Flags().AddFlagSet(list.Flags())
	cmd.AddCommand(newSaveSnapshot(a), list, newShowSnapshot(a), newRestoreSnapshot(a), newDropSnapshot(a), newExportSnapshot(a), newImportSnapshot(a), newBranches(a))
	return cmd
}

func newSaveSnapshot(a *command.App) *cobra.Command {
	var services []string
	cmd := &cobra.Command{
		Use: "save [NAME]", Short: "Save the data as it is now", Args: command.Takes(cobra.MaximumNArgs(1)),
		Long: `Save saves the data of all services that keep any, or of some, as it is at one moment. A
name that is left out is made of the time.`,
		Example: "  neighbour snapshot save\n  neighbour snapshot save seeded --only ledger,shelf",
		RunE: func(cmd *cobra.Command, args []string) error {
			p, client, err := keeper(cmd.Context(), a)
			if err != nil {
				return err
			}
			defer client.Close()
			if err := p.Check(services...); err != nil {
				return err
			}
			if name := strings.Join(args, ""); project.IsTemplate(name) || project.IsBranchSet(name) {
				return command.Misuse(fmt.Errorf("names that begin as %s does are for what Neighbour saves by itself; give the snapshot another", name))
			}
			told := tellingOperations(cmd.Context(), a, client, keep.Save)
			m, err := client.SaveSnapshot(cmd.Context(), strings.Join(args, ""), services...)
			told()
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "saved %s: %s of %s, %s; %s\n", m.Name, words.Bytes(uint64(m.Bytes)), words.Join(m.Names()), copiedOf(&m), stoodStill(&m))
			return nil
		},
	}
	cmd.Flags().StringSliceVar(&services, "only", nil, "only the data of these `services`")
	_ = cmd.RegisterFlagCompletionFunc("only", a.CompleteServices)
	return cmd
}

// keeper connects to the project's keeper, and starts one if there is none.
func keeper(ctx context.Context, a *command.App) (*project.Project, *api.Client, error) {
	p, err := a.Project()
	if err != nil {
		return nil, nil, err
	}
	client, err := api.Connect(ctx, p)
	return p, client, err
}

// tellingOperations shows the progress of the operation of one of these kinds.
func tellingOperations(ctx context.Context, a *command.App, client *api.Client, does ...keep.OperationKind) (done func()) {
	return a.Telling(func() string {
		all, _ := client.Operations(ctx)
		for _, o := range all {
			if !o.State.Over() && slices.Contains(does, o.Does) {
				return display.Clean(o.Title() + "  " + cmp.Or(o.Says, o.Reason))
			}
		}
		return ""
	})
}

func copiedOf(m *snapshot.Manifest) string {
	switch {
	case m.Bytes == 0:
		return "nothing to copy"
	case m.Copied >= m.Bytes:
		return "all copied"
	case m.Copied == 0:
		return "all shared with what is there already"
	}
	return words.Bytes(uint64(m.Copied)) + " copied, the rest shared"
}

// stoodStill says for how long services stood still for a snapshot.
func stoodStill(m *snapshot.Manifest) string {
	if !slices.ContainsFunc(m.Services, func(s snapshot.Service) bool { return s.How != "did not run" }) {
		return "nothing ran"
	}
	return "services stood still for " + words.Millis(m.HeldMS)
}

func newListSnapshots(a *command.App) *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use: "list", Short: "The snapshots, the newest first", Args: command.Takes(cobra.NoArgs), Aliases: []string{"ls"},
		RunE: func(*cobra.Command, []string) error {
			p, err := a.Project()
			if err != nil {
				return err
			}
			all, wrong := keep.Snapshots(p)
			if asJSON {
				return a.JSON(api.Snapshots{Snapshots: all, Wrong: wrong})
			}
			for _, w := range wrong {
				fmt.Fprintln(a.Err, "▲ "+display.Clean(w))
			}
			if len(all) == 0 {
				fmt.Fprintln(a.Err, "nothing is saved yet; neighbour snapshot save NAME saves the data of all services")
				return nil
			}
			rows := [][]string{{"name", "age", "size", "own", "services", ""}}
			for _, s := range all {
				rows = append(rows, []string{s.Name, words.Span(time.Since(s.Made)), words.Bytes(uint64(s.Bytes)), words.Bytes(uint64(s.Copied)), strings.Join(s.Names(), ", "), display.Plain(cmp.Or(s.Wrong, s.Why))})
			}
			if err := command.PrintTable(a.Out, rows, 2, 3); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "%s on the disk\n", words.Bytes(uint64(p.Snapshots().Size())))
			return nil
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print as JSON")
	return cmd
}

func newShowSnapshot(a *command.App) *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use: "show NAME", Short: "What a snapshot holds", Args: command.Takes(cobra.ExactArgs(1)), ValidArgsFunction: a.CompleteSnapshots,
		RunE: func(_ *cobra.Command, args []string) error {
			p, err := a.Project()
			if err != nil {
				return err
			}
			m, err := p.Snapshots().Get(args[0])
			if err != nil {
				return err
			}
			if asJSON {
				return a.JSON(m.Public())
			}
			fmt.Fprintf(a.Out, "%s, saved %s by %s on %s\n", m.Name, m.Made.Local().Format("Mon 02 Jan 2006 15:04:05"), cmp.Or(m.By, "somebody"), m.Platform)
			if m.Why != "" {
				fmt.Fprintln(a.Out, display.Clean(m.Why))
			}
			fmt.Fprintf(a.Out, "%s; %s; saved within %s\n\n", words.Bytes(uint64(m.Bytes)), stoodStill(m), words.Millis(m.TookMS))
			for _, service := range slices.Sorted(maps.Keys(m.Masked)) {
				fmt.Fprintf(a.Out, "struck out of %s: %s\n", service, struckOut(m.Masked[service]))
			}
			rows := [][]string{{"service", "kind", "size", "files", "how", ""}}
			for _, s := range m.Services {
				wrong := ""
				if err := p.CheckRestore(m, s); err != nil {
					wrong = "▲ " + display.Plain(err.Error())
				}
				rows = append(rows, []string{s.Name, strings.TrimSpace(s.Kind + " " + s.Version), words.Bytes(uint64(s.Bytes)), strconv.Itoa(s.Files), s.How, wrong})
			}
			return command.PrintTable(a.Out, rows, 2, 3)
		},
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "print as JSON")
	return cmd
}

func newRestoreSnapshot(a *command.App) *cobra.Command {
	var services []string
	var yes bool
	cmd := &cobra.Command{
		Use: "restore NAME", Short: "Put the data of a snapshot back", Args: command.Takes(cobra.ExactArgs(1)), ValidArgsFunction: a.CompleteSnapshots,
		Long: `Restore puts the data of a snapshot in the place of what services hold now, which is kept as
the snapshot "replaced" until the next restore. It says what will be replaced, and asks.
What reads the data is stopped for it, and started again.`,
		Example: "  neighbour snapshot restore seeded\n  neighbour snapshot restore replaced --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			p, client, err := keeper(ctx, a)
			if err != nil {
				return err
			}
			defer client.Close()
			losses, err := client.Restoring(ctx, args[0], services...)
			if err != nil {
				return err
			}
			for _, l := range losses {
				fmt.Fprintf(a.Err, "%s: %s on disk will be replaced\n", l.Service, words.Bytes(l.Bytes))
				for _, c := range l.Contents {
					fmt.Fprintf(a.Err, "    %s\n", c)
				}
				if len(l.Stops) > 0 {
					fmt.Fprintf(a.Err, "    stopped for it, and started again: %s\n", strings.Join(l.Stops, ", "))
				}
			}
			if !yes {
				if args[0] != snapshot.Replaced {
					if _, err := p.Snapshots().Get(snapshot.Replaced); err == nil {
						fmt.Fprintln(a.Err, "what the last restore has replaced is then lost")
					}
				}
				if ok, err := a.Confirm("Restore " + args[0] + "?"); err != nil || !ok {
					return err
				}
			}
			return restoreAndFollow(ctx, a, p, client, args[0], services)
		},
	}
	cmd.Flags().StringSliceVar(&services, "only", nil, "only the data of these `services`")
	cmd.Flags().BoolVar(&yes, "yes", false, "don't ask")
	_ = cmd.RegisterFlagCompletionFunc("only", a.CompleteServices)
	return cmd
}

// restoreAndFollow restores a snapshot, and waits for what is started again then.
func restoreAndFollow(ctx context.Context, a *command.App, p *project.Project, client *api.Client, name string, services []string) error {
	m, err := p.Snapshots().Get(name)
	if err != nil {
		return err
	}
	names := services
	if len(names) == 0 {
		names = m.Names()
	}
	again, err := runningOf(ctx, p, names)
	if err != nil {
		return err
	}
	restore := func() (api.Done, error) {
		told := tellingOperations(ctx, a, client, keep.Restore)
		r, err := client.RestoreSnapshot(ctx, name, services...)
		told()
		if err != nil {
			return api.Done{}, err
		}
		kept := ""
		if r.Replaced != "" {
			kept = "; what was there is the snapshot " + r.Replaced
		}
		fmt.Fprintf(a.Out, "restored %s: %s%s\n", r.Name, words.Join(r.Services), kept)
		a.Out.Flush()
		return api.Done{Began: r.Began}, nil
	}
	if len(again) == 0 {
		_, err := restore()
		return err
	}
	return a.Follow(ctx, p, client, again, false, restore)
}

// runningOf returns those that run of services and of what needs them.
func runningOf(ctx context.Context, p *project.Project, names []string) ([]string, error) {
	current, _, err := api.Look(ctx, p)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, n := range p.Plan.WithDependents(names...) {
		if current[n].State.Running() {
			out = append(out, n)
		}
	}
	return out, nil
}

func newDropSnapshot(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "drop NAME...", Short: "Delete snapshots", Args: command.Takes(cobra.MinimumNArgs(1)), ValidArgsFunction: a.CompleteSnapshots,
		RunE: func(cmd *cobra.Command, names []string) error {
			p, err := a.Project()
			if err != nil {
				return err
			}
			drop := p.Snapshots().Drop
			// A keeper that runs may be about to read it.
			client, err := api.Find(cmd.Context(), p)
			if err == nil {
				defer client.Close()
				drop = func(name string) error { return client.DropSnapshot(cmd.Context(), name) }
			}
			for _, name := range names {
				if err := snapshot.CheckName(name); err != nil {
					return err
				}
				if err := drop(name); err != nil {
					return err
				}
				fmt.Fprintln(a.Out, "dropped "+name)
			}
			return nil
		},
	}
}

func newExportSnapshot(a *command.App) *cobra.Command {
	var whole bool
	cmd := &cobra.Command{
		Use: "export NAME FILE", Short: "Write a snapshot to a file, for somebody else", Args: command.Takes(cobra.ExactArgs(2)), ValidArgsFunction: a.CompleteSnapshots,
		Long: `Export writes a snapshot to a file: a tar archive compressed with Zstandard, which begins
with a manifest in JSON and ends with checksums. "-" is the output.

Whoever has the file can read all that the services held, with the passwords that
Neighbour has made up for them, but for what the declaration strikes out:

    [snapshots]
    mask = { ledger = ["members.email"], shelf = ["session:*"], postbox = ["*"] }

Columns, keys or whole services are then struck out of a copy, which is exported; the
snapshot itself stays as it is.`,
		Example: "  neighbour snapshot export bug-17 bug-17.tar.zst\n  neighbour snapshot export bug-17 bug-17.tar.zst --whole",
		RunE: func(cmd *cobra.Command, args []string) error {
			p, err := a.Project()
			if err != nil {
				return err
			}
			m, err := p.Snapshots().Get(args[0])
			if err != nil {
				return err
			}
			if err := m.Whole(""); err != nil && m.Boot == "" {
				return err
			}
			masked := !whole && len(p.Masks()) > 0
			if masked {
				a.EndAbandoned(cmd.Context(), p)
			}
			var n atomic.Int64
			var step atomic.Value
			step.Store("")
			told := a.Telling(func() string { return cmp.Or(step.Load().(string), amount(n.Load(), m.Bytes)) })
			progress := func(b int64) {
				step.Store("")
				n.Add(b)
			}
			write := func(w io.Writer) error {
				if !masked {
					return p.Snapshots().Export(args[0], w, progress)
				}
				m, err = mask.Export(cmd.Context(), p, args[0], w, func(s string) { step.Store(s) }, progress)
				return err
			}
			if args[1] == "-" {
				err = write(a.Raw)
			} else {
				err = writeWhole(args[1], write)
			}
			told()
			if err != nil {
				return fmt.Errorf("%s was not exported: %w", args[0], err)
			}
			if info, err := os.Stat(args[1]); err == nil {
				fmt.Fprintf(a.Out, "exported %s to %s: %s of %s\n", args[0], args[1], words.Bytes(uint64(info.Size())), words.Bytes(uint64(n.Load())))
				for _, service := range slices.Sorted(maps.Keys(m.Masked)) {
					fmt.Fprintf(a.Out, "struck out of %s: %s\n", service, struckOut(m.Masked[service]))
				}
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&whole, "whole", false, "with all that it holds, whatever the declaration strikes out")
	return cmd
}

// struckOut says what was struck out of a service.
func struckOut(rules []string) string {
	if slices.Contains(rules, declare.All) {
		return "all that it holds"
	}
	return display.Plain(words.Join(rules))
}

// writeWhole writes a file that appears when it is whole. It does not replace one.
func writeWhole(path string, write func(io.Writer) error) error {
	if _, err := os.Lstat(path); err == nil {
		return fmt.Errorf("%s: %w", path, fs.ErrExist)
	}
	f, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+".part-")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	err = write(f)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Link(f.Name(), path)
}

func newImportSnapshot(a *command.App) *cobra.Command {
	var name string
	cmd := &cobra.Command{
		Use: "import FILE", Short: "Take a snapshot from a file", Args: command.Takes(cobra.ExactArgs(1)),
		Long: `Import takes a snapshot from a file that Neighbour has exported. All is checked before it is
in the list; "neighbour snapshot restore" puts its data in the place of yours.`,
		Example: "  neighbour snapshot import bug-17.tar.zst\n  neighbour snapshot import bug-17.tar.zst --as theirs",
		RunE: func(_ *cobra.Command, args []string) error {
			p, err := a.Project()
			if err != nil {
				return err
			}
			if err := p.EnsureDirs(); err != nil {
				return err
			}
			in := io.Reader(os.Stdin)
			if args[0] != "-" {
				f, err := os.Open(args[0])
				if err != nil {
					return err
				}
				defer f.Close()
				in = f
			}
			var n atomic.Int64
			told := a.Telling(func() string { return amount(n.Load(), 0) })
			m, err := p.Snapshots().Import(in, name, func(b int64) { n.Add(b) })
			told()
			if err != nil {
				return fmt.Errorf("%s was not imported: %w", args[0], err)
			}
			fmt.Fprintf(a.Out, "imported %s: %s of %s, saved %s in %s\n", m.Name, words.Bytes(uint64(m.Bytes)), words.Join(m.Names()), m.Made.Local().Format("Mon 02 Jan 2006 15:04"), display.Clean(m.Project))
			for _, s := range m.Services {
				if err := p.CheckRestore(m, s); err != nil {
					fmt.Fprintln(a.Err, "▲ "+display.Clean(err.Error()))
				}
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&name, "as", "", "under another `name`")
	return cmd
}
