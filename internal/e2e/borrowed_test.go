package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A service of another project is started there with what it needs, waited for, checked and
// referred to; what is wrong with it is said where it is named.
func TestServiceOfAnotherProject(t *testing.T) {
	t.Parallel()
	base := t.TempDir()
	in := func(name, declaration string) *project {
		dir := filepath.Join(base, name)
		require.NoError(t, os.Mkdir(dir, 0o755))
		return newProjectIn(t, dir, declaration)
	}
	const books = "[service.books]\nkind = \"redis\"\n[service.clerk]\nrun = \"sleep 1000\"\nneeds = [\"books\"]\n[service.idle]\nrun = \"sleep 1000\"\n"
	accounts := in("accounts", books)
	borrow := func(project, service, fact string) string {
		return "[service.ledger]\nkind = \"project\"\nproject = \"" + project + "\"\nservice = \"" + service + "\"\nhealth = { every = \"200ms\" }\n" +
			"[service.api]\nrun = \"sleep 1000\"\nenv.LEDGER = \"${ledger." + fact + "}\"\n"
	}
	shed := in("toolshed", borrow("../accounts", "books", "url"))

	r := shed.run("start")
	require.Zero(t, r.code, r.stderr)
	assert.Contains(t, r.stderr, "books of accounts", "how far it is there is told here")
	there := accounts.status()
	assert.Equal(t, "ready", there.Service["books"].State)
	assert.Equal(t, "stopped", there.Service["idle"].State, "only what is needed is started")
	assert.Contains(t, shed.must("env", "api"), "redis://127.0.0.1:"+itoa(there.Service["books"].Port))

	shed.must("stop")
	assert.Equal(t, "ready", accounts.status().Service["books"].State, "it is the other project's to stop")
	shed.must("start")
	accounts.must("stop")
	shed.until("ledger", "ailing")
	assert.Contains(t, shed.status().Service["ledger"].Reason, "its project does not run")
	shed.must("start")
	assert.Equal(t, "ready", accounts.status().Service["books"].State, "a start here is one there")
	require.NoError(t, syscall.Kill(accounts.status().Keeper.PID, syscall.SIGKILL))
	require.Never(t, func() bool { return shed.status().Service["ledger"].State != "ready" }, time.Second, 50*time.Millisecond, "what runs goes on without its keeper")

	wrong := func(declaration string, says ...string) {
		t.Helper()
		shed.must("stop")
		shed.write("neighbour.toml", declaration)
		r := shed.run("check")
		assert.Equal(t, 1, r.code)
		r2 := shed.run("start")
		assert.Equal(t, 1, r2.code)
		for _, text := range says {
			assert.Contains(t, r.stdout, text)
			assert.Contains(t, r2.stdout+r2.stderr, text)
		}
	}
	wrong(borrow("../accounts", "book", "url"), `there is no service "book"`)
	wrong(borrow("../accounts", "books", "ulr"), `ledger offers no fact "ulr"`, "${ledger.url}")
	wrong(borrow("../nowhere", "books", "url"), "nowhere")
	wrong(borrow(".", "api", "url"), "that is this project")
	accounts.write("neighbour.toml", strings.Replace(books, "kind = \"redis\"", "kind = \"redis\"\nneeds = [\"shop\"]", 1)+"[service.shop]\nkind = \"project\"\nproject = \"../toolshed\"\nservice = \"api\"\n")
	wrong(borrow("../accounts", "books", "url"), "projects need one another in a circle: toolshed.ledger → accounts.books → toolshed.api")
	accounts.write("neighbour.toml", "[service\n")
	wrong(borrow("../accounts", "books", "url"), "this is not TOML")
	accounts.must("stop")
	shed.must("stop")
	accounts.write("neighbour.toml", "[service.books]\nrun = \"echo no paper; exit 3\"\nrestart = { when = \"never\" }\n")
	shed.write("neighbour.toml", borrow("../accounts", "books", "url")[:strings.Index(borrow("../accounts", "books", "url"), "[service.api]")])
	r = shed.run("start")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "books of accounts is failed: exit 3")
}
