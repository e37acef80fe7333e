package e2e

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/api"
	"neighbour/internal/testkit"
)

// A folder for state that came with the project is not used, and what its links
// lead to stays as it is.
func TestStrangeState(t *testing.T) {
	t.Parallel()
	for name, spoil := range map[string]func(p *project) string{
		"a link": func(p *project) string {
			require.NoError(t, os.Mkdir(filepath.Join(p.dir, "elsewhere"), 0o700))
			require.NoError(t, os.Symlink("elsewhere", filepath.Join(p.dir, ".neighbour")))
			return "is a link"
		},
		"a file": func(p *project) string { p.write(".neighbour", ""); return "is no folder" },
		"unknown": func(p *project) string {
			p.write(".neighbour/logs/x", "")
			return "was not made by Neighbour for this user"
		},
		"with links": func(p *project) string {
			p.write("precious", "precious")
			require.NoError(t, os.MkdirAll(filepath.Join(p.dir, ".neighbour/logs"), 0o700))
			for _, name := range []string{"logs/keeper.err", "logs/keeper.jsonl", ".gitignore", "secrets.json.lock"} {
				require.NoError(t, os.Symlink(filepath.Join(p.dir, "precious"), filepath.Join(p.dir, ".neighbour", name)))
			}
			return "was not made by Neighbour for this user"
		},
		"guessed": func(p *project) string {
			p.write(".neighbour/id", "../../../known/x")
			p.write(".neighbour/data/x", "")
			return "was not made by"
		},
	} {
		t.Run(name, func(t *testing.T) {
			p := &project{t: t, dir: t.TempDir()}
			p.write("neighbour.toml", "[service.ledger]\nkind = \"postgres\"\n[service.api]\nrun = \"sleep 1000\"\nenv.A = \"${ledger.url}\"\n")
			says := spoil(p)
			for _, args := range [][]string{{"status"}, {"start"}, {"env", "api"}, {"check"}, {"logs"}} {
				r := p.run(args...)
				assert.Equal(t, 1, r.code, args)
				assert.Contains(t, r.stderr, says, args)
			}
			if b, err := os.ReadFile(filepath.Join(p.dir, "precious")); err == nil {
				assert.Equal(t, "precious", string(b))
			}
		})
	}
	t.Run("tracked by git", func(t *testing.T) {
		p := newProject(t, program("api"))
		p.must("status")
		p.must("env", "api")
		p.must("start")
		p.must("stop")
		run(t, p.dir, "git", "init", "-q")
		assert.NotContains(t, p.run("status").stderr, "git")
		run(t, p.dir, "git", "add", "-f", ".neighbour/id")
		assert.Contains(t, p.run("status").stderr, "is tracked by git")
		run(t, p.dir, "git", "rm", "-q", "-r", "--cached", ".neighbour")
		p.must("status")
	})
	t.Run("of a home of before", func(t *testing.T) {
		p := newProject(t, program("api"))
		p.env = []string{"CI=true"}
		p.must("start")
		p.must("stop")
		id, err := os.ReadFile(p.state("id"))
		require.NoError(t, err)
		require.NoError(t, os.Remove(filepath.Join(os.Getenv("XDG_STATE_HOME"), "neighbour/known", string(id)+".json")))
		lists, err := filepath.Glob(filepath.Join(os.Getenv("XDG_STATE_HOME"), "neighbour/projects/*"))
		require.NoError(t, err)
		for _, l := range lists {
			if b, _ := os.ReadFile(l); string(b) == p.dir {
				require.NoError(t, os.Remove(l))
			}
		}
		assert.Contains(t, p.run("start").stderr, "if it is yours: neighbour -C "+p.dir+" vouch")
		p.must("vouch")
		p.must("start")
	})
}

func run(t *testing.T, dir string, argv ...string) {
	t.Helper()
	cmd := exec.Command(argv[0], argv[1:]...)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
}

