package command

import (
	"bytes"
	"io"

	"neighbour/internal/display"
)

// Cleaner passes on text for people: what programs, files and other users have
// a say in can't move the cursor, set the title or reach the clipboard, and has
// no colours. It is for one goroutine at a time.
type Cleaner struct {
	To   io.Writer
	rest []byte // of a line that is not complete
}

// Write cleans the lines that are complete. What is left comes out with the
// next ones, or with Flush.
func (c *Cleaner) Write(b []byte) (int, error) {
	all := append(c.rest, b...)
	end := bytes.LastIndexByte(all, '\n') + 1
	c.rest = append([]byte(nil), all[end:]...)
	return len(b), c.write(all[:end])
}

func (c *Cleaner) write(b []byte) error {
	var out bytes.Buffer
	for line := range bytes.Lines(b) {
		text := bytes.TrimSuffix(line, []byte{'\n'})
		out.WriteString(display.Plain(string(text)))
		if len(text) < len(line) {
			out.WriteByte('\n')
		}
	}
	_, err := c.To.Write(out.Bytes())
	return err
}

// Flush writes a last line that has no end.
func (c *Cleaner) Flush() error {
	rest := c.rest
	c.rest = nil
	if len(rest) == 0 {
		return nil
	}
	return c.write(rest)
}
