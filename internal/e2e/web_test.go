package e2e

import (
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/testkit"
)

func needWeb(t *testing.T) {
	testkit.Need(t, "/usr/sbin/nginx", "nginx")
	testkit.Need(t, "/usr/sbin/apache2", "httpd")
	testkit.Need(t, "/usr/sbin/php-fpm*", "php-fpm")
	testkit.Need(t, "/usr/sbin/mariadbd", "mariadbd")
}

// fetch gets a page.
func fetch(t *testing.T, url string) (int, string) {
	t.Helper()
	resp, err := http.Get(url)
	require.NoError(t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp.StatusCode, string(b)
}

// A PHP page through nginx and php-fpm that reads from MariaDB, with an
// address that only the front controller knows.
func TestPageFromADatabase(t *testing.T) {
	t.Parallel()
	needWeb(t)
	p := newProject(t, `
[service.books]
kind = "mariadb"
databases = ["toolshed"]
[service.engine]
kind = "php"
extensions = ["mysqli"]
ini = { memory_limit = "96M" }
[service.engine.env]
DB_PORT = "${books.port}"
DB_PASSWORD = "${books.password}"
[service.site]
kind = "nginx"
root = "public"
php = "${engine}"
extra = "location /status { return 204; }"
[service.other]
kind = "apache"
root = "public"
php = "${engine}"
[service.front]
kind = "nginx"
root = "public"
proxy = "${site}"
`)
	p.write("public/index.php", `<?php
$db = new mysqli('127.0.0.1', 'root', getenv('DB_PASSWORD'), 'toolshed', (int) getenv('DB_PORT'));
$row = $db->query("select concat('hammer ', 'drill') as name")->fetch_assoc();
echo $row['name'], ' at ', $_SERVER['REQUEST_URI'], ' with ', ini_get('memory_limit');
`)
	p.write("public/style.css", "body { color: black }")
	p.write("public/.htaccess", "RewriteEngine On\nRewriteRule ^old$ /style.css [R=302,L]\n")
	// Apache serves as an account of its own, which must get there.
	for _, dir := range []string{filepath.Dir(p.dir), p.dir} {
		require.NoError(t, os.Chmod(dir, 0o755))
	}
	r := p.run("start")
	require.Zero(t, r.code, r.stderr)
	s := p.status().Service
	assert.Equal(t, []string{"books"}, s["engine"].Needs)
	assert.Equal(t, []string{"engine"}, s["site"].Needs, "naming a service is needing it")
	url := s["site"].Facts["url"]
	for _, server := range []string{"site", "other"} {
		for path, want := range map[string]string{
			"/":           "hammer drill at / with 96M",
			"/loans/12?a": "hammer drill at /loans/12?a with 96M",
			"/style.css":  "body { color: black }",
		} {
			status, body := fetch(t, s[server].Facts["url"]+path)
			assert.Equal(t, 200, status, "%s of %s", path, server)
			assert.Equal(t, want, body, "%s of %s", path, server)
		}
	}
	status, _ := fetch(t, s["other"].Facts["url"]+"/old")
	assert.Equal(t, 200, status, "what .htaccess says counts: it leads to style.css")
	status, _ = fetch(t, s["other"].Facts["url"]+"/.htaccess")
	assert.Equal(t, 403, status)
	status, _ = fetch(t, url+"/nothing.php")
	assert.Equal(t, 404, status)
	status, _ = fetch(t, url+"/status")
	assert.Equal(t, 204, status, "extra configuration")
	_, body := fetch(t, s["front"].Facts["url"]+"/loans/7")
	assert.Equal(t, "hammer drill at /loans/7 with 96M", body, "through another server")
	assert.Contains(t, p.must("logs", "site"), `"GET /loans/12?a HTTP/1.1" 200`)
	p.must("stop")
	assert.Empty(t, p.left())
}

// PHP knows how the client came to the gate, who it is, and what follows the page in an
// address, behind each server; its mails reach the inbox, and a PHP on a command line has the
// same settings.
func TestPHPKnowsItsClient(t *testing.T) {
	t.Parallel()
	needWeb(t)
	p := newProject(t, `
[service.postbox]
kind = "mail"
[service.engine]
kind = "php"
mail = "${postbox}"
ini = { memory_limit = "96M" }
[service.site]
kind = "nginx"
root = "public"
php = "${engine}"
[service.other]
kind = "apache"
root = "public"
php = "${engine}"
[service.front]
kind = "nginx"
proxy = "${site}"
`)
	p.write("public/index.php", `<?php
foreach (['HTTPS', 'REQUEST_SCHEME', 'SERVER_PORT', 'PATH_INFO', 'HTTP_AUTHORIZATION', 'SCRIPT_NAME'] as $name) echo $name, '=', $_SERVER[$name] ?? '', "\n";
echo strtok($_SERVER['SERVER_SOFTWARE'], '/');
`)
	p.write("public/mail.php", `<?php echo mail('ines@example.org', 'The drill', "Is due.\n", ['From' => 'shed@example.org', 'Bcc' => 'tom@example.org']) ? 'sent' : 'not sent';`)
	p.write("public/docs/index.php", "<?php echo 'docs';")
	for _, dir := range []string{filepath.Dir(p.dir), p.dir} {
		require.NoError(t, os.Chmod(dir, 0o755))
	}
	p.must("start")
	s := p.status().Service
	ask := func(server, path string, headers ...string) (string, string) {
		req, err := http.NewRequest("GET", s[server].Facts["url"]+path, nil)
		require.NoError(t, err)
		for i := 0; i < len(headers); i += 2 {
			req.Header.Set(headers[i], headers[i+1])
		}
		resp, err := (&http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}).Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return string(b), resp.Header.Get("Location")
	}
	for server, software := range map[string]string{"site": "nginx", "other": "Apache", "front": "nginx"} {
		body, _ := ask(server, "/index.php/loans/7?a", "X-Forwarded-Proto", "https", "X-Forwarded-Port", "8443", "Authorization", "Basic eDp5")
		assert.Equal(t, "HTTPS=on\nREQUEST_SCHEME=https\nSERVER_PORT=8443\nPATH_INFO=/loans/7\nHTTP_AUTHORIZATION=Basic eDp5\nSCRIPT_NAME=/index.php\n"+software, body, server)
		body, _ = ask(server, "/")
		assert.Contains(t, body, "HTTPS=\nREQUEST_SCHEME=http\n", server)
		body, _ = ask(server, "/docs/", "X-Forwarded-Proto", "https")
		assert.Equal(t, "docs", body, server)
	}
	_, to := ask("site", "/docs", "X-Forwarded-Proto", "https")
	assert.Equal(t, "/docs/", to)
	body, _ := ask("site", "/mail.php")
	assert.Equal(t, "sent", body, p.run("logs", "engine").stdout)
	inbox := p.must("data", "postbox", "inbox", "--json")
	assert.Contains(t, inbox, `"subject":"The drill"`)
	assert.Contains(t, inbox, "tom@example.org")
	out := p.must("run", "--with", "engine", "--", "php", "-r", "echo ini_get('memory_limit'), ' ', ini_get('sendmail_path');")
	assert.Regexp(t, `^96M \S+ sendmail smtp://127`, out)
}

