package e2e

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"neighbour/internal/api"
	"neighbour/internal/testkit"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// gateState is what `neighbour gate --json` says.
type gateState struct {
	PID      int
	Ports    struct{ HTTPS, HTTP int }
	Projects []struct {
		Dir   string
		Names []struct{ Name, Service, URL, State, Taken string }
	}
}

// gated has projects of one user, whose gate is none of the other tests'.
type gated struct {
	*testing.T
	env []string
}

func newGated(t *testing.T) *gated {
	home := t.TempDir()
	g := &gated{t, []string{"NEIGHBOUR_GATE=on", "HOME=" + home, "XDG_STATE_HOME=" + filepath.Join(home, "state")}}
	t.Cleanup(func() { // it ends a moment after the last project
		assert.Eventually(t, func() bool { return runWith(t, g.env, home, "gate").code != 0 }, patience, 50*time.Millisecond)
		// Its process writes there for a little longer than it answers.
		assert.Eventually(t, func() bool {
			f, err := os.OpenFile(filepath.Join(home, "state/neighbour/gate/gate.lock"), os.O_RDWR, 0)
			if err != nil {
				return errors.Is(err, fs.ErrNotExist)
			}
			defer f.Close()
			return syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) == nil
		}, patience, 5*time.Millisecond)
	})
	for _, v := range []string{"NODE_EXTRA_CA_CERTS", "SSL_CERT_FILE", "SSL_CERT_DIR", "REQUESTS_CA_BUNDLE", "CURL_CA_BUNDLE", "JAVA_TOOL_OPTIONS"} {
		g.env = append(g.env, v+"=") // those of this machine
	}
	return g
}

func (g *gated) project(name, declaration string) *project {
	g.Helper()
	p := newProject(g.T, "[project]\nname = \""+name+"\"\n"+declaration)
	p.env = g.env
	return p
}

func (g *gated) state(p *project) gateState {
	g.Helper()
	var s gateState
	r := p.run("gate", "--json")
	if r.code == 0 {
		require.NoError(g, json.Unmarshal([]byte(r.stdout), &s))
	}
	return s
}

// choose has the gate take ports that nobody else has.
func (g *gated) choose() {
	g.Helper()
	dir := filepath.Join(strings.TrimPrefix(g.env[2], "XDG_STATE_HOME="), "neighbour/gate")
	require.NoError(g, os.MkdirAll(dir, 0o700))
	require.NoError(g, os.WriteFile(filepath.Join(dir, "ports.json"), fmt.Appendf(nil, `{"https": %d, "http": %d}`, freePort(g.T), freePort(g.T)), 0o600))
}

// client trusts the authority of the user and nothing else, and finds all names here.
func (g *gated) client() *http.Client {
	home := strings.TrimPrefix(g.env[2], "XDG_STATE_HOME=")
	b, err := os.ReadFile(filepath.Join(home, "neighbour/authority/authority.pem"))
	require.NoError(g, err)
	roots := x509.NewCertPool()
	require.True(g, roots.AppendCertsFromPEM(b))
	return &http.Client{Timeout: time.Minute, Transport: &http.Transport{
		TLSClientConfig: &tls.Config{RootCAs: roots}, ForceAttemptHTTP2: true, DisableKeepAlives: true,
		DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
			_, port, _ := net.SplitHostPort(address)
			return new(net.Dialer).DialContext(ctx, network, "127.0.0.1:"+port)
		},
	}}
}

// get asks for an address; the status is 0 if nobody answers.
func get(c *http.Client, address string) (int, string) {
	resp, err := c.Get(address)
	if err != nil {
		return 0, err.Error()
	}
	defer resp.Body.Close()
	b, _ := io.ReadAll(resp.Body)
	return resp.StatusCode, string(b)
}

func (g *gated) leads(c *http.Client, address, text string) {
	g.Helper()
	for deadline := time.Now().Add(patience); ; time.Sleep(20 * time.Millisecond) {
		_, last := get(c, address)
		if strings.Contains(last, text) {
			return
		}
		require.True(g, time.Now().Before(deadline), "%s does not lead to %s: %s", address, text, last)
	}
}

