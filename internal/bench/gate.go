package main

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"neighbour/internal/core/machine/authority"
	"neighbour/internal/core/project"
	"neighbour/internal/gate/control"
)

// benchGate compares the gate with nginx as a proxy before the same services, with the traffic
// recorded: a file that nginx serves, which costs next to nothing, and a small app in Node. Then
// it measures what 2,000 open WebSockets take.
func benchGate(dir string) error {
	if err := os.WriteFile(filepath.Join(dir, "app.js"), []byte(benchApp), 0o644); err != nil {
		return err
	}
	ports, err := freePorts(3)
	if err != nil {
		return err
	}
	sockets := httptest.NewServer(http.HandlerFunc(echoUpgraded))
	defer sockets.Close()
	text := fmt.Sprintf("[gate]\nnames = { \"file.localhost\" = \"http://127.0.0.1:%d\", \"app.localhost\" = \"${app.url}\", \"live.localhost\" = %q }\n[service.app]\nrun = \"node app.js\"\nport = \"any\"\nhealth = { http = \"/\" }\n", ports[0], sockets.URL)
	if err := declare(dir, text); err != nil {
		return err
	}
	if _, err := neighbour(dir, "start"); err != nil {
		return err
	}
	p, err := project.Open(dir)
	if err != nil {
		return err
	}
	app, err := p.Port(p.Service("app"))
	if err != nil {
		return err
	}
	stop, err := startNginx(dir, ports, app)
	if err != nil {
		return err
	}
	defer stop()
	gate, err := project.ReadGatePorts()
	if err != nil {
		return err
	}
	for _, name := range []string{"file", "app"} {
		if err := awaitName(gate.HTTP, name+".localhost"); err != nil {
			return err
		}
		bare, bareTLS, stop := startBare(map[string]int{"file": ports[0], "app": app}[name])
		defer stop()
		for _, scheme := range []struct {
			name              string
			ours, nginx, bare int
		}{{"http", gate.HTTP, ports[1], bare}, {"https", gate.HTTPS, ports[2], bareTLS}} {
			var ratios, beside, more []float64
			var ours load
			for range 3 {
				theirs, err := wrk(scheme.name, scheme.nginx, name+".localhost")
				if err != nil {
					return err
				}
				if ours, err = wrk(scheme.name, scheme.ours, name+".localhost"); err != nil {
					return err
				}
				nothing, err := wrk(scheme.name, scheme.bare, name+".localhost")
				if err != nil {
					return err
				}
				ratios, more = append(ratios, ours.rate/theirs.rate), append(more, ours.median-theirs.median)
				beside = append(beside, ours.rate/nothing.rate)
			}
			key, what := "gate/"+name+"/"+scheme.name, fmt.Sprintf("the gate, with what passes recorded, before %s by %s", map[string]string{"file": "a file that costs next to nothing", "app": "an app in Node"}[name], scheme.name)
			tell(key+"/bare", what+": its rate, to the standard library's bare reverse proxy's", atLeast(0.95, "×"), fmt.Sprintf("%.0f/s", ours.rate), beside...)
			tell(key+"/nginx", "… to nginx's as a proxy", only("×"), "", ratios...)
			tell(key+"/more", "… more than nginx at the median", atMost(1.5, "ms"), "", more...)
		}
	}
	return benchSockets(gate)
}

const benchApp = `
const tools = Array.from({ length: 40 }, (_, i) => ({ id: i, name: "hammer drill " + i, street: "Elm Street" }));
require("http").createServer((q, a) => {
  a.setHeader("Content-Type", "application/json");
  a.end(JSON.stringify({ tools }));
}).listen(process.env.PORT, "127.0.0.1");
`

// startBare starts a ReverseProxy that does nothing but pass requests on, which tells what can
// be had of it at most.
func startBare(port int) (plain, secure int, stop func()) {
	u := &url.URL{Scheme: "http", Host: fmt.Sprintf("127.0.0.1:%d", port)}
	bare := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) { r.SetURL(u) }, Transport: &http.Transport{MaxIdleConnsPerHost: 256}, BufferPool: &buffers{}, ErrorLog: log.New(io.Discard, "", 0)}
	one, two := httptest.NewServer(bare), httptest.NewTLSServer(bare)
	return one.Listener.Addr().(*net.TCPAddr).Port, two.Listener.Addr().(*net.TCPAddr).Port, func() {
		one.Close()
		two.Close()
	}
}