// What a page reports is in PHP's log alone, with its level; the checks before a
// first start find the extensions.
func TestWhatPagesReport(t *testing.T) {
	t.Parallel()
	needWeb(t)
	p := newProject(t, "[service.engine]\nkind = \"php\"\nextensions = [\"mysqli\"]\nini = { log_errors = \"On\" }\n[service.site]\nkind = \"nginx\"\nroot = \"public\"\nphp = \"${engine}\"\n")
	p.write("public/index.php", "<?php\n$a = $tool;\ntrigger_error('old', E_USER_DEPRECATED);\nno_such();\n")
	for _, dir := range []string{filepath.Dir(p.dir), p.dir} {
		require.NoError(t, os.Chmod(dir, 0o755))
	}
	assert.Contains(t, p.must("check"), "nothing found that would go wrong")
	p.must("start")
	status, _ := fetch(t, p.status().Service["site"].Facts["url"])
	assert.Equal(t, 500, status)
	require.Eventually(t, func() bool { return strings.Contains(p.must("logs", "site"), "GET / HTTP/1.1\" 500") }, patience, 20*time.Millisecond)
	errors := p.must("logs", "--level", "error")
	assert.Contains(t, errors, "engine  ")
	assert.Contains(t, errors, "Call to undefined function no_such()")
	assert.Contains(t, errors, `"GET / HTTP/1.1" 500`)
	assert.NotContains(t, errors, "Undefined variable")
	assert.Contains(t, p.must("logs", "--level", "warn", "engine"), "Undefined variable $tool")
	assert.NotContains(t, p.must("logs", "site"), "no_such", "it is not told a second time")
}