// Nothing that a project names is executed by looking at it, before it is
// started; and what is new is told by the first start after it came.
func TestReadingRunsNothing(t *testing.T) {
	t.Parallel()
	p := newProject(t, `
[kind.trap]
program = ["DIR/trap"]
version = { args = ["--trap"] }
run = ["${self.program}"]
health = { run = "true" }
[service.a]
kind = "trap"
[service.b]
run = "./trap serve"
uses = { perl = ">=1", trapped = ">=1" }
env.PATH = "DIR/bin:/usr/bin:/bin"
prepare = [{ run = "./trap prepare", makes = ["made"] }]
health = { run = "./trap health" }
`)
	b, err := os.ReadFile(filepath.Join(p.dir, "neighbour.toml"))
	require.NoError(t, err)
	p.write("neighbour.toml", strings.ReplaceAll(string(b), "DIR", p.dir))
	trap := "#!/bin/sh\necho \"$0 $*\" >> '" + p.dir + "/sprung'\ncase $1 in --trap|--version) echo v1.2.3;; prepare) touch made;; health) ;; *) exec sleep 1000;; esac\n"
	p.write("trap", trap)
	p.write("bin/trapped", trap)
	p.write("bin/perl", trap)
	p.write("monitor", trap)
	run(t, p.dir, "git", "init", "-q")
	run(t, p.dir, "git", "add", "neighbour.toml")
	run(t, p.dir, "git", "config", "core.fsmonitor", filepath.Join(p.dir, "monitor"))
	p.write("neighbour.local.toml", "")
	sprung := filepath.Join(p.dir, "sprung")
	for _, args := range [][]string{{"status"}, {"status", "--json"}, {"check"}, {"env", "a"}, {"env", "b", "--why"}, {"apply"}, {"logs"}, {"open", "--print"}} {
		_ = p.run(args...)
		assert.NoFileExists(t, sprung, "%v", args)
	}
	s := open(t, p.dir, 142, 38)
	s.see(`0 of 2 ready`)
	s.press("7")
	s.see(`checked in|nothing was found`)
	assert.NoFileExists(t, sprung, "nor by the screen and its checks")
	s.press("1", "S", "2")
	s.see(`Start for the first time\?`)
	s.see(`b: \./trap serve`)
	assert.NoFileExists(t, sprung)
	s.press("Escape")
	s.press("q")

	r := p.run("start")
	require.Zero(t, r.code, r.stderr)
	assert.FileExists(t, sprung)
	assert.NotContains(t, r.stderr, "not executed here before")
	p.must("stop")
	require.NoError(t, os.Remove(sprung))
	p.write("neighbour.local.toml", "service.b.run = \"./trap other\"\n")
	_ = p.run("check")
	assert.NoFileExists(t, sprung, "what has come since is not executed either")
	assert.Contains(t, p.run("start").stderr, "not executed here before:\n    b: ./trap other\n")
}

// What is written into the project's env file goes nowhere else by a link.
func TestLinkedEnvFile(t *testing.T) {
	t.Parallel()
	for _, file := range []string{".env", "conf/.env"} {
		p := newProject(t, "[env]\nwrite = \""+file+"\"\nkeys.MODE = \"shed\"\n"+program("api"))
		elsewhere := t.TempDir()
		precious := filepath.Join(elsewhere, ".env")
		if file == ".env" {
			require.NoError(t, os.WriteFile(precious, []byte("A=1\n"), 0o600))
			require.NoError(t, os.Symlink(precious, filepath.Join(p.dir, ".env")))
		} else {
			require.NoError(t, os.Symlink(elsewhere, filepath.Join(p.dir, "conf")))
		}
		p.must("start")
		b, _ := os.ReadFile(precious)
		assert.NotContains(t, string(b), "MODE", file)
		assert.Contains(t, p.run("status").stderr, "a link leads out of the project")
	}
}

