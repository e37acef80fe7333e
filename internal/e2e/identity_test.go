package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"regexp"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/testkit"
)

const door = `
[service.door]
kind = "identity"
sign_up = true
confirm = true
mail = "${postbox}"
people = [
  { name = "Ines Brandt", email = "ines@toolshed.example.org", roles = ["lender"] },
  { name = "Tom Okafor", email = "tom@toolshed.example.org", password = "hammer drill" },
]

[service.postbox]
kind = "mail"
`

// People sign in to apps that use clients which nobody here wrote; tokens outlive a killed
// provider.
func TestIdentityOfRealClients(t *testing.T) {
	t.Parallel()
	p := newProject(t, door)
	p.must("start")
	assert.Contains(t, p.must("__complete", "token", ""), "Ines Brandt\n")
	facts := p.status().Service["door"].Facts
	var out struct {
		Name, Email, Again, Own, Out string
		Roles                        []string
		Kids, Active, Gone           bool
		Device                       int
		Faults                       map[string]string
	}
	env := []string{"ISSUER=" + facts["url"], "CLIENT_ID=" + facts["client_id"], "CLIENT_SECRET=" + strings.TrimSpace(p.must("run", "--with", "door", "--", "printenv", "DOOR_CLIENT_SECRET")), "PERSON=Ines Brandt"}
	readJSON(t, client(t, env, "identity.mjs"), &out)
	assert.Equal(t, "Ines Brandt", out.Name)
	assert.Equal(t, "ines@toolshed.example.org", out.Email)
	assert.Equal(t, []string{"lender"}, out.Roles)
	assert.True(t, out.Kids, "another key signs")
	assert.True(t, out.Active)
	assert.False(t, out.Gone, "revoked")
	assert.Equal(t, "invalid_grant", out.Again, "a code is good once")
	assert.Equal(t, "tools.read", out.Own)
	assert.Equal(t, 9, out.Device)
	assert.Equal(t, "/logout", out.Out)
	assert.Len(t, out.Faults, 6)
	for fault, code := range out.Faults {
		assert.Regexp(t, "^ERR_J", code, fault)
	}

	ask := func(token string) int {
		r, err := http.NewRequest("GET", facts["url"]+"/userinfo", nil)
		require.NoError(t, err)
		r.Header.Set("Authorization", "Bearer "+token)
		resp, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		resp.Body.Close()
		return resp.StatusCode
	}
	token := strings.TrimSpace(p.must("token", "ines"))
	assert.Equal(t, 200, ask(token))
	assert.Equal(t, 401, ask(strings.TrimSpace(p.must("token", "tom@toolshed.example.org", "--fault", "revoked"))))
	r := p.run("token", "nobody")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "there are: Ines Brandt, Tom Okafor")
	before := p.status().Service["door"].PID
	require.NoError(t, syscall.Kill(before, syscall.SIGKILL))
	require.Eventually(t, func() bool { s := p.status().Service["door"]; return s.State == "ready" && s.PID != before }, patience, 20*time.Millisecond)
	assert.Equal(t, 200, ask(token), "its key and its sign-ins are kept")
	assert.Contains(t, p.must("data", "door", "sign-ins"), "ines@toolshed.example.org")
	assert.NotContains(t, p.must("logs", "door"), token, "no token is printed")
	assert.NotContains(t, p.must("data", "door", "people", "--json"), "hammer drill", "nor a password")

	s := open(t, p.dir, 142, 38)
	s.see(`2 of 2 ready`)
	s.press("8")
	s.see(`sign-ins`)
	s.see(`a more`)
	s.press("Up")
	s.see(`known still`)
	s.press("a")
	s.see(`have another key sign`)
}

var linkInMail = regexp.MustCompile(`http://\S+/confirm\?link=\S+`)