const site = "[service.web]\nkind = \"static\"\nroot = \"site\"\n"

// One gate serves the projects of a user: it comes with the first and goes with the last, it
// comes back when it is killed, and it leads on when a keeper is.
func TestGateOfSeveralProjects(t *testing.T) {
	t.Parallel()
	g := newGated(t)
	shed := g.project("shed", site+"[gate]\nnames = { \"street.localhost\" = \"web\", \"*.street.localhost\" = \"web\", \"street.localhost/mail\" = \"${postbox.url}\" }\n[service.postbox]\nkind = \"mail\"\n")
	orchard := g.project("orchard", site+"[service.api]\nrun = \"sleep 1000\"\nenv.WEB = \"${web.public_url}\"\n[gate]\nnames = { \"street.localhost\" = \"web\" }\n")
	shed.write("site/index.html", "of the shed")
	orchard.write("site/index.html", "of the orchard")
	garden := g.project("garden", site)
	garden.write("site/index.html", "of the garden")
	garden.must("start")
	shed.must("start")
	started := g.state(shed).PID
	garden.must("stop")
	var s gateState
	require.Eventually(t, func() bool { s = g.state(shed); return len(s.Projects) == 1 && len(s.Projects[0].Names) == 5 }, patience, 20*time.Millisecond)
	assert.Equal(t, started, s.PID, "it goes on when the project that started it ends")
	at := func(host, path string) string { return fmt.Sprintf("https://%s:%d%s", host, s.Ports.HTTPS, path) }
	c := g.client()
	g.leads(c, at("street.localhost", "/"), "of the shed")
	g.leads(c, at("ines.street.localhost", "/"), "of the shed")
	g.leads(c, at("shed.localhost", "/"), "of the shed")
	g.leads(c, at("street.localhost", "/mail/"), "<title>")
	// The page, and all that it takes, come from the inbox, by a path and by the path alone.
	for _, path := range []string{"/mail", "/mail/"} {
		code, text := get(c, at("street.localhost", path))
		assert.Equal(t, 200, code)
		assert.Contains(t, text, `<base href="/mail/">`)
	}
	for path, has := range map[string]string{"/mail/web/inbox.js": "EventSource(\"events\")", "/mail/web/inbox.css": "#list", "/mail/messages": `"messages"`} {
		code, text := get(c, at("street.localhost", path))
		assert.Equal(t, 200, code, path)
		assert.Contains(t, text, has, path)
	}
	g.leads(c, fmt.Sprintf("http://street.localhost:%d/", s.Ports.HTTP), "of the shed")
	g.leads(c, fmt.Sprintf("http://street.localhost:%d/", s.Ports.HTTPS), "of the shed")
	code, text := get(c, at("nobody.localhost", "/"))
	assert.Equal(t, 404, code, text)

	orchard.must("start")
	g.leads(c, at("orchard.localhost", "/"), "of the orchard")
	g.leads(c, at("street.localhost", "/"), "of the shed")
	assert.Equal(t, s.PID, g.state(orchard).PID)
	assert.Contains(t, orchard.must("gate"), "it leads to shed in "+shed.dir+", which had it first")
	public := at("orchard.localhost", "")
	if s.Ports.HTTPS == 443 {
		public = "https://orchard.localhost"
	}
	assert.Contains(t, []string{public, strings.Replace(public, "orchard", "street", 1)}, strings.TrimSpace(orchard.must("run", "--with", "api", "--", "printenv", "WEB")))
	assert.Contains(t, shed.must("traffic"), "street.localhost")
	assert.NotContains(t, orchard.must("traffic"), "of the shed")

	before := s.PID
	require.NoError(t, syscall.Kill(before, syscall.SIGKILL))
	g.leads(c, at("street.localhost", "/"), "of the shed")
	g.leads(c, at("orchard.localhost", "/"), "of the orchard")
	assert.NotEqual(t, before, g.state(shed).PID)

	require.NoError(t, syscall.Kill(shed.status().Keeper.PID, syscall.SIGKILL))
	for range 20 {
		code, text = get(c, at("shed.localhost", "/"))
		assert.Equal(t, 200, code, text)
	}
	shed.must("status") // which another keeper answers
	g.leads(c, at("shed.localhost", "/"), "of the shed")

	shed.must("stop")
	g.leads(c, at("street.localhost", "/"), "of the orchard")
	g.leads(c, at("shed.localhost", "/"), "leads nowhere")
	last := g.state(orchard).PID
	orchard.must("stop")
	require.Eventually(t, func() bool { return syscall.Kill(last, 0) != nil }, patience, 20*time.Millisecond, "the gate ends with the last project")
}