// What a declaration holds reaches no terminal as control sequences.
func TestNothingMovesTheCursor(t *testing.T) {
	t.Parallel()
	evil := `\u001b]0;title\u0007\u001b[2J\u001b]52;c;aGk=\u0007`
	raw := "\x1b]0;title\x07\x1b[2J"
	for toml, args := range map[string][][]string{
		"[service.a]\nrun = \"sleep 1\"\nprot = 1 # " + raw + "\n":                                        {{"status"}, {"check"}, {"start"}},
		"[service.\"x" + evil + "\"]\nrun = \"sleep 1\"\n":                                                {{"status"}},
		"[service.a]\nrun = \"no-" + evil + "\"\nneeds = [\"" + evil + "\"]\n":                            {{"status"}},
		"[service.a]\nkind = \"outside\"\nhealth = { http = \"http://127.0.0.1:1/" + evil + "\" }\n":      {{"status"}, {"check"}, {"start"}},
		"[service.a]\nrun = \"sh -c 'printf \\\"\\\\033[31m\\\\033[2Jno screws\\\\n\\\"; exit 3'\"\n":     {{"start"}, {"status"}, {"check"}},
		"[service.a]\nrun = \"sleep 1\"\nwrites = [\"up" + evil + "\"]\n[service.b]\nrun = \"sleep 1\"\n": {{"check"}, {"start"}},
	} {
		p := newProject(t, toml)
		for _, a := range args {
			r := p.run(a...)
			assert.NotContains(t, r.stdout+r.stderr, "\x1b", "%v of %q", a, toml)
			assert.NotContains(t, r.stdout+r.stderr, "\x07", "%v of %q", a, toml)
		}
	}
}

// What is no regular file, or far too large, is refused at once.
func TestFilesThatAreNone(t *testing.T) {
	t.Parallel()
	p := newProject(t, program("api"))
	file := filepath.Join(p.dir, "neighbour.toml")
	for name, spoil := range map[string]func(){
		"is no regular file":          func() { require.NoError(t, syscall.Mkfifo(file, 0o600)) },
		"can be written by everybody": func() { require.NoError(t, os.Symlink("/dev/zero", file)) },
		"has more than 1 MB":          func() { require.NoError(t, os.WriteFile(file, make([]byte, 2<<20), 0o600)) },
	} {
		require.NoError(t, os.RemoveAll(file))
		spoil()
		began := time.Now()
		r := p.run("status")
		assert.Equal(t, 1, r.code)
		assert.Contains(t, r.stderr, name)
		_ = p.run("__complete", "env", "")
		assert.Less(t, time.Since(began), patience)
	}
	require.NoError(t, os.RemoveAll(file))
	p.write("neighbour.toml", program("api", "prepare = [{ run = \"true\", when = [\"pipe\"] }]"))
	require.NoError(t, syscall.Mkfifo(filepath.Join(p.dir, ".env"), 0o600))
	require.NoError(t, syscall.Mkfifo(filepath.Join(p.dir, "pipe"), 0o600))
	_ = p.run("check")
	_ = p.run("start")
	require.NoError(t, os.Remove(filepath.Join(p.dir, "neighbour.toml")))
	_ = p.run("init", "--json")
	p.write("neighbour.toml", program("api"))
}

// The built-in web server answers to names of this machine only.
func TestStaticAnswersToItsNames(t *testing.T) {
	t.Parallel()
	p := newProject(t, "[service.page]\nkind = \"static\"\nroot = \"site\"\nhosts = [\"Toolshed.test\"]\n")
	p.write("site/index.html", "page")
	p.must("start")
	url := p.status().Service["page"].Facts["url"]
	for host, status := range map[string]int{"": 200, "localhost": 200, "page.localhost:80": 200, "toolshed.test": 200, "evil.example.org": 421, "10.0.0.1": 421} {
		req, err := http.NewRequest("GET", url, nil)
		require.NoError(t, err)
		req.Host = host
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		resp.Body.Close()
		assert.Equal(t, status, resp.StatusCode, host)
	}
}

// as runs the program as another user.
func as(t *testing.T, uid int, dir string, env []string, args ...string) result {
	t.Helper()
	cmd := exec.Command(binary, args...)
	cmd.Dir = dir
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(uid)}}
	cmd.Env = append([]string{"PATH=" + os.Getenv("PATH"), "TMPDIR=/tmp"}, env...)
	var out, err strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &err
	_ = cmd.Run()
	return result{out.String(), err.String(), cmd.ProcessState.ExitCode()}
}