// Somebody makes an account in a browser, confirms the address by the mail, and signs in.
func TestSignUpInABrowser(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "chromium")
	var silent atomic.Value
	app := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprintf(w, "<!doctype html><p id=app>%s %s %s</p>", r.Method, r.FormValue("error"), map[bool]string{true: "signed in"}[r.FormValue("code") != ""])
		if frame := r.FormValue("frame"); frame != "" {
			fmt.Fprintf(w, "<iframe src=%q></iframe>", frame)
		}
		if r.FormValue("state") == "silent" {
			silent.Store(r.FormValue("error") + "code" + r.FormValue("code"))
		}
	}))
	defer app.Close()
	p := newProject(t, door)
	p.must("start")
	facts, inbox := p.status().Service["door"].Facts, p.status().Service["postbox"].Facts["url"]
	address := facts["url"] + "/authorize?" + url.Values{"client_id": {"web"}, "redirect_uri": {app.URL + "/back"}, "response_type": {"code"}, "scope": {"openid"}, "state": {"a&b"}}.Encode()

	b := browse(t)
	text := func() string { return evaluate[string](t, b.ctx, "document.body.innerText") }
	b.do(chromedp.EmulateViewport(360, 740), chromedp.Navigate(address), chromedp.WaitVisible("ul.people"))
	assert.LessOrEqual(t, evaluate[int](t, b.ctx, "document.documentElement.scrollWidth"), 360, "a phone's width is enough")
	b.do(chromedp.Click(`nav a[href^="/sign-up"]`), chromedp.WaitVisible(`input[name=name]`))
	b.do(chromedp.SendKeys(`input[name=name]`, "Ada Lind"), chromedp.SendKeys(`input[name=email]`, "ada@toolshed.example.org"), chromedp.SendKeys(`input[name=password]`, "two ladders"), chromedp.Click("button.send"))
	b.do(chromedp.WaitVisible(`//main/*[contains(., "Look into your mail")]`))
	var mails struct{ Messages []struct{ ID string } }
	_, list := fetch(t, inbox+"/messages")
	readJSON(t, list, &mails)
	require.Len(t, mails.Messages, 1)
	var mail struct{ Text string }
	_, whole := fetch(t, inbox+"/messages/"+mails.Messages[0].ID)
	readJSON(t, whole, &mail)
	link := linkInMail.FindString(mail.Text)
	require.NotEmpty(t, link, mail.Text)

	// Who has not confirmed the address can't sign in.
	choose := func() {
		b.do(chromedp.Navigate(address), chromedp.WaitVisible("ul.people"), chromedp.Click("ul.people li:nth-child(3) button"), chromedp.WaitVisible("input[name=password]"),
			chromedp.SendKeys("input[name=password]", "two ladders"), chromedp.Click("button.send"))
	}
	choose()
	b.do(chromedp.WaitVisible(`//main/*[contains(., "not been confirmed")]`))
	b.do(chromedp.Navigate(link))
	b.do(chromedp.WaitVisible(`//main/*[contains(., "Your address is confirmed")]`))
	choose()
	b.do(chromedp.WaitVisible("#app"))
	assert.Contains(t, text(), "signed in")
	// The browser is signed in now, and one click is a person.
	b.do(chromedp.Navigate(address), chromedp.WaitVisible("#app"))
	// The answer in a form goes back by itself.
	b.do(chromedp.Navigate(address+"&response_mode=form_post"), chromedp.WaitVisible("#app"))
	assert.Contains(t, text(), "POST signed in")
	// An app renews silently in a frame: of the same name as the provider by the browser's
	// cookie, and of another name of this machine, whose frames get none, by the ID token.
	renew := func(page, more string) string {
		silent.Store("")
		b.do(chromedp.Navigate(page + "/?frame=" + url.QueryEscape(strings.Replace(address, "state=a%26b", "state=silent", 1)+"&prompt=none"+more)))
		require.Eventually(t, func() bool { return silent.Load() != "" }, patience, 50*time.Millisecond)
		return silent.Load().(string)
	}
	assert.Regexp(t, "^code.+", renew(app.URL, ""))
	_, code, _ := strings.Cut(renew(app.URL, ""), "code")
	resp, err := http.PostForm(facts["url"]+"/token", url.Values{"grant_type": {"authorization_code"}, "client_id": {"web"}, "code": {code}, "redirect_uri": {app.URL + "/back"}})
	require.NoError(t, err)
	defer resp.Body.Close()
	var tokens struct {
		ID string `json:"id_token"`
	}
	require.NoError(t, json.NewDecoder(resp.Body).Decode(&tokens))
	localhost := strings.Replace(app.URL, "127.0.0.1", "localhost", 1)
	assert.Regexp(t, "^code.+", renew(localhost, "&id_token_hint="+tokens.ID))
	b.do(chromedp.Navigate(address+"&prompt=select_account"), chromedp.WaitVisible("ul.people"), chromedp.Click("ul.people li:first-child button"), chromedp.WaitVisible("#app"))
	assert.Contains(t, text(), "signed in")
	b.do(chromedp.Navigate(address+"&prompt=login"), chromedp.WaitVisible("ul.people"), chromedp.Click("button[name=cancel]"), chromedp.WaitVisible("#app"))
	assert.Contains(t, text(), "access_denied")
	// Another page can't sign one out.
	b.do(chromedp.Navigate(facts["url"]+"/logout"), chromedp.WaitVisible("button.send"))
	assert.Contains(t, text(), "Sign out?")
	b.do(chromedp.Navigate(address), chromedp.WaitVisible("#app"))
	b.do(chromedp.Navigate(facts["url"]+"/logout"), chromedp.Click("button.send"), chromedp.WaitVisible(`//main/*[contains(., "You are signed out")]`))
	b.do(chromedp.Navigate(address), chromedp.WaitVisible("ul.people"))
	b.end()
}
