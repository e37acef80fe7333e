package data

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"sync/atomic"
	"time"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"neighbour/internal/cli/command"
	"neighbour/internal/core/keeper/supervise"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/words"
)

func newDump(a *command.App) *cobra.Command {
	var zip bool
	cmd := &cobra.Command{
		Use: "dump SERVICE [DATABASE]", Short: "Write a database as a script to standard output",
		Long: `Dump writes a database as a script, by the server's own program for it. Load
carries such a script out.`,
		Example: "  neighbour dump ledger > ledger.sql\n  neighbour dump ledger --gzip > ledger.sql.gz",
		Args:    command.Takes(cobra.RangeArgs(1, 2)), ValidArgsFunction: a.CompleteServices,
		RunE: func(cmd *cobra.Command, args []string) error {
			if term.IsTerminal(os.Stdout.Fd()) && zip {
				return command.Misuse(errors.New("what is compressed is nothing for a terminal; write it to a file: > dump.sql.gz"))
			}
			c, err := dumper(a, cmd, args, kind.Dumper.Dump)
			if err != nil {
				return err
			}
			out := &counted{w: a.Raw}
			c.Stdout = out
			var packed *gzip.Writer
			if zip {
				packed = gzip.NewWriter(out)
				c.Stdout = packed
			}
			err = dumping(cmd.Context(), a, c, out, 0)
			if packed != nil {
				err = errors.Join(err, packed.Close())
			}
			return err
		},
	}
	cmd.Flags().BoolVar(&zip, "gzip", false, "compress it")
	return cmd
}

func newLoad(a *command.App) *cobra.Command {
	return &cobra.Command{
		Use: "load SERVICE [DATABASE]", Short: "Carry out a script in a database, from standard input",
		Long: `Load carries out a script, such as dump writes, by the server's own client; one
that is compressed with gzip is recognised by its content. Tables that are in a
dump of PostgreSQL or MariaDB take the place of those that are there.`,
		Example: "  neighbour load ledger < ledger.sql",
		Args:    command.Takes(cobra.RangeArgs(1, 2)), ValidArgsFunction: a.CompleteServices,
		RunE: func(cmd *cobra.Command, args []string) error {
			if term.IsTerminal(os.Stdin.Fd()) {
				return command.Misuse(errors.New("the script comes from standard input: neighbour load " + args[0] + " < dump.sql"))
			}
			c, err := dumper(a, cmd, args, kind.Dumper.Load)
			if err != nil {
				return err
			}
			size := int64(0)
			if info, err := os.Stdin.Stat(); err == nil && info.Mode().IsRegular() {
				size = info.Size()
			}
			in := &counted{r: cmd.InOrStdin()}
			script := bufio.NewReader(in)
			whole := &scriptReader{r: script, stop: func() { _ = c.Process.Kill() }}
			c.Stdin = whole
			head, _ := script.Peek(2)
			if len(head) == 0 {
				return errors.New("standard input is empty; there is nothing to load")
			}
			if len(head) == 2 && head[0] == 0x1f && head[1] == 0x8b { // RFC 1952, section 2.3.1
				unpacked, err := gzip.NewReader(script)
				if err != nil {
					return err
				}
				whole.r = unpacked
			}
			c.Stdout = a.Raw
			err = dumping(cmd.Context(), a, c, in, size)
			if whole.problem != nil {
				return fmt.Errorf("after %s: %w", words.Bytes(uint64(in.n.Load())), whole.problem)
			}
			return err
		},
	}
}

// endings are how dumps end that begin with a line.
var endings = []struct{ begins, ends string }{
	{"-- PostgreSQL database dump", "-- PostgreSQL database dump complete"},
	{"-- MariaDB dump", "-- Dump completed"},
	{"-- MySQL dump", "-- Dump completed"},
	{"PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;", "COMMIT;"},
}