// When the gate has other ports, everything says the new addresses, and what is started again
// gets them.
func TestGateMoves(t *testing.T) {
	t.Parallel()
	g := newGated(t)
	p := g.project("shed", site+"[service.api]\nrun = \"exec sleep 1000\"\nenv.WEB = \"${web.public_url}\"\n")
	p.write("site/index.html", "of the shed")
	p.must("start")
	var s gateState
	addressed := func() bool {
		s = g.state(p)
		if len(s.Projects) != 1 || len(s.Projects[0].Names) != 2 {
			return false
		}
		for _, n := range s.Projects[0].Names {
			if u, err := url.Parse(n.URL); err != nil || cmp.Or(u.Port(), "443") != itoa(s.Ports.HTTPS) {
				return false
			}
		}
		return true
	}
	require.Eventually(t, addressed, patience, 20*time.Millisecond)
	before := s
	g.choose()
	require.NoError(t, syscall.Kill(before.PID, syscall.SIGKILL))
	require.Eventually(t, func() bool { return addressed() && s.PID != before.PID }, patience, 20*time.Millisecond)
	require.NotEqual(t, before.Ports, s.Ports)
	// The shorter of its names.
	public := fmt.Sprintf("https://shed.localhost:%d", s.Ports.HTTPS)
	assert.Equal(t, public, p.status().Service["web"].Facts["public_url"])
	web := func() string {
		b, err := os.ReadFile(fmt.Sprintf("/proc/%d/environ", p.status().Service["api"].PID))
		require.NoError(t, err)
		_, rest, _ := strings.Cut(string(b), "\x00WEB=")
		value, _, _ := strings.Cut(rest, "\x00")
		return value
	}
	assert.NotEqual(t, public, web(), "what it was started with")
	const outdated = "it was started with another WEB than it would get now"
	assert.Contains(t, p.run("check").stdout, outdated)
	p.must("restart")
	assert.NotContains(t, p.run("check").stdout, outdated)
	assert.Equal(t, public, web())
	g.leads(g.client(), public+"/", "of the shed")
	p.must("stop")
}

// While a service starts its name says so, it leads to it as soon as it is ready, and says why
// when it isn't any more.
func TestGateWhileServicesStart(t *testing.T) {
	t.Parallel()
	g := newGated(t)
	p := g.project("shed", `[service.web]
run = "sh -c 'echo warming up; while ! test -f go; do sleep 0.05; done; exec python3 -m http.server --bind 127.0.0.1 $PORT'"
port = "any"
[service.broken]
run = "sh -c 'echo no such table >&2; exit 3'"
port = "any"
`)
	p.must("start", "--no-wait")
	var s gateState
	require.Eventually(t, func() bool { s = g.state(p); return len(s.Projects) == 1 && len(s.Projects[0].Names) == 3 }, patience, 20*time.Millisecond)
	c := g.client()
	at := func(name string) string { return fmt.Sprintf("https://%s.localhost:%d/", name, s.Ports.HTTPS) }
	g.leads(c, at("shed"), `"state":"starting"`)
	code, text := get(c, at("shed"))
	assert.Equal(t, 503, code, text)
	page := func(name string) string {
		req, _ := http.NewRequest("GET", at(name), nil)
		req.Header.Set("Accept", "text/html")
		resp, err := c.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		b, _ := io.ReadAll(resp.Body)
		return string(b)
	}
	require.Eventually(t, func() bool { return strings.Contains(page("shed"), "warming up") }, patience, 20*time.Millisecond)
	require.Eventually(t, func() bool { return strings.Contains(page("broken.shed"), "broken is failed") }, patience, 20*time.Millisecond)
	text = page("broken.shed")
	for _, part := range []string{"exit 3", "no such table", "neighbour start broken"} {
		assert.Contains(t, text, part)
	}
	p.write("go", "")
	g.leads(c, at("shed"), "Directory listing")
	p.must("stop", "web")
	g.leads(c, at("shed"), `"state":"stopped"`)
	assert.Contains(t, page("shed"), "neighbour start web")
}

