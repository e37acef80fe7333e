package demo

import (
	"io"
	"log"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/emulator/identity"
)

// A member signs in to the page, and out; a sign-in that was begun elsewhere is none.
func TestDoor(t *testing.T) {
	t.Parallel()
	provider, err := identity.Open(t.TempDir(), identity.Config{People: []identity.Person{{Name: "Ines Brandt", Email: "ines@toolshed.example.org"}}}, log.New(io.Discard, "", 0))
	require.NoError(t, err)
	issuer := httptest.NewServer(provider.Handler())
	defer issuer.Close()
	d := newDoor(issuer.URL, "app")
	mux := http.NewServeMux()
	mux.HandleFunc("GET /", func(w http.ResponseWriter, r *http.Request) { _, _ = io.WriteString(w, "member: "+d.member(r)) })
	mux.HandleFunc("GET /sign-in", d.signIn)
	mux.HandleFunc("GET /back", d.back)
	mux.HandleFunc("GET /sign-out", d.signOut)
	page := httptest.NewServer(mux)
	defer page.Close()
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	browser := &http.Client{Jar: jar}
	read := func(resp *http.Response, err error) (string, *http.Response) {
		t.Helper()
		require.NoError(t, err)
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return string(b), resp
	}
	choose := func(choice url.Values) (string, *http.Response) {
		t.Helper()
		_, resp := read(browser.Get(page.URL + "/sign-in"))
		require.True(t, strings.HasPrefix(resp.Request.URL.String(), issuer.URL+"/authorize"), resp.Request.URL)
		choice.Set("ask", resp.Request.URL.RawQuery)
		return read(browser.PostForm(issuer.URL+"/authorize", choice))
	}
	ines := url.Values{"person": {identity.Person{Email: "ines@toolshed.example.org"}.ID()}}

	text, _ := read(browser.Get(page.URL))
	assert.Equal(t, "member: ", text)
	text, _ = choose(url.Values{"cancel": {"yes"}})
	assert.Equal(t, "member: ", text, "who did not want to")
	text, resp := choose(ines)
	assert.Equal(t, "member: Ines Brandt", text)
	assert.Equal(t, "/", resp.Request.URL.Path)
	for _, back := range []string{"/back?state=x&code=y", "/back"} {
		_, resp = read(browser.Get(page.URL + back))
		assert.Equal(t, 400, resp.StatusCode, back)
	}
	text, _ = read(browser.Get(page.URL + "/sign-out"))
	assert.Equal(t, "member: ", text)
	assert.Empty(t, (*door)(nil).member(httptest.NewRequest("GET", "/", nil)), "without a provider there are no members")
	assert.Nil(t, newDoor("", "app"))
}
