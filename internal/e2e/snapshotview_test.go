package e2e

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"neighbour/internal/testkit"
)

// The view of snapshots saves what services hold, puts it back after a question, and deletes.
func TestSnapshotsView(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "redis-server")
	p := newProject(t, "[service.shelf]\nkind = \"redis\"\n[service.api]\nrun = \"sleep 1000\"\nneeds = [\"shelf\"]\n")
	p.must("start")
	p.must("ask", "shelf", "set tool drill", "--write")
	s := open(t, p.dir, 142, 38)
	s.see(`2 of 2 ready`)
	s.press("8")
	s.see(`S snapshots`)
	s.press("S")
	s.see(`The data of services stands here once it was saved`)
	s.press("n", "a", "/", "b", "Enter")
	s.see(`can't be the name of a snapshot`)
	s.press("BSpace", "BSpace", "Enter")
	s.see(`(?m)^▌ a +.* ago .* shelf`)
	s.see(`1 snapshot, the newest`)
	p.must("ask", "shelf", "set tool saw", "--write")
	s.press("r")
	s.see(`Put a back\?`)
	s.see(`shelf: `)
	s.press("Enter")
	s.see(`a is back: shelf`)
	s.see(`replaced .* replaced by a`)
	p.until("api", "ready")
	assert.Contains(t, p.must("ask", "shelf", "get tool"), "drill")
	s.press("x")
	s.see(`Delete the snapshot a\?`)
	s.press("Enter")
	s.gone(`(?m)^. a  `)
	s.press("Escape")
	s.see(`\[8 data`)
	s.press("q")
}