const live = `
const http = require("http"), crypto = require("crypto");
http.createServer((q, a) => {
  a.setHeader("Content-Type", "text/html");
  a.end("<title>the shed</title><p id=app>of the shed");
}).on("upgrade", (q, s) => {
  const key = crypto.createHash("sha1").update(q.headers["sec-websocket-key"] + "258EAFA5-E914-47DA-95CA-C5AB0DC85B11").digest("base64");
  s.write("HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nSec-WebSocket-Accept: " + key + "\r\n\r\n");
  s.write(Buffer.concat([Buffer.from([0x81, 5]), Buffer.from("drill")]));
  s.on("error", () => {});
}).listen(process.env.PORT, "127.0.0.1");
`

// A browser that trusts the authority opens an https name without a warning, by HTTP/2 and with
// a WebSocket; the page that waits turns into the app.
func TestGateInABrowser(t *testing.T) {
	t.Parallel()
	g := newGated(t)
	p := g.project("shed", "[service.web]\nrun = \"sh -c 'while ! test -f go; do sleep 0.05; done; exec node live.js'\"\nport = \"any\"\n")
	p.write("live.js", live)
	assert.Contains(t, p.must("trust", "--only", "browsers", "--yes"), "1 list changed")
	assert.Contains(t, p.must("trust", "--only", "browsers", "--yes"), "nothing is left to add")
	p.must("start", "--no-wait")
	var s gateState
	require.Eventually(t, func() bool { s = g.state(p); return len(s.Projects) == 1 && len(s.Projects[0].Names) == 2 }, patience, 20*time.Millisecond)

	b := browse(t, g.env...)
	ctx, do := b.ctx, b.do
	address := fmt.Sprintf("https://shed.localhost:%d/", s.Ports.HTTPS)
	do(chromedp.Navigate(address), chromedp.WaitVisible("#title"))
	assert.Contains(t, evaluate[string](t, ctx, `document.title`), "web is starting")
	p.write("go", "")
	do(chromedp.WaitVisible("#app"))
	assert.Equal(t, "the shed", evaluate[string](t, ctx, `document.title`))
	assert.Equal(t, "h2", evaluate[string](t, ctx, `performance.getEntriesByType("navigation")[0].nextHopProtocol`))
	assert.True(t, evaluate[bool](t, ctx, `isSecureContext`))
	evaluate[int](t, ctx, fmt.Sprintf(`window.said = ""; new WebSocket("wss://shed.localhost:%d/live").onmessage = e => { window.said = e.data }; 1`, s.Ports.HTTPS))
	require.Eventually(t, func() bool { return evaluate[string](t, ctx, `window.said`) == "drill" }, patience, 20*time.Millisecond)
	assert.Contains(t, p.must("traffic"), "101")
	b.end()

	assert.Contains(t, p.must("trust", "--only", "browsers", "--remove", "--yes"), "1 list changed")
}

// What a program does to call a name by https. Each prints the page.
var callers = map[string]string{
	"curl":   `curl -sS "$1"`,
	"node":   `node -e 'fetch(process.argv[1]).then(r => r.text()).then(t => console.log(t), e => console.log(e.cause || e))' "$1"`,
	"python": `python3 -c 'import sys, urllib.request; print(urllib.request.urlopen(sys.argv[1]).read().decode())' "$1"`,
	"java":   `java Call.java "$1"`,
	"go":     `./call "$1"`,
}

const callJava = `import java.net.*;
public class Call {
	public static void main(String[] a) throws Exception {
		System.out.println(new String(new URL(a[0]).openStream().readAllBytes()));
	}
}
`

const callGo = `package main

import (
	"fmt"
	"io"
	"net/http"
	"os"
)

func main() {
	r, err := http.Get(os.Args[1])
	if err != nil {
		fmt.Println(err)
		return
	}
	b, _ := io.ReadAll(r.Body)
	fmt.Println(string(b))
}
`

