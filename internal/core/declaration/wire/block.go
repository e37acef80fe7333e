package wire

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
)

// The lines between which Neighbour writes in an env file.
const (
	blockBegin = "# neighbour: begin, written at each start; what is changed in here is lost"
	blockEnd   = "# neighbour: end"
	// How the lines are known, should their wording ever change.
	beginMark, endMark = "# neighbour: begin", "# neighbour: end"
)

// ErrBlock says that an env file has one of the lines between which Neighbour
// writes, and not the other.
var ErrBlock = errors.New(`the lines "` + beginMark + ` …" and "` + endMark + `" don't both stand there once, in this order; restore or remove them`)

// SetBlock puts variables between Neighbour's own lines of an env file, at
// the end if it has none yet. Everything else stays byte for byte. Without
// variables the lines are removed, if they are there.
func SetBlock(src []byte, vars []Variable) ([]byte, error) {
	from, to, err := findBlock(src)
	if err != nil {
		return nil, err
	}
	var block strings.Builder
	if len(vars) > 0 {
		block.WriteString(blockBegin + "\n")
		for _, v := range vars {
			text, _ := QuoteDotenv(v.Value)
			fmt.Fprintf(&block, "%s=%s\n", v.Name, text)
		}
		block.WriteString(blockEnd + "\n")
	}
	if from < 0 {
		if block.Len() == 0 {
			return src, nil
		}
		from, to = len(src), len(src)
		if len(src) > 0 && src[len(src)-1] != '\n' {
			return append(append(bytes.Clone(src), '\n'), block.String()...), nil
		}
	}
	return bytes.Join([][]byte{src[:from], []byte(block.String()), src[to:]}, nil), nil
}

// findBlock finds where the lines begin and end; -1 if there are none.
func findBlock(src []byte) (from, to int, err error) {
	from, to = -1, -1
	at := 0
	for line := range bytes.Lines(src) {
		switch text := bytes.TrimSpace(line); {
		case bytes.HasPrefix(text, []byte(beginMark)):
			if from >= 0 {
				return 0, 0, ErrBlock
			}
			from = at
		case bytes.HasPrefix(text, []byte(endMark)):
			if from < 0 || to >= 0 {
				return 0, 0, ErrBlock
			}
			to = at + len(line)
		}
		at += len(line)
	}
	if (from < 0) != (to < 0) {
		return 0, 0, ErrBlock
	}
	return from, to, nil
}