func TestWebServersThatCantBe(t *testing.T) {
	t.Parallel()
	needWeb(t)
	for toml, says := range map[string]string{
		"[service.a]\nkind = \"nginx\"\n":                                                                                      "there is nothing to serve",
		"[service.a]\nkind = \"nginx\"\nroot = \"web\"\n":                                                                      `its web root .*/web doesn't exist; create it, or correct root = "web"`,
		"[service.a]\nkind = \"nginx\"\nroot = \".\"\nextra = \"frobnicate on;\"\n":                                            `(?s)its configuration is refused.*unknown directive "frobnicate"`,
		"[service.a]\nkind = \"apache\"\nroot = \".\"\nextra = \"Frobnicate on\"\n":                                            `(?s)its configuration is refused.*Invalid command 'Frobnicate'`,
		"[service.a]\nkind = \"nginx\"\nroot = \".\"\nphp = \"${b}\"\n[service.b]\nkind = \"redis\"\n":                         "b is a service of kind redis, and this needs one of kind php",
		"[service.a]\nkind = \"nginx\"\nroot = \".\"\nphp = \"engin\"\n[service.engine]\nkind = \"php\"\n":                     `no service "engin"`,
		"[service.a]\nkind = \"php\"\nextensions = [\"telepathy\"]\n":                                                          `the extensions telepathy of PHP 8\S* are not installed\n    install it with\n    (sudo )?apt-get install --no-install-recommends php-telepathy`,
		"[service.a]\nkind = \"php\"\nversion = \"5\"\n":                                                                       `no installed PHP meets version = "5"; installed: 8`,
		"[service.a]\nkind = \"nginx\"\nroot = \".\"\nport = 8099\n[service.b]\nkind = \"nginx\"\nroot = \".\"\nport = 8099\n": "a has port 8099 already",
	} {
		p := newProject(t, toml)
		r := p.run("start")
		assert.Equal(t, 1, r.code, toml)
		assert.Regexp(t, says, r.stderr)
	}
}

// Folders have names of any characters. A server gets on with them, or it is said which
// character its configuration can't hold; nothing of a name goes on as a directive.
func TestOddFolders(t *testing.T) {
	t.Parallel()
	needWeb(t)
	testkit.Need(t, "redis-server")
	testkit.Need(t, testkit.Postgres, "postgres")
	testkit.Need(t, "/usr/sbin/mosquitto", "mosquitto")
	declared := `
[service.ledger]
kind = "postgres"
databases = ["shed"]
[service.shelf]
kind = "redis"
[service.porch]
kind = "mqtt"
users = ["ines"]
[service.engine]
kind = "php"
mail = "${postbox}"
[service.site]
kind = "nginx"
root = "public"
php = "${engine}"
[service.other]
kind = "apache"
root = "public"
php = "${engine}"
[service.papers]
kind = "documents"
[service.postbox]
kind = "mail"
`
	for name, refused := range map[string]string{
		`a b,c'd"e$f`: "", "`g\\h%i#j;k{l}": "", `m&n(o)p*q[s]t~u!vü`: "", "who?": "", "a\nallow_anonymous true": "a control character", "a${HOME}": "",
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			base, err := os.MkdirTemp("", "f") // the name of the test would make the path too long
			require.NoError(t, err)
			require.NoError(t, os.Chmod(base, 0o755))
			dir := filepath.Join(base, name)
			require.NoError(t, os.Mkdir(dir, 0o755))
			t.Cleanup(func() { _ = os.RemoveAll(base) })
			p := newProjectIn(t, dir, declared)
			p.env = []string{"CI=true"} // its state is in its folder
			p.write("public/index.html", "the shed")
			p.write("public/page.php", "<?php echo 'a page';")
			r := p.run("start")
			s := p.status().Service
			for _, service := range []string{"ledger", "shelf", "porch", "engine", "site", "other", "papers", "postbox"} {
				switch {
				case s[service].State == "ready":
				case refused != "":
					assert.Regexp(t, "has a control character|for engine, which failed", s[service].Reason, service)
				case strings.Contains(name, "${") || name == "who?" && service == "other":
					assert.Regexp(t, `has (\$\{|\?) in it, which the configuration of (PHP|a web server|Apache with PHP) can't hold; rename that folder|engine`, s[service].Reason, service)
				default:
					t.Errorf("%s is %s: %s\n%s", service, s[service].State, s[service].Reason, r.stdout)
				}
			}
			// Whose root is there can't do without the name.
			assert.Equal(t, refused != "" || strings.Contains(name, "${"), s["site"].State != "ready")
			for _, server := range []string{"site", "other"} {
				if s[server].State != "ready" {
					continue
				}
				for path, want := range map[string]string{"/index.html": "the shed", "/page.php": "a page"} {
					code, body := fetch(t, s[server].Facts["url"]+path)
					assert.Equal(t, 200, code, "%s of %s", path, server)
					assert.Equal(t, want, body, "%s of %s", path, server)
				}
			}
		})
	}
}