// With nothing but the variables that programs get, each runtime calls a name by https, once the
// names are in the hosts file, which is as it was afterwards.
func TestGateOfRuntimes(t *testing.T) {
	g := newGated(t)
	p := g.project("toolshed-e2e-"+strconv.Itoa(os.Getpid()), site+"[service.app]\nrun = \"sh -c 'sleep 1000; java Call.java'\"\n")
	p.write("site/index.html", "of the shed")
	p.write("Call.java", callJava)
	p.write("call.go", callGo)
	build := exec.Command("go", "build", "-o", "call", "call.go")
	build.Dir = p.dir
	out, err := build.CombinedOutput()
	require.NoError(t, err, string(out))
	p.must("start")
	var s gateState
	require.Eventually(t, func() bool { s = g.state(p); return len(s.Projects) == 1 && len(s.Projects[0].Names) == 2 }, patience, 20*time.Millisecond)
	address := ""
	for _, n := range s.Projects[0].Names {
		if n.Service == "web" && !strings.HasPrefix(n.Name, "web.") {
			address = n.URL + "/"
		}
	}
	if os.Getuid() != 0 { // who can't write to the hosts file; another part of the run is root's
		u, err := url.Parse(address)
		require.NoError(t, err)
		r := p.run("run", "--with", "app", "--", "curl", "-sS", "--resolve", u.Hostname()+":"+cmp.Or(u.Port(), "443")+":127.0.0.1", address)
		assert.Contains(t, r.stdout, "of the shed", r.stderr)
		// What it has the administrator do has nothing of the project in it.
		bin := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(bin, "sudo"), []byte("#!/bin/sh\nprintf '%s ' \"$@\" >"+bin+"/asked\n"), 0o755))
		p.env = append(slices.Clone(p.env), "PATH="+bin+":"+os.Getenv("PATH"))
		p.must("gate", "hosts", "--write", "--yes")
		asked, err := os.ReadFile(filepath.Join(bin, "asked"))
		require.NoError(t, err)
		assert.Contains(t, string(asked), " gate hosts --of toolshed-e2e-")
		assert.Contains(t, string(asked), " -- "+u.Hostname()+" ")
		assert.NotContains(t, string(asked), p.dir)
		return
	}
	hosts, err := os.ReadFile("/etc/hosts")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.WriteFile("/etc/hosts", hosts, 0o644) })
	assert.Contains(t, p.run("check").stdout, "resolver does not know")
	assert.Contains(t, p.must("gate", "hosts", "--write", "--yes"), "# Neighbour: toolshed-e2e")
	r := p.run("check")
	assert.NotContains(t, r.stdout, "resolver does not know")
	for name, call := range callers {
		program, _, _ := strings.Cut(call, " ")
		if _, err := exec.LookPath(program); err != nil && name == "java" {
			continue // the one that the tests don't install
		}
		r = p.run("run", "--with", "app", "--", "sh", "-c", call, "sh", address)
		assert.Contains(t, r.stdout, "of the shed", "%s: %s", name, r.stderr)
	}
	as := func() {
		t.Helper()
		b, err := os.ReadFile("/etc/hosts")
		require.NoError(t, err)
		assert.Equal(t, string(hosts), string(b))
	}
	p.must("gate", "hosts", "--remove", "--yes")
	as()
	p.must("gate", "hosts", "--write", "--yes")
	p.must("stop") // which leaves none behind
	as()
	// As the administrator does it for somebody else.
	p.must("gate", "hosts", "--of", "toolshed-e2e-of", "--", "of.toolshed.localhost")
	written, err := os.ReadFile("/etc/hosts")
	require.NoError(t, err)
	assert.Contains(t, string(written), "127.0.0.1 of.toolshed.localhost")
	assert.Equal(t, 2, p.run("gate", "hosts", "--of", "toolshed-e2e-of", "--", "a b").code)
	p.must("gate", "hosts", "--of", "toolshed-e2e-of", "--")
	as()
}