// scriptReader reads a script. When that can't be read to its end, or is a dump of
// which the end is missing, the client is killed before it hears of an end: it would
// keep what it has got by then.
type scriptReader struct {
	r          io.Reader
	stop       func()
	head, tail []byte
	problem    error
}

func (s *scriptReader) Read(b []byte) (int, error) {
	n, err := s.r.Read(b)
	s.head = append(s.head, b[:min(n, 1024-len(s.head))]...)
	s.tail = append(s.tail, b[max(0, n-1024):n]...)
	s.tail = s.tail[max(0, len(s.tail)-1024):]
	switch {
	case err == nil:
		return n, nil
	case err != io.EOF:
		s.problem = fmt.Errorf("the script can't be read: %w", err)
	case s.cutOff():
		s.problem = errors.New("the dump is cut off: its end is missing")
	default:
		return n, err
	}
	s.stop()
	return n, s.problem
}

func (s *scriptReader) cutOff() bool {
	for _, e := range endings {
		if bytes.Contains(s.head, []byte(e.begins)) {
			return !bytes.Contains(s.tail, []byte(e.ends))
		}
	}
	return false
}

// dumper returns one of the commands of a kind.Dumper, ready to be run.
func dumper(a *command.App, cmd *cobra.Command, args []string, which func(kind.Dumper, *kind.Instance, string) ([]string, error)) (*exec.Cmd, error) {
	p, current, err := running(a, cmd, args[0])
	if err != nil {
		return nil, err
	}
	s := p.Service(args[0])
	k := p.Kind(s)
	d, ok := k.(kind.Dumper)
	if !ok {
		return nil, command.Misuse(fmt.Errorf("a service of kind %s has no program that writes or reads dumps; there are those of postgres, mariadb, mysql and sqlite", s.Kind))
	}
	if current.State != supervise.Ready && current.State != supervise.Ailing && !k.Info().NoProcess {
		return nil, fmt.Errorf("%s is %s; start it with: neighbour start %s", s.Name, current.State, s.Name)
	}
	in, err := p.Instance(s)
	if err != nil {
		return nil, err
	}
	if in.Program, err = k.Find(in); err != nil {
		return nil, err
	}
	database := ""
	if len(args) > 1 {
		database = args[1]
	}
	argv, err := which(d, in, database)
	if err != nil {
		return nil, err
	}
	c := exec.CommandContext(cmd.Context(), argv[0], argv[1:]...)
	c.Env = in.BasicEnv()
	c.WaitDelay = time.Second
	return c, nil
}

// counted counts what goes through it.
type counted struct {
	r io.Reader
	w io.Writer
	n atomic.Int64
}

func (c *counted) Read(b []byte) (int, error) {
	n, err := c.r.Read(b)
	c.n.Add(int64(n))
	return n, err
}

func (c *counted) Write(b []byte) (int, error) {
	n, err := c.w.Write(b)
	c.n.Add(int64(n))
	return n, err
}

// amount draws how many bytes of a size there are; without a size it is only said.
func amount(n, size int64) string {
	text := words.Bytes(uint64(n))
	if size <= 0 {
		return text
	}
	full := int(min(20, 20*n/size))
	return strings.Repeat("▰", full) + strings.Repeat("▱", 20-full) + " " + text + " of " + words.Bytes(uint64(size))
}

// dumping runs the command of a dump, and tells how far it is.
func dumping(ctx context.Context, a *command.App, c *exec.Cmd, through *counted, size int64) error {
	a.Out.Flush()
	var said strings.Builder
	c.Stderr = &said
	told := a.Telling(func() string { return amount(through.n.Load(), size) })
	err := c.Run()
	told()
	if err == nil {
		return nil
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	why := strings.TrimSpace(said.String())
	if lines := strings.Split(why, "\n"); len(lines) > 5 {
		why = strings.Join(lines[len(lines)-5:], "\n")
	}
	if why == "" {
		why = err.Error()
	}
	return fmt.Errorf("%s: %s", c.Args[0], why)
}