// A declaration that somebody else may change is not used, wherever it is found.
func TestDeclarationsOfOthers(t *testing.T) {
	testkit.NeedRoot(t)
	t.Parallel()
	const me, other = 23450, 23451
	shared, err := os.MkdirTemp("/tmp", "shared")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(shared) })
	require.NoError(t, os.Chmod(shared, 0o777|os.ModeSticky))
	home := filepath.Join(shared, "home")
	mine := filepath.Join(shared, "mine")
	for _, dir := range []string{home, mine} {
		require.NoError(t, os.Mkdir(dir, 0o755))
		require.NoError(t, os.Chown(dir, me, me))
	}
	env := []string{"HOME=" + home}
	file := filepath.Join(shared, "neighbour.toml")
	require.NoError(t, os.WriteFile(file, []byte(program("api")), 0o644))
	require.NoError(t, os.Chown(file, other, other))
	r := as(t, me, mine, env, "check")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, file+" belongs to user 23451, and what neighbour.toml says is executed as you")
	r = as(t, me, mine, env, "vouch")
	require.Zero(t, r.code, r.stderr)
	assert.Zero(t, as(t, me, mine, env, "check").code)

	// One's own in a sticky folder is fine; one that others may write is not.
	own := filepath.Join(mine, "neighbour.toml")
	require.NoError(t, os.WriteFile(own, []byte(program("api")), 0o644))
	require.NoError(t, os.Chown(own, me, me))
	r = as(t, me, mine, env, "check")
	assert.Zero(t, r.code, r.stderr)
	require.NoError(t, os.Chmod(own, 0o666))
	assert.Contains(t, as(t, me, mine, env, "check").stderr, "can be written by everybody")
	require.NoError(t, os.Chmod(own, 0o664))
	require.NoError(t, os.Chown(own, me, other))
	assert.Contains(t, as(t, me, mine, env, "check").stderr, "can be written by the group")
	require.NoError(t, os.Chown(own, other, other))
	assert.Contains(t, as(t, me, mine, env, "check").stderr, "belongs to user 23451")
	r = as(t, me, mine, env, "vouch")
	require.Zero(t, r.code, r.stderr)
	r = as(t, me, mine, env, "check")
	assert.Zero(t, r.code, r.stderr)
}

// In a project of another user's it is said whose it is.
func TestProjectsOfOthers(t *testing.T) {
	testkit.NeedRoot(t)
	t.Parallel()
	const me = 23470
	dir, err := os.MkdirTemp("/tmp", "theirs")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	file := filepath.Join(dir, "neighbour.toml")
	require.NoError(t, os.WriteFile(file, []byte(program("api")), 0o644))
	env := []string{"HOME=" + dir}
	assert.Contains(t, as(t, me, dir, env, "start").stderr, dir+" belongs to root: work in a copy that is yours")
	require.NoError(t, os.Mkdir(filepath.Join(dir, ".neighbour"), 0o700))
	assert.Contains(t, as(t, me, dir, env, "status").stderr, "/.neighbour belongs to root, who runs this project here; work in a copy of it that is yours")
	require.NoError(t, os.Remove(filepath.Join(dir, ".neighbour")))
	require.NoError(t, os.Chmod(file, 0o600))
	assert.Contains(t, as(t, me, dir, env, "status").stderr, file+" belongs to root: work in a copy that is yours")
}