// Of an answer that was not meant it is said why: where the file is, and what was printed.
func TestGateSaysWhy(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "node")
	g := newGated(t)
	p := g.project("shed", site+"[service.api]\nrun = \"node api.js\"\nport = \"any\"\nneeds = [\"web\"]\n")
	p.write("site/index.html", "of the shed")
	p.write("public/logo.svg", "<svg/>")
	p.write("api.js", `require("http").createServer((q, a) => {
  if (q.url == "/loans") { console.error("ERROR the drill is lent"); a.statusCode = 500 }
  a.end("x")
}).listen(process.env.PORT, "127.0.0.1")`)
	p.must("start")
	var s gateState
	require.Eventually(t, func() bool { s = g.state(p); return len(s.Projects) == 1 && len(s.Projects[0].Names) == 3 }, patience, 20*time.Millisecond)
	ask := func(host, path string) {
		r, err := http.NewRequest("GET", fmt.Sprintf("http://127.0.0.1:%d%s", s.Ports.HTTP, path), nil)
		require.NoError(t, err)
		r.Host = host + ".localhost"
		resp, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		resp.Body.Close()
	}
	type exchange struct {
		ID      int64
		Status  int
		Why     string
		Printed []struct{ Service, Text string }
	}
	last := func(path string) (e exchange) {
		t.Helper()
		var all struct{ Exchanges []exchange }
		p.ask("/v"+api.Version+"/traffic?filter="+path, &all)
		require.NotEmpty(t, all.Exchanges)
		p.ask(fmt.Sprintf("/v"+api.Version+"/traffic/%d", all.Exchanges[0].ID), &e)
		return e
	}
	ask("web.shed", "/logo.svg")
	ask("api.shed", "/loans")
	assert.Equal(t, `there is no logo.svg in its web root site, and there is one in public: root = "public" would serve it`, last("logo").Why)
	require.Eventually(t, func() bool { return len(last("loans").Printed) > 0 }, patience, 50*time.Millisecond)
	e := last("loans")
	assert.Equal(t, 500, e.Status)
	assert.Equal(t, "api", e.Printed[0].Service)
	assert.Contains(t, e.Printed[0].Text, "the drill is lent")

	screen := openWith(t, p.env, p.dir, 142, 38)
	screen.see(`2 of 2 ready`)
	screen.press("9")
	screen.see(`printed meanwhile`)
	screen.see(`the drill is lent`)
	screen.press("Down")
	screen.see(`would serve it`)
}

// The gate leaves a port that a project declares, and leads everybody on from another.
func TestGateLeavesDeclaredPorts(t *testing.T) {
	t.Parallel()
	g := newGated(t)
	shed := g.project("shed", site)
	shed.write("site/index.html", "of the shed")
	g.choose()
	shed.must("start")
	before := g.state(shed)
	port := before.Ports.HTTP
	orchard := g.project("orchard", fmt.Sprintf("[service.web]\nrun = \"python3 -m http.server --bind 127.0.0.1 %d\"\nport = %d\n", port, port))
	orchard.write("index.html", "of the orchard")
	assert.NotContains(t, orchard.run("check").stdout, fmt.Sprintf("port %d is held by", port), "the gate is in nobody's way")
	orchard.must("start")
	_, text := get(http.DefaultClient, fmt.Sprintf("http://127.0.0.1:%d/index.html", port))
	assert.Equal(t, "of the orchard", text)
	require.Eventually(t, func() bool {
		var s gateState
		r := shed.run("gate", "--json")
		return r.code == 0 && json.Unmarshal([]byte(r.stdout), &s) == nil && len(s.Projects) == 2 && s.Ports.HTTP != port
	}, patience, 50*time.Millisecond)
	now := g.state(shed)
	c := g.client()
	g.leads(c, fmt.Sprintf("https://shed.localhost:%d/", now.Ports.HTTPS), "of the shed")
	g.leads(c, fmt.Sprintf("https://orchard.localhost:%d/index.html", now.Ports.HTTPS), "of the orchard")
	assert.Equal(t, strings.TrimSuffix(fmt.Sprintf("https://shed.localhost:%d", now.Ports.HTTPS), ":443"), shed.status().Service["web"].Facts["public_url"])
}
