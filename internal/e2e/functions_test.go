package e2e

import (
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/record/traffic"
	"neighbour/internal/testkit"
)

// Functions are called as their files are now, with the project's wiring, by HTTP and by
// command; TypeScript is compiled by the project's own compiler.
func TestFunctions(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "node")
	modules, err := filepath.Abs("clients/node_modules")
	require.NoError(t, err)
	if _, err := os.Stat(filepath.Join(modules, "typescript")); err != nil {
		testkit.Lacking(t, "the clients are not installed (scripts/clients.sh installs them)")
	}
	p := newProject(t, `
[service.chores]
kind = "functions"
env.SHELF_URL = "${shelf.url}"
functions = { tell = { run = "sh -c 'printf \"Content-Type: text/plain\\n\\n%s\" $SHELF_URL'" } }

[service.shelf]
kind = "objects"
`)
	require.NoError(t, os.Symlink(modules, filepath.Join(p.dir, "node_modules")))
	p.write("functions/greet.ts", "import { greeting } from './words.js'\nexport default async (request: Request) => {\n  console.error('greets')\n  return { text: greeting(((await request.json()) as { name: string }).name) }\n}\n")
	p.write("functions/words.ts", "export const greeting = (name: string): string => 'Hello, ' + name\nexport const handler = () => 'words'\n")
	require.Contains(t, p.run("call", "greet").stderr, "chores is stopped; start it with: neighbour start chores")
	p.must("start")
	url := p.status().Service["chores"].Facts["url"]
	assert.Equal(t, p.status().Service["shelf"].Facts["url"], p.must("call", "tell"))
	assert.JSONEq(t, `{"text":"Hello, Ines"}`, p.must("call", "greet", `{"name":"Ines"}`))
	p.write("functions/words.ts", "export const greeting = (name: number): string => 'Hello, ' + name\nexport const handler = () => 'words'\n")
	refused := p.run("call", "greet", `{"name":"Ines"}`)
	assert.Equal(t, 1, refused.code)
	assert.Contains(t, refused.stderr, "it does not compile: greet.ts(4,")
	assert.Contains(t, p.must("data", "chores", "functions"), "it does not compile", "it is said of the function, too")
	p.write("functions/words.ts", "export const greeting = (name: string): string => 'Good day, ' + name\nexport const handler = () => 'words'\n")
	assert.JSONEq(t, `{"text":"Good day, Ines"}`, p.must("call", "greet", `{"name":"Ines"}`))
	assert.Contains(t, p.must("logs", "chores"), "greet 4: greets")
	assert.Contains(t, p.must("data", "chores", "functions"), "greet")

	// A killed service is there again, and nothing of it goes on beside it.
	pid := p.status().Service["chores"].PID
	p.kill("chores", syscall.SIGKILL)
	p.eventually(func(s status) bool { return s.Service["chores"].State == "ready" && s.Service["chores"].PID != pid })
	assert.Equal(t, "words", p.must("call", "words"))
	resp := p.run("call", "nix")
	assert.Equal(t, 1, resp.code)
	assert.Contains(t, resp.stderr, "there are: greet, tell, words")
	var calls []traffic.Exchange
	_, text := get(http.DefaultClient, url+traffic.Path)
	require.NoError(t, json.Unmarshal([]byte(text), &calls))
	require.Len(t, calls, 2)
	assert.Equal(t, "/nix", calls[0].Path)
	p.must("stop")
	assert.Empty(t, p.left())

	broken := newProject(t, "[service.chores]\nkind = \"functions\"\ndir = \"absent\"\ntime = \"1ns\"\nfunctions = { \"a/b\" = { file = \"../x.js\", at_once = 900 }, b = { run = \"sh\", file = \"b.js\" } }\n")
	said := broken.run("start").stderr
	for _, want := range []string{"1ns is too short for any call", `"a/b" can't be a function's name`, `"../x.js" leaves the folder of the functions`, "900 calls can't be under way", "a function is a command or a file"} {
		assert.Contains(t, said, want)
	}
	absent := newProject(t, "[service.chores]\nkind = \"functions\"\n")
	assert.Contains(t, strings.ReplaceAll(absent.run("start").stderr+absent.run("status").stdout, "\n", " "), "there is no folder")
}
