package main

import (
	"encoding/json"
	"fmt"
	"html"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"
)

var askOfPage = regexp.MustCompile(`name="ask" value="([^"]*)"`)
var personOfPage = regexp.MustCompile(`name="person" value="([^"]*)"`)

// benchIdentity signs somebody in again and again: the click, the code for tokens, userinfo.
func benchIdentity(dir string) error {
	if err := declare(dir, "[service.door]\nkind = \"identity\"\npeople = [{ name = \"Ines Brandt\", email = \"ines@toolshed.example.org\" }]\n"); err != nil {
		return err
	}
	if _, err := neighbour(dir, "start"); err != nil {
		return err
	}
	st, err := statusOf(dir, "door")
	if err != nil {
		return err
	}
	base := ""
	for _, f := range st.Facts {
		if f.Name == "url" {
			base = f.Value
		}
	}
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	body := func(resp *http.Response, err error) (string, *http.Response, error) {
		if err != nil {
			return "", nil, err
		}
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		return string(b), resp, err
	}
	const back = "http://localhost:5173/back"
	page, _, err := body(client.Get(base + "/authorize?" + url.Values{"client_id": {"web"}, "redirect_uri": {back}, "response_type": {"code"}, "scope": {"openid profile email offline_access"}}.Encode()))
	if err != nil {
		return err
	}
	ask, person := askOfPage.FindStringSubmatch(page), personOfPage.FindStringSubmatch(page)
	if ask == nil || person == nil {
		return fmt.Errorf("this is no page to sign in: %s", page)
	}
	form := url.Values{"ask": {html.UnescapeString(ask[1])}, "person": {person[1]}}
	var took []float64
	for range 200 {
		began := time.Now()
		_, resp, err := body(client.PostForm(base+"/authorize", form))
		if err != nil {
			return err
		}
		to, err := resp.Location()
		if err != nil {
			return err
		}
		text, _, err := body(client.PostForm(base+"/token", url.Values{"grant_type": {"authorization_code"}, "client_id": {"web"}, "redirect_uri": {back}, "code": {to.Query().Get("code")}}))
		if err != nil {
			return err
		}
		var tokens struct {
			Access string `json:"access_token"`
		}
		if err := json.Unmarshal([]byte(text), &tokens); err != nil {
			return err
		}
		r, err := http.NewRequest(http.MethodGet, base+"/userinfo", nil)
		if err != nil {
			return err
		}
		r.Header.Set("Authorization", "Bearer "+tokens.Access)
		text, _, err = body(client.Do(r))
		if err != nil || !strings.Contains(text, "Ines") {
			return fmt.Errorf("userinfo: %s: %w", text, err)
		}
		took = append(took, float64(time.Since(began).Microseconds())/1000)
	}
	slices.Sort(took)
	memory, err := residentOf(st.PID)
	if err != nil {
		return err
	}
	tell("identity/sign-in", "`identity`: a sign-in (the click, the code for tokens, userinfo), at the 95th percentile", atMost(15, "ms"), fmt.Sprintf("the median: %.1f ms", took[len(took)/2]), took[len(took)*95/100])
	tell("identity/memory", "… the provider", only("MB"), "", float64(memory)/(1<<20))
	return nil
}