// Nothing is said to a keeper of somebody else's, and nobody is locked out by a
// folder that a stranger has made.
func TestStrangersKeeper(t *testing.T) {
	testkit.NeedRoot(t)
	t.Parallel()
	const me, other = 23460, 23461
	base, err := os.MkdirTemp("/tmp", "long")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(base) })
	require.NoError(t, os.Chmod(base, 0o755))
	dir := filepath.Join(base, strings.Repeat("long-", 30))
	home := filepath.Join(base, "home")
	for _, d := range []string{dir, home} {
		require.NoError(t, os.Mkdir(d, 0o755))
		require.NoError(t, os.Chown(d, me, me))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "neighbour.toml"), []byte(program("api")), 0o644))
	require.NoError(t, os.Chown(filepath.Join(dir, "neighbour.toml"), me, me))
	// The stranger takes the name that everybody can guess.
	taken := fmt.Sprintf("/tmp/neighbour-%d", me)
	require.NoError(t, os.Mkdir(taken, 0o755))
	require.NoError(t, os.Chown(taken, other, other))
	t.Cleanup(func() { os.RemoveAll(taken); os.RemoveAll(taken + "-1") })
	env := []string{"HOME=" + home, "CI=true"} // whose sockets have a long path
	r := as(t, me, dir, env, "start")
	require.Zero(t, r.code, r.stderr)
	assert.Zero(t, as(t, me, dir, env, "stop").code)
	assert.DirExists(t, taken+"-1")

	// A socket of another user's is not spoken to.
	sum := sha256.Sum256([]byte(dir + "\x00keeper"))
	sockets := filepath.Join(taken+"-1", hex.EncodeToString(sum[:6]))
	require.DirExists(t, sockets)
	path := filepath.Join(sockets, "keeper.sock")
	os.Remove(path)
	helper := exec.Command("/usr/bin/perl", "-MIO::Socket::UNIX", "-e", `$| = 1;
$l = IO::Socket::UNIX->new(Local => $ARGV[0], Listen => 1) or die; print "on\n";
$c = $l->accept; print "heard ", sysread($c, $b, 100), "\n"`, path)
	require.NoError(t, os.Chmod(taken+"-1", 0o777))
	require.NoError(t, os.Chmod(sockets, 0o777))
	helper.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: other, Gid: other}}
	out, err := helper.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, helper.Start())
	t.Cleanup(func() { _ = helper.Process.Kill(); _ = helper.Wait() })
	heard := make([]byte, 64)
	n, err := out.Read(heard)
	require.NoError(t, err)
	require.Contains(t, string(heard[:n]), "on")
	require.NoError(t, os.Chmod(taken+"-1", 0o700))
	require.NoError(t, os.Chmod(path, 0o777))
	r = as(t, me, dir, env, "status")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "is one of user 23461, and not yours; nothing was said to it")
	n, err = out.Read(heard)
	require.NoError(t, err)
	assert.Equal(t, "heard 0\n", string(heard[:n]))
}

// As root, what is written into a server's own folder follows no link in it.
func TestLinksInAServersFolder(t *testing.T) {
	testkit.NeedRoot(t)
	testkit.Need(t, "/usr/sbin/mosquitto", "mosquitto")
	t.Parallel()
	p := newProject(t, "[service.sensors]\nkind = \"mqtt\"\nusers = [\"scale\"]\n")
	p.must("start")
	p.must("stop")
	target, err := os.Readlink(p.state("data/sensors"))
	require.NoError(t, err)
	runDir := filepath.Join(filepath.Dir(target), "run")
	precious := p.write("precious", "precious")
	for _, name := range []string{"mosquitto.conf", "passwords", "mosquitto.conf.new"} {
		_ = os.Remove(filepath.Join(runDir, name))
		require.NoError(t, os.Symlink(precious, filepath.Join(runDir, name)))
	}
	p.must("start")
	b, err := os.ReadFile(precious)
	require.NoError(t, err)
	assert.Equal(t, "precious", string(b))
}

// A start and a stop of everything at the same time end as one of the two
// orders would.
func TestStartAndStopAtOnce(t *testing.T) {
	t.Parallel()
	p := newProject(t, program("a")+program("b", `needs = ["a"]`))
	for range 6 {
		p.must("start")
		var all sync.WaitGroup
		var start, stop result
		all.Go(func() { start = p.run("start") })
		all.Go(func() { stop = p.run("stop") })
		all.Wait()
		assert.Zero(t, stop.code, stop.stderr)
		assert.NotContains(t, start.stderr, "EOF")
		assert.NotContains(t, start.stderr, "the keeper ended meanwhile")
		s := p.status().Service
		if start.code == 0 && s["b"].State != "ready" {
			assert.Equal(t, "stopped", s["b"].State, "the stop came after the start")
		}
	}
}

