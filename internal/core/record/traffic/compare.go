package traffic

import (
	"fmt"
	"slices"
	"strings"
)

// Difference is what two exchanges do not have in common. A side that has none of it is "".
type Difference struct {
	What   string
	A, B   string
	Secret bool
}

// Compare lists what is different in two exchanges, other than when they were.
func Compare(a, b Shown) []Difference {
	var out []Difference
	add := func(what, a, b string, secret bool) {
		if a != b {
			out = append(out, Difference{what, a, b, secret})
		}
	}
	add("method", a.Method, b.Method, false)
	add("address", a.Scheme+"://"+a.Host+a.Path, b.Scheme+"://"+b.Host+b.Path, false)
	add("status", fmt.Sprint(a.Status), fmt.Sprint(b.Status), false)
	add("took", Took(a.TookMS), Took(b.TookMS), false)
	add("size", count(a.Received), count(b.Received), false)
	for _, part := range []struct {
		what string
		a, b []Field
	}{
		{"request", a.Request.Headers, b.Request.Headers}, {"form", a.Request.Form, b.Request.Form}, {"answer", a.Response.Headers, b.Response.Headers},
	} {
		for _, name := range names(part.a, part.b) {
			if slices.Contains(passing, name) {
				continue
			}
			add(part.what+" "+name, valueOf(part.a, name), valueOf(part.b, name), Secret(name))
		}
	}
	out = append(out, lines("request body", a.Request.Text, b.Request.Text)...)
	return append(out, lines("answer", a.Response.Text, b.Response.Text)...)
}

// passing are headers that differ from one request to the next and mean nothing.
var passing = []string{"Date", "X-Request-Id", "Traceparent"}

func names(all ...[]Field) []string {
	var out []string
	for _, fields := range all {
		for _, f := range fields {
			out = append(out, f.Name)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func valueOf(fields []Field, name string) string {
	var out []string
	for _, f := range fields {
		if f.Name == name {
			out = append(out, f.Value)
		}
	}
	return strings.Join(out, ", ")
}

// mostLines is of how many lines a body is compared.
const mostLines = 2000

// lines compares texts line by line: what only one of them has, in order, with the longest part
// that both have at the beginning and at the end left out.
func lines(what, a, b string) []Difference {
	if a == b {
		return nil
	}
	as, bs := strings.Split(a, "\n"), strings.Split(b, "\n")
	as, bs = as[:min(len(as), mostLines)], bs[:min(len(bs), mostLines)]
	from := 0
	for from < len(as) && from < len(bs) && as[from] == bs[from] {
		from++
	}
	end := 0
	for end < len(as)-from && end < len(bs)-from && as[len(as)-1-end] == bs[len(bs)-1-end] {
		end++
	}
	as, bs = as[from:len(as)-end], bs[from:len(bs)-end]
	var out []Difference
	for i := range max(len(as), len(bs)) {
		d := Difference{What: fmt.Sprintf("%s, line %d", what, from+i+1)}
		if i < len(as) {
			d.A = as[i]
		}
		if i < len(bs) {
			d.B = bs[i]
		}
		if d.A != d.B {
			out = append(out, d)
		}
	}
	return out
}
