package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// talk is two services that print in different shapes, and one that fails.
const talk = `
[project]
name = "toolshed"
[service.api]
run = "sh api.sh"
[service.web]
run = "sh web.sh"
needs = ["api"]
[service.reminders]
run = "sh -c 'echo ERROR: no postbox; exit 4'"
needs = ["api"]
`

func talking(t *testing.T) *project {
	p := newProject(t, talk)
	p.write("api.sh", `
echo '{"level":"info","msg":"lent","tool":"drill"}'
echo '{"level":"warn","msg":"late","tool":"ladder"}'
echo 'TypeError: no such tool'
for i in 1 2 3 4 5 6 7; do echo "    at lend (api.js:$i)"; done
for i in $(seq 300); do echo "level=debug msg=\"looked up\" n=$i"; done
while :; do sleep 0.2; test -e more && { rm more; for i in $(seq 25); do echo "more $i"; done; }; done
`)
	p.write("web.sh", "echo 'GET /tools 200'\necho 'warn: slow page'\nexec sleep 1000\n")
	assert.Equal(t, 1, p.run("start").code)
	return p
}

func TestLogsOnTheScreen(t *testing.T) {
	t.Parallel()
	p := talking(t)
	s := open(t, p.dir, 120, 34)
	s.see(`✖ failed`)
	s.press("2")
	text := s.see(`api +debug looked up +n=300`)
	assert.Regexp(t, `reminders +── ✖ failed: exit 4`, text)
	assert.Regexp(t, `web +GET /tools 200`, text)
	assert.Regexp(t, `web +warn +slow page`, text)

	// Level, one service alone, filters, and all again.
	s.press("l", "l")
	s.see(`warn and worse`)
	s.gone(`n=300`)
	text = s.see(`api +warn +late +tool=ladder`)
	assert.Regexp(t, `(?s)api +error TypeError: no such tool.*at lend \(api\.js:2\).*… 5 more lines \(enter\)`, text)
	s.press("Tab")
	s.see(`api · warn and worse`)
	s.gone(`slow page`)
	s.press("e", "Enter")
	s.see(`at lend \(api\.js:7\)`)
	s.press("a")
	s.see(`all services · every level`)
	s.press("f", "/", "n", "=", "1", ".", "$", "/", "Enter")
	s.see(`only /n=1.\$/`)
	s.see(`n=19`)
	s.gone(`n=20`)
	s.press("a", "o")
	s.see(`api +level=debug msg="looked up" n=`)
	s.press("o")

	// Search: marked, counted, and back and forth.
	s.press("/", "l", "e", "n", "d", "Enter")
	s.see(`search lend +1 of 1`)
	assert.Regexp(t, `48;[25];[0-9;]+mlend`, s.tmux("capture-pane", "-p", "-e"), "marked")
	s.press("/", "BSpace", "BSpace", "BSpace", "BSpace", "n", "=", "2", "Enter")
	s.see(`search n=2 +\d+ of 111`)
	s.press("N", "N", "n")
	s.see(`search n=2 +\d+ of 111`)

	// Paused, while more comes.
	s.press("Escape")
	p.write("more", "")
	s.see(`paused · 2[5-9] more since`)
	s.press("End")
	s.see(`more 25`)

	// The last start, the last error, a time.
	s.press("b")
	s.see(`▌ .*started, pid`)
	s.press("End")
	s.see(`following`)
	s.press("e")
	s.see(`▌ .*(ERROR|no postbox|failed: exit 4)`)
	s.press("g", "n", "o", "w", "Enter")
	s.see(`"now" is not a time`)
	s.press("Escape")

	// Marked and copied; everything saved.
	s.press("m", "Up", "Up")
	s.see(`3 marked`)
	s.press("c")
	s.see(`copied 3 entries`)
	s.press("s", "C-u")
	s.tmux("send-keys", "-l", "all.log")
	s.press("Enter")
	s.see(`saved 3\d\d entries to`)
	b, err := os.ReadFile(filepath.Join(p.dir, "all.log"))
	require.NoError(t, err)
	assert.Regexp(t, `(?m)^2\d{3}-\d\d-\d\d \d\d:\d\d:\d\d\.\d{3}  api      at lend \(api\.js:7\)$`, string(b))
	assert.Equal(t, 300, strings.Count(string(b), "looked up"))

	// Picked services; and every size fits.
	s.press("p", "Down", "o", "Enter")
	s.see(`reminders · every level`)
	s.fits(120, 34)
	for _, size := range [][2]int{{80, 24}, {60, 16}} {
		small := open(t, p.dir, size[0], size[1])
		small.see(`failed`)
		small.press("2")
		small.see(`(?s)all services · every level.*more 25`)
		small.press("Up", "w")
		small.see(`paused`)
		small.fits(size[0], size[1])
	}
}

// The same filters on the command line.
func TestLogsCommand(t *testing.T) {
	t.Parallel()
	p := talking(t)
	logs := func(args ...string) string { return p.must(append([]string{"logs"}, args...)...) }
	assert.Equal(t, 100, strings.Count(logs(), "\n"), "the latest 100")
	assert.Equal(t, 300, strings.Count(logs("-n", "1000", "--text", "LOOKED")+logs("-n", "1000", "--text", "looked"), "\n"))
	assert.Regexp(t, `^\S+  api        \{"level":"warn","msg":"late","tool":"ladder"\}\n$`, logs("--grep", "la(te|dder)", "--level", "warn"))
	assert.Regexp(t, `^\S+  warn +late  tool=ladder\n$`, strings.ReplaceAll(logs("api", "--even", "--text", "late"), "api  ", ""))
	assert.Equal(t, 8, strings.Count(logs("api", "--level", "error"), "\n"), "the trace as a whole")
	assert.Regexp(t, `-- failed: exit 4`, logs("reminders", "--events"))
	assert.Empty(t, logs("--until", "10m"))
	assert.NotEmpty(t, logs("--since", "10m"))
	for flag, want := range map[string]string{"--since=soon": `"soon" is not a time`, "--grep=(": "is not a regular expression", "--level=loud": `there is no level "loud"`, "-n=-1": "0 or more"} {
		r := p.run("logs", flag)
		assert.Equal(t, 2, r.code)
		assert.Contains(t, r.stderr, want)
	}
	assert.Regexp(t, `"service":"web".*"level":"warn","text":"warn: slow page","message":"slow page","place":"\d+:\d+:web"`, logs("web", "--json"))

	follow := exec.Command(binary, "logs", "-f", "-n", "1", "--grep", "more |ready", "--events")
	follow.Dir = p.dir
	var said safeBuffer
	follow.Stdout = &said
	require.NoError(t, follow.Start())
	require.Eventually(t, func() bool { return strings.Contains(said.String(), "ready") }, patience, 20*time.Millisecond)
	p.write("more", "")
	require.Eventually(t, func() bool { return strings.Count(said.String(), "more ") == 25 }, patience, 20*time.Millisecond, fmt.Sprint(&said))
	require.NoError(t, follow.Process.Signal(os.Interrupt))
	_ = follow.Wait()
}