// What an editor saves while the screen changes the file is not lost.
func TestEditsAtTheSameTime(t *testing.T) {
	t.Parallel()
	p := newProject(t, program("api"))
	p.must("start")
	file := filepath.Join(p.dir, "neighbour.toml")
	done := make(chan struct{})
	var editor sync.WaitGroup
	const saves = 40
	editor.Go(func() {
		defer close(done)
		for i := range saves { // as editors do: beside it, and renamed
			b, err := os.ReadFile(file)
			if err != nil {
				continue
			}
			next := string(b) + fmt.Sprintf("# save %d\n", i)
			if os.WriteFile(file+".edit", []byte(next), 0o644) == nil {
				_ = os.Rename(file+".edit", file)
			}
			time.Sleep(5 * time.Millisecond)
		}
	})
	for i := 0; ; i++ {
		body := fmt.Sprintf(`{"service":"n%d","add":{"kind":"program","line":"run = \"sleep 1000\""}}`, i)
		p.post("/v"+api.Version+"/declaration", body)
		select {
		case <-done:
			editor.Wait()
			b, err := os.ReadFile(file)
			require.NoError(t, err)
			lost := 0
			for n := range saves {
				if !strings.Contains(string(b), fmt.Sprintf("# save %d\n", n)) {
					lost++
				}
			}
			// The editor itself writes over what was added between its reading and
			// its saving; nothing of its own may be lost.
			assert.Zero(t, lost)
			return
		default:
		}
	}
}

// post sends a request to the keeper.
func (p *project) post(path, body string) {
	p.t.Helper()
	client := http.Client{Transport: &http.Transport{DialContext: func(context.Context, string, string) (net.Conn, error) {
		return net.Dial("unix", p.state("run/keeper.sock"))
	}}}
	defer client.CloseIdleConnections()
	resp, err := client.Post("http://keeper"+path, "application/json", strings.NewReader(body))
	require.NoError(p.t, err)
	resp.Body.Close()
}

// A variable that is too large is named.
func TestVariableTooLarge(t *testing.T) {
	t.Parallel()
	p := newProject(t, program("api", `env.PHOTO = "`+strings.Repeat("x", 200<<10)+`"`))
	p.run("start")
	assert.Regexp(t, `its environment has \d+ KB, of which the variable PHOTO has 200 KB, and the system takes at most 128 KB for one`, p.status().Service["api"].Reason)
}

// What other machines can reach is said, and so is that the system has no
// watches left; files of reload matter all the same.
func TestExposedAndUnwatched(t *testing.T) {
	t.Parallel()
	p := newProject(t, `
[service.api]
run = ["/usr/bin/perl", "-MIO::Socket::INET", "-e", "$l = IO::Socket::INET->new(LocalAddr => '0.0.0.0', LocalPort => $ENV{PORT}, Listen => 5, ReuseAddr => 1) or die; while ($c = $l->accept) { close $c }"]
port = `+itoa(freePort(t))+`
reload = ["*.pl"]
`)
	p.must("check")
	none := exec.Command("unshare", "-U", "-r", "sh", "-c", `echo 0 > /proc/sys/user/max_inotify_instances && exec "$@"`, "sh", binary, "-C", p.dir, "start")
	limited := exec.Command("unshare", "-U", "-r", "true").Run() == nil
	if limited {
		out, err := none.CombinedOutput()
		require.NoError(t, err, string(out))
	} else {
		p.must("start")
	}
	require.Eventually(t, func() bool { return p.status().Service["api"].Exposed != "" }, patience, 200*time.Millisecond)
	assert.Regexp(t, `^0\.0\.0\.0:\d+$`, p.status().Service["api"].Exposed)
	r := p.run("check")
	assert.Contains(t, r.stdout, "where other machines can reach it")
	if !limited {
		return // without namespaces of users the limit can't be set: reload's own test goes on without
	}
	assert.Contains(t, r.stdout, "fs.inotify.max_user_instances")
	pid := p.status().Service["api"].PID
	p.write("a.pl", "1")
	require.Eventually(t, func() bool { s := p.status().Service["api"]; return s.State == "ready" && s.PID != pid }, patience, 200*time.Millisecond)
}

