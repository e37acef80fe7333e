package mask

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"unicode/utf16"
)

// LeakError says that a masked value is still in the data: a second column has it, or
// something wrote it down elsewhere.
type LeakError struct{ Value, File string }

func (e *LeakError) Error() string {
	value := []rune(e.Value)
	return fmt.Sprintf("a masked value that begins with %q is still in %s: another column, a full-text index or an audit table has it; mask that, too, or the whole service with \"*\"", string(value[:min(3, len(value))])+"…", e.File)
}

// chunk is how much of a file is looked at at a time, in bytes.
const chunk = 4 << 20

// search searches files for masked values, as they are and in the usual
// encodings. Its error is a *LeakError if one is there.
func search(ctx context.Context, root string, values []string) error {
	forms := map[string]string{}
	longest := 0
	for _, v := range values {
		for _, form := range encodings(v) {
			forms[form] = v
			longest = max(longest, len(form))
		}
	}
	if len(forms) == 0 {
		return nil
	}
	buffer := make([]byte, chunk+longest)
	return filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		kept := 0 // of the chunk before, in which a value may have begun
		for {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			n, err := io.ReadFull(f, buffer[kept:])
			text := buffer[:kept+n]
			for form, value := range forms {
				if bytes.Contains(text, []byte(form)) {
					rel, _ := filepath.Rel(filepath.Dir(root), path)
					return &LeakError{value, rel}
				}
			}
			if err == io.EOF || err == io.ErrUnexpectedEOF {
				return nil
			}
			if err != nil {
				return err
			}
			kept = copy(buffer, text[len(text)-longest:])
		}
	})
}

// encodings returns a text as it may stand in a file.
func encodings(text string) []string {
	out := []string{text, hex.EncodeToString([]byte(text)), strings.ToUpper(hex.EncodeToString([]byte(text))), url.QueryEscape(text), url.PathEscape(text)}
	var little, big []byte
	for _, unit := range utf16.Encode([]rune(text)) {
		little, big = append(little, byte(unit), byte(unit>>8)), append(big, byte(unit>>8), byte(unit))
	}
	out = append(out, string(little), string(big))
	if quoted, err := json.Marshal(text); err == nil {
		out = append(out, strings.Trim(string(quoted), `"`))
	}
	// Three texts of base64 have it, by where it begins; what depends on its neighbours is left out.
	for before := range 3 {
		for _, e := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
			coded := e.EncodeToString(append(make([]byte, before), text...))
			from := []int{0, 2, 3}[before]
			if to := len(coded) - 1; to-from >= 8 {
				out = append(out, coded[from:to])
			}
		}
	}
	return out
}