// buffers are for a ReverseProxy to copy with.
type buffers struct{ sync.Pool }

func (b *buffers) Get() []byte {
	if buf, ok := b.Pool.Get().(*[]byte); ok {
		return *buf
	}
	return make([]byte, 32<<10)
}

func (b *buffers) Put(buf []byte) { b.Pool.Put(&buf) }

func freePorts(n int) ([]int, error) {
	var out []int
	for range n {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return nil, err
		}
		defer l.Close()
		out = append(out, l.Addr().(*net.TCPAddr).Port)
	}
	return out, nil
}

// startNginx starts nginx as the file's server on the first port, and as a proxy by http and by
// https on the others.
func startNginx(dir string, ports []int, app int) (stop func(), err error) {
	own, err := authority.Open(project.AuthorityDir())
	if err != nil {
		return nil, err
	}
	c, err := own.Leaf("127.0.0.1")
	if err != nil {
		return nil, err
	}
	key, err := x509.MarshalPKCS8PrivateKey(c.PrivateKey)
	if err != nil {
		return nil, err
	}
	files := map[string][]byte{"key.pem": pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key}), "html/index.html": []byte("ok\n")}
	for _, der := range c.Certificate {
		files["cert.pem"] = append(files["cert.pem"], pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})...)
	}
	var b strings.Builder
	fmt.Fprintf(&b, "worker_processes 2; daemon off; pid %[1]s/pid; error_log %[1]s/err;\nevents { worker_connections 1024; }\nhttp { access_log off; keepalive_requests 10000000;\n", dir)
	for i, temp := range []string{"client_body", "proxy", "fastcgi", "uwsgi", "scgi"} {
		fmt.Fprintf(&b, "%s_temp_path %s/t%d;\n", temp, dir, i)
	}
	fmt.Fprintf(&b, "server { listen 127.0.0.1:%d; root %s/html; }\n", ports[0], dir)
	for name, port := range map[string]int{"file": ports[0], "app": app} {
		fmt.Fprintf(&b, "upstream %[1]s { server 127.0.0.1:%[2]d; keepalive 64; keepalive_requests 10000000; }\n", name, port)
		for i, listen := range []string{strconv.Itoa(ports[1]), strconv.Itoa(ports[2]) + " ssl"} {
			tls := ""
			if i == 1 {
				tls = fmt.Sprintf("ssl_certificate %[1]s/cert.pem; ssl_certificate_key %[1]s/key.pem;", dir)
			}
			fmt.Fprintf(&b, "server { listen 127.0.0.1:%s; server_name %s.localhost; %s location / { proxy_pass http://%s; proxy_http_version 1.1; proxy_set_header Connection \"\"; proxy_set_header Host $host; } }\n", listen, name, tls, name)
		}
	}
	b.WriteString("}\n")
	files["nginx.conf"] = []byte(b.String())
	for name, data := range files {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return nil, err
		}
		if err := os.WriteFile(path, data, 0o644); err != nil {
			return nil, err
		}
	}
	if err := os.Chmod(filepath.Dir(dir), 0o755); err != nil { // its workers are another user's
		return nil, err
	}
	cmd := exec.Command("/usr/sbin/nginx", "-c", filepath.Join(dir, "nginx.conf"))
	var said bytes.Buffer
	cmd.Stderr = &said
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	stop = func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait()
	}
	for range 500 {
		if conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", ports[2])); err == nil {
			conn.Close()
			return stop, nil
		}
		time.Sleep(10 * time.Millisecond)
	}
	stop()
	return nil, fmt.Errorf("nginx does not start: %s", &said)
}

