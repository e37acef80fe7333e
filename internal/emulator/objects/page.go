package objects

import (
	_ "embed"
	"html/template"
	"net/http"
	"net/url"
	"strings"
	"sync"

	"neighbour/internal/core/machine/localname"
	"neighbour/internal/core/machine/words"
)

//go:embed page.html
var pageText string

var pageTemplate = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("page").Parse(pageText))
})

// mostShown is how many objects of a bucket the page has.
const mostShown = 500

// browses reports whether a person has opened the server's address in a browser. A client
// of the protocol asks for no HTML.
func (q *request) browses() bool {
	return q.Method == http.MethodGet && q.URL.Path == "/" && q.bucket == "" && q.URL.RawQuery == "" && q.Header.Get("Authorization") == "" &&
		strings.Contains(q.Header.Get("Accept"), "text/html") && localname.Is(q.Host)
}

// page answers with what everybody may read.
func (s *Server) page(q *request) error {
	type shown struct {
		Key, Path, Size, At string
		Picture             bool
	}
	type bucket struct {
		Name         string
		Public, More bool
		Objects      []shown
	}
	buckets, err := s.Store.Buckets(q.Context())
	if err != nil {
		return err
	}
	var all []bucket
	for _, b := range buckets {
		in := bucket{Name: b.Name, Public: b.Public}
		if b.Public {
			objects, _, _, more, err := s.Store.List(q.Context(), Listing{Bucket: b.Name, Limit: mostShown})
			if err != nil {
				return err
			}
			in.More = more
			for _, o := range objects {
				path := url.URL{Path: "/" + b.Name + "/" + o.Key}
				in.Objects = append(in.Objects, shown{o.Key, path.EscapedPath(), words.Bytes(uint64(o.Size)), o.At.Local().Format("2006-01-02 15:04"),
					strings.HasPrefix(o.Headers["Content-Type"], "image/")})
			}
		}
		all = append(all, in)
	}
	h := q.w.Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Content-Security-Policy", "default-src 'none'; img-src 'self'; style-src 'unsafe-inline'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Cache-Control", "no-store")
	return pageTemplate().Execute(q.w, all)
}