// Every file of ours, damaged in every way, is a sentence at most: no panic, no
// answer that breaks off, and a keeper that still tells and stops.
func TestDamagedFiles(t *testing.T) {
	t.Parallel()
	damage := map[string]func(was []byte) []byte{
		"empty":       func([]byte) []byte { return nil },
		"half":        func(was []byte) []byte { return was[:len(was)/2] },
		"null":        func([]byte) []byte { return []byte("null") },
		"a list":      func([]byte) []byte { return []byte(`[1, "x", null]`) },
		"other types": func([]byte) []byte { return []byte(`{"api": {"x": []}, "a": [null], "services": 3, "overview": null}`) },
		"nulls":       func([]byte) []byte { return []byte(`{"api": null, "services": {"api": null}, "commands": null}`) },
		"random": func([]byte) []byte {
			b := make([]byte, 4096)
			_, _ = rand.Read(b)
			return b
		},
		"huge":     func([]byte) []byte { return bytes.Repeat([]byte("9"), 3<<20) },
		"far away": func([]byte) []byte { return bytes.Repeat([]byte{0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0x3f}, 64) },
	}
	files := []string{"ports.json", "secrets.json", "made.json", "prepared.json", "id", "profile", "run/state.json", "run/ports.json", "logs/api.times", "logs/keeper.events.times", "logs/keeper.events", "logs/api.log"}
	turn := 0
	for name, spoil := range damage {
		turn++
		t.Run(name, func(t *testing.T) {
			turn := turn
			t.Parallel()
			p := newProject(t, `
[service.api]
run = "sh -c 'echo hello; exec sleep 1000'"
prepare = [{ run = "touch made", makes = ["made"] }]
[service.mail]
kind = "mail"
`)
			for i, file := range files {
				if i%3 != turn%3 { // another damage has its turn with it
					continue
				}
				p.must("start")
				require.Eventually(t, func() bool { return strings.Contains(p.run("logs", "api").stdout, "hello") }, patience, 20*time.Millisecond)
				running := i%2 == 0
				if !running {
					p.must("stop")
				}
				path := p.state(file)
				was, _ := os.ReadFile(path)
				require.NoError(t, os.WriteFile(path, spoil(was), 0o600))
				for _, args := range [][]string{{"status"}, {"status", "--json"}, {"logs"}, {"logs", "api", "--json"}, {"env", "api"}, {"check"}, {"start"}, {"restart", "api"}, {"stop"}, {"start"}} {
					r := p.run(args...)
					for _, bad := range []string{"panic", "goroutine", "EOF", "nil pointer"} {
						assert.NotContains(t, r.stderr, bad, "%s: %v", file, args)
					}
					if r.code != 0 {
						assert.NotEmpty(t, r.stderr+r.stdout, "%s: %v says why", file, args)
						assert.NotEqual(t, 2, r.code, "%s: %v", file, args)
					}
				}
				require.NoFileExists(t, p.state("logs/keeper.panic"))
				if b, _ := os.ReadFile(p.state("logs/keeper.err")); file != "logs/keeper.err" {
					assert.NotContains(t, string(b), "panic", file)
				}
				_ = p.run("stop")
				require.NoError(t, os.RemoveAll(path))
				// The ports may be another project's by now, which couldn't read that they are taken.
				if was != nil && file != "ports.json" {
					require.NoError(t, os.WriteFile(path, was, 0o600))
				}
			}
			p.must("start")
			p.must("stop")
		})
	}
}
