package command

import (
	"strings"

	"neighbour/internal/api"
	"neighbour/internal/core/declaration/declare"
)

// Page returns the address of a service's page, "" if it has none.
func Page(st api.Status) string {
	for _, f := range st.Facts {
		if f.Name == declare.PublicURL {
			return f.Value
		}
	}
	for _, f := range st.Facts {
		if (f.Name == "url" || strings.HasSuffix(f.Name, "_url")) && strings.HasPrefix(f.Value, "http") && !f.Secret {
			return f.Value
		}
	}
	return ""
}
