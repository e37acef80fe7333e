package traffic

import (
	"bytes"
	"fmt"
	"io"
	"mime/multipart"
)

// parts lists what a form with files (RFC 7578) has, as far as it was kept.
func parts(data []byte, boundary string) []Field {
	var out []Field
	for r := multipart.NewReader(bytes.NewReader(data), boundary); boundary != ""; {
		p, err := r.NextPart()
		if err != nil {
			break
		}
		value, _ := io.ReadAll(p)
		text := string(value)
		if p.FileName() != "" {
			text = fmt.Sprintf("the file %s, %s", p.FileName(), count(int64(len(value))))
		} else if !isText(value) {
			text = "no text, " + count(int64(len(value)))
		}
		out = append(out, Field{p.FormName(), text, Secret(p.FormName())})
	}
	return out
}