// awaitName waits until a name leads somewhere.
func awaitName(port int, host string) error {
	for range 500 {
		req, err := http.NewRequest(http.MethodGet, fmt.Sprintf("http://127.0.0.1:%d/", port), nil)
		if err != nil {
			return err
		}
		req.Host = host
		if resp, err := http.DefaultClient.Do(req); err == nil {
			resp.Body.Close()
			if resp.StatusCode == http.StatusOK {
				return nil
			}
		}
		time.Sleep(10 * time.Millisecond)
	}
	return fmt.Errorf("%s leads nowhere", host)
}

type load struct{ rate, median float64 }

var (
	wrkRate   = regexp.MustCompile(`Requests/sec:\s+([\d.]+)`)
	wrkMedian = regexp.MustCompile(`50%\s+([\d.]+)(us|ms|s)`)
)

// wrk asks for a page as often as it can, with 32 connections that stay.
func wrk(scheme string, port int, host string) (load, error) {
	out, err := exec.Command("wrk", "-t1", "-c32", "-d4s", "--latency", "-H", "Host: "+host, fmt.Sprintf("%s://127.0.0.1:%d/", scheme, port)).CombinedOutput()
	if err != nil {
		return load{}, fmt.Errorf("wrk: %w: %s", err, out)
	}
	rate, median := wrkRate.FindSubmatch(out), wrkMedian.FindSubmatch(out)
	if rate == nil || median == nil || bytes.Contains(out, []byte("Non-2xx")) {
		return load{}, fmt.Errorf("wrk: %s", out)
	}
	var l load
	l.rate, _ = strconv.ParseFloat(string(rate[1]), 64)
	l.median, _ = strconv.ParseFloat(string(median[1]), 64)
	l.median *= map[string]float64{"us": 0.001, "ms": 1, "s": 1000}[string(median[2])]
	return l, nil
}

func echoUpgraded(w http.ResponseWriter, _ *http.Request) {
	conn, rw, err := http.NewResponseController(w).Hijack()
	if err != nil {
		return
	}
	defer conn.Close()
	fmt.Fprint(rw, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n")
	_ = rw.Flush()
	_, _ = io.Copy(conn, rw)
}

// memoryOf returns how many bytes of memory a process takes, and how many of them are files'
// (proc_pid_status(5): VmRSS, RssFile).
func memoryOf(pid int) (all, files uint64, err error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, 0, err
	}
	for line := range strings.Lines(string(text)) {
		var kib uint64
		if n, _ := fmt.Sscanf(line, "VmRSS: %d kB", &kib); n == 1 {
			all = kib << 10
		} else if n, _ := fmt.Sscanf(line, "RssFile: %d kB", &kib); n == 1 {
			files = kib << 10
		}
	}
	return all, files, nil
}

// benchSockets opens 2,000 WebSockets by https, has each say something, and looks at the gate.
func benchSockets(gate project.GatePorts) error {
	const n = 2000
	var all []net.Conn
	defer func() {
		for _, c := range all {
			c.Close()
		}
	}()
	for range n {
		c, err := tls.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", gate.HTTPS), &tls.Config{InsecureSkipVerify: true, ServerName: "live.localhost"})
		if err != nil {
			return err
		}
		all = append(all, c)
		fmt.Fprint(c, "GET / HTTP/1.1\r\nHost: live.localhost\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n")
		in := bufio.NewReader(c)
		resp, err := http.ReadResponse(in, nil)
		if err != nil || resp.StatusCode != http.StatusSwitchingProtocols {
			return fmt.Errorf("a WebSocket is not opened: %v %w", resp, err)
		}
		fmt.Fprint(c, "hello")
		if _, err := io.ReadFull(in, make([]byte, 5)); err != nil {
			return err
		}
	}
	c := control.NewClient()
	defer c.Close()
	state, err := c.State(context.Background())
	if err != nil {
		return err
	}
	for _, quiet := range []time.Duration{0, 10 * time.Second} {
		time.Sleep(quiet)
		all, shared, err := memoryOf(state.PID)
		if err != nil {
			return err
		}
		tell(fmt.Sprintf("gate/sockets/%v", quiet), fmt.Sprintf("the gate with %d open WebSockets by https, after %v, beside the program's file", n, quiet), atMost(70, "MB"), "", float64(all-shared)/(1<<20))
	}
	return nil
}
