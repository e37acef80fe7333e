package stub

import (
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"text/template"
	"time"
)

// functions are what templates can call beside those that all have.
var functions = template.FuncMap{
	"uuid": func() string {
		var b [16]byte
		_, _ = rand.Read(b[:])
		b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80 // RFC 9562, section 5.4
		t := hex.EncodeToString(b[:])
		return t[:8] + "-" + t[8:12] + "-" + t[12:16] + "-" + t[16:20] + "-" + t[20:]
	},
	"now":  func() string { return time.Now().UTC().Format(time.RFC3339) },
	"unix": func() int64 { return time.Now().Unix() },
	"json": func(v any) (string, error) {
		b, err := json.Marshal(v)
		return string(b), err
	},
	"upper": strings.ToUpper, "lower": strings.ToLower,
	"add": func(a, b any) (float64, error) {
		var x, y float64
		if _, err := fmt.Sscan(fmt.Sprint(a), &x); err != nil {
			return 0, fmt.Errorf("%v is no number", a)
		}
		if _, err := fmt.Sscan(fmt.Sprint(b), &y); err != nil {
			return 0, fmt.Errorf("%v is no number", b)
		}
		return x + y, nil
	},
}

// ParseTemplate reads a template.
func ParseTemplate(text string) (*template.Template, error) {
	t, err := template.New("answer").Funcs(functions).Option("missingkey=error").Parse(text)
	if err != nil {
		return nil, fmt.Errorf("%s", strings.TrimPrefix(err.Error(), "template: "))
	}
	return t, nil
}

// limited is a text that may not become too long.
type limited struct{ strings.Builder }

// mostRendered is how long what a template makes may be, in bytes.
const mostRendered = 16 << 20

func (l *limited) Write(b []byte) (int, error) {
	if l.Len()+len(b) > mostRendered {
		return 0, fmt.Errorf("it makes more than %d MB", mostRendered>>20)
	}
	return l.Builder.Write(b)
}

func render(t *template.Template, data map[string]any) (string, error) {
	if t == nil {
		return "", nil
	}
	var b limited
	if err := t.Execute(&b, data); err != nil {
		text := strings.TrimPrefix(err.Error(), "template: answer:")
		var known []string
		for name := range data {
			known = append(known, "."+name)
		}
		slices.Sort(known)
		return "", fmt.Errorf("the template can't be filled in: %s; there are %s", text, strings.Join(known, ", "))
	}
	return b.String(), nil
}

// at returns the value at a place in what a request has: "body.items.0.id".
func at(data map[string]any, place string) (any, bool) {
	var v any = data
	for name := range strings.SplitSeq(place, ".") {
		switch is := v.(type) {
		case map[string]any:
			next, ok := is[name]
			if !ok {
				return nil, false
			}
			v = next
		case map[string]string:
			next, ok := is[name]
			if !ok {
				return nil, false
			}
			v = next
		case []any:
			var i int
			if _, err := fmt.Sscan(name, &i); err != nil || i < 0 || i >= len(is) {
				return nil, false
			}
			v = is[i]
		default:
			return nil, false
		}
	}
	return v, true
}

// has reports whether a request has a value at a place; "*" is any.
func has(data map[string]any, place, want string) bool {
	v, ok := at(data, place)
	if !ok {
		return false
	}
	if want == "*" {
		return true
	}
	if text, is := v.(string); is {
		return text == want
	}
	b, err := json.Marshal(v)
	return err == nil && string(b) == want
}
