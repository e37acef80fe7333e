package discover

import (
	"net/url"
	"slices"
	"strings"

	"neighbour/internal/core/declaration/wire"
	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/lazyregexp"
)

// openIDConfiguration is where a provider says all else of itself (OpenID Connect Discovery 1.0,
// section 4).
const openIDConfiguration = "/.well-known/openid-configuration"

// webServer returns the kind of server that a variable with an address of the web leads to, and
// what is kept of the address's path.
func webServer(variable string, u *url.URL) (h kind.Hinted, path string, ok bool) {
	words := strings.Split(variable, "_")
	if strings.HasSuffix(u.Path, openIDConfiguration) {
		path = openIDConfiguration
	}
	// Other providers have a path in the name of an issuer; what else has one is a page of the app.
	whole := strings.Trim(u.Path, "/") == "" || path != "" || slices.Contains(words, "ISSUER")
	for _, h := range kind.Hinting() {
		if h.Web && whole && (variable == h.Variable || slices.ContainsFunc(words, func(word string) bool { return slices.Contains(h.Words, word) })) {
			return h, path, true
		}
	}
	return h, "", false
}

// besideAddresses finds the variables that stand beside the address of a server of the web, as its
// keys do: STORAGE_KEY beside STORAGE_ENDPOINT.
func (r *reader) besideAddresses() {
	for _, w := range r.wanted {
		u, err := url.Parse(w.value)
		if err != nil || w.by != nil || u.Scheme != "http" && u.Scheme != "https" || !wire.Local(u.Hostname()) || u.Port() == "" {
			continue
		}
		h, _, ok := webServer(w.name, u)
		prefix := addressWords.ReplaceAllString(w.name, "")
		if !ok || prefix == w.name || prefix == "" {
			continue
		}
		for _, other := range r.wanted {
			word, beside := strings.CutPrefix(other.name, prefix+"_")
			fact := h.Beside[word]
			switch {
			case !beside || other.file != w.file:
			case fact != "":
				r.give(other, r.server(h.Kind, w.finding("leads to %s on %s", h.Title, u.Host)), "${@."+fact+"}")
			case h.Kind == "objects" && (word == "BUCKET" || word == "BUCKET_NAME") && bucketName.MatchString(other.value):
				target := r.server(h.Kind, other.finding("is a bucket"))
				target.Lines = append(target.Lines, "buckets = "+list([]string{other.value}))
			}
		}
	}
}

// addressWords end the name of a variable that holds an address of the web.
var addressWords = lazyregexp.New(`_(ENDPOINT|ISSUER|AUTHORITY|URL|URI|HOST)(_URL|_URI)?$`)

// bucketName is what is taken for the name of a bucket.
var bucketName = lazyregexp.New(`^[a-z0-9][a-z0-9.-]{1,61}[a-z0-9]$`)
