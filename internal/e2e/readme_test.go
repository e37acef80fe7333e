package e2e

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/testkit"
)

// snippet is a block of code of the README.
type snippet struct {
	language, text string
}

func readme(t testing.TB) (text string, snippets []snippet) {
	b, err := os.ReadFile("../../README.md")
	require.NoError(t, err)
	for _, m := range regexp.MustCompile("(?ms)^( *)```(\\w*)\n(.*?)^ *```$").FindAllStringSubmatch(string(b), -1) {
		snippets = append(snippets, snippet{m[2], regexp.MustCompile("(?m)^"+m[1]).ReplaceAllString(m[3], "")})
	}
	return string(b), snippets
}

// of returns the snippets of a language that have a text in them.
func of(t testing.TB, all []snippet, language, with string) string {
	for _, s := range all {
		if s.language == language && strings.Contains(s.text, with) {
			return s.text
		}
	}
	require.Fail(t, "the README has no "+language+" with "+with)
	return ""
}

// Each declaration of the README is one, as it stands, beside the services that it speaks of.
func TestDeclarationsOfReadme(t *testing.T) {
	t.Parallel()
	_, all := readme(t)
	around := map[string]string{
		"api": "[service.api]\nrun = \"sleep 1000\"\nport = 4100\nhealth = { run = \"true\" }\n", "worker": program("worker"), "web": "[service.web]\nkind = \"static\"\nroot = \".\"\n",
		"postbox": "[service.postbox]\nkind = \"mail\"\n", "reviews": "[service.reviews]\nkind = \"documents\"\n", "chores": "[service.chores]\nkind = \"functions\"\n",
		"documents = ": "[service.books]\nkind = \"documents\"\n",
		"overdue":      "[errand.overdue]\nrun = \"true\"\n",
	}
	n := 0
	for _, s := range all {
		if s.language != "toml" {
			continue
		}
		n++
		text := s.text
		for name, service := range around {
			if strings.Contains(text, name) && !regexp.MustCompile(`\[(service|errand)\.`+name+`\]`).MatchString(text) {
				text += "\n" + service
			}
		}
		p := newProject(t, text)
		p.write("functions/reindex.sh", "#!/bin/sh\n")
		p.write("assets/tools/drill.png", "x")
		p.write("../accounts/neighbour.toml", "[service.ledger]\nkind = \"redis\"\n")
		r := p.run("check")
		assert.NotContains(t, r.stderr, "neighbour.toml:", s.text)
		assert.Contains(t, []int{0, 1}, r.code, "%s%s", s.text, r.stderr)
		assert.NotEmpty(t, r.stdout, "%s%s", s.text, r.stderr)
	}
	assert.GreaterOrEqual(t, n, 8)
}

// What the README has one write first works, from the declaration to the page.
func TestFirstMinutesOfReadme(t *testing.T) {
	t.Parallel()
	testkit.Need(t, testkit.Postgres)
	testkit.Need(t, "redis-server")
	testkit.Need(t, "node")
	_, all := readme(t)
	p := newProject(t, strings.Replace(of(t, all, "toml", "[service.ledger]\nkind = \"postgres\""), "port = 4100 ", "port = "+itoa(freePort(t)), 1))
	p.write("api/server.js", "require('http').createServer((q, r) => r.end(process.env.DATABASE_URL.slice(0, 11) + process.env.CACHE_URL.slice(0, 6) + process.env.SMTP_URL.slice(0, 5))).listen(process.env.PORT)")
	p.must("start")
	_, page := fetch(t, strings.TrimSpace(p.must("open", "--print", "api")))
	assert.Equal(t, "postgres://redis:smtp:", page)
	p.must("stop")
}

// The functions of the README are called and answer.
func TestFunctionsOfReadme(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "node")
	testkit.Need(t, "python3")
	_, all := readme(t)
	p := newProject(t, "[service.chores]\nkind = \"functions\"\n")
	p.write("functions/greet.js", of(t, all, "js", "export default"))
	p.write("functions/hello.py", of(t, all, "python", "def handler"))
	p.must("start")
	assert.JSONEq(t, `{"hello": "Ines"}`, p.must("call", "greet", `{"name": "Ines"}`))
	assert.JSONEq(t, `{"hello": "Tom"}`, p.must("call", "hello", `{"name": "Tom"}`))
}

// Each command that the README names is one, with the options that it names there, and so is each
// target of make.
func TestCommandsOfReadme(t *testing.T) {
	t.Parallel()
	text, all := readme(t)
	helps := map[string]string{}
	help := func(command ...string) string {
		key := strings.Join(command, " ")
		if helps[key] == "" {
			r := runIn(t, t.TempDir(), append(command, "--help")...)
			require.Zero(t, r.code, "neighbour %s --help: %s", key, r.stderr)
			helps[key] = r.stdout + r.stderr
		}
		return helps[key]
	}
	commands := regexp.MustCompile(`(?m)^  ([a-z]+) `).FindAllStringSubmatch(help(), -1)
	known := map[string]bool{}
	for _, c := range commands {
		known[c[1]] = true
	}
	option := regexp.MustCompile(`--[a-z][a-z-]+`)
	check := func(command, line string) {
		words := strings.Fields(command)
		if len(words) == 0 || !known[words[0]] {
			return
		}
		path := words[:1]
		if len(words) > 1 && regexp.MustCompile(`(?m)^  `+regexp.QuoteMeta(words[1])+` `).MatchString(help(words[0])) {
			path = words[:2]
		}
		for _, o := range option.FindAllString(line, -1) {
			assert.Contains(t, help(path...)+help(words[0]), o, "%s: %s", command, line)
		}
	}
	n := 0
	for _, m := range regexp.MustCompile("`neighbour ([^`]+)`").FindAllStringSubmatch(text, -1) {
		assert.True(t, known[strings.Fields(m[1])[0]] || strings.HasPrefix(m[1], "-") || strings.Contains("overdue", strings.Fields(m[1])[0]), m[1])
		before, _, _ := strings.Cut(m[1], " -- ")
		check(before, before)
		n++
	}
	for _, m := range regexp.MustCompile("(?m)^\\| `([a-z]+)[^`]*`.*$").FindAllStringSubmatch(text, -1) {
		if known[m[1]] {
			check(m[1], regexp.MustCompile("`[^`]*`").FindString(m[0]))
			n++
		}
	}
	assert.Greater(t, n, 40)
	makefile, err := os.ReadFile("../../Makefile")
	require.NoError(t, err)
	for _, m := range regexp.MustCompile("(?m)(?:^|`)(?:sudo )?make ([a-z]+)").FindAllStringSubmatch(of(t, all, "", "make demo")+text, -1) {
		assert.True(t, strings.Contains(string(makefile), "\n"+m[1]+":"), m[0])
	}
	for _, m := range regexp.MustCompile(`\]\(((?:docs|examples|CONTRIBUTING|CHANGELOG)[^)#]*)`).FindAllStringSubmatch(text, -1) {
		assert.FileExists(t, filepath.Join("../..", m[1]))
	}
}
