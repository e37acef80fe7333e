package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever a start fails for on this machine is in check before, and whatever check says would
// stop a start does: both are asked about each of these declarations.
func TestCheckIsComplete(t *testing.T) {
	t.Parallel()
	const api = "[service.api]\nrun = \"sleep 1000\"\n"
	for name, c := range map[string]struct {
		declaration string
		stops       bool
	}{
		"a program":                    {"[service.api]\nrun = \"no-such serve\"\n", true},
		"a program in a line":          {"[service.api]\nrun = \"no-such serve && true\"\n", true},
		"a program behind a variable":  {"[service.api]\nrun = \"A=1 no-such serve\"\n", true},
		"a program that may be absent": {"[service.api]\nrun = \"no-such || sleep 1000\"\n", false},
		"a file without rights":        {"[service.api]\nrun = \"./plain.txt\"\n", true},
		"a folder":                     {api + "dir = \"none\"\n", true},
		"a version":                    {"[service.api]\nrun = \"python3 -m http.server\"\nuses = { python = \">=99\" }\n", true},
		"a preparation":                {api + "prepare = [{ run = \"no-such ci\", when = [\"plain.txt\"] }]\n", true},
		"a preparation of each start":  {api + "prepare = [{ run = \"no-such ci\" }]\n", true},
		"a preparation in a line":      {api + "prepare = [{ run = \"no-such ci && true\" }]\n", true},
		"a preparation's folder":       {api + "prepare = [{ run = \"true\", dir = \"none\" }]\n", true},
		"a preparation's file":         {api + "prepare = [{ run = \"true\", when = [\"none.lock\"] }]\n", false},
		"what a preparation makes":     {"[service.api]\nrun = \"./made\"\nprepare = [{ run = \"sh -c 'printf \\\"#!/bin/sh\\\\nsleep 1000\\\\n\\\" >made; chmod +x made'\", makes = [\"made\"] }]\n", false},
		"a check":                      {api + "health = { run = \"no-such\", within = \"1s\" }\n", true},
		"a folder to write":            {api + "writes = [\"/proc/none\"]\n", true},
		"an optional service":          {api + "needs = [\"extra\"]\n[service.extra]\nrun = \"no-such\"\noptional = true\n", false},
		"an errand before":             {api + "[errand.migrate]\nrun = \"no-such\"\nwith = \"api\"\nbefore = [\"api\"]\n", true},
		"an errand by itself":          {api + "[errand.migrate]\nrun = \"no-such\"\nwith = \"api\"\n", false},
		"a variable":                   {api + "env.X = \"${env.NOT_SET_ANYWHERE}\"\n", true},
		"migrations":                   {"[service.books]\nkind = \"sqlite\"\nmigrations = \"none\"\n", true},
		"a seed":                       {"[service.books]\nkind = \"sqlite\"\nseed = \"none.sql\"\n", true},
		"a seed's program":             {api + "env.X = \"${books.path}\"\n[service.books]\nkind = \"sqlite\"\nseed = { run = \"no-such\", with = \"api\" }\n", true},
		"a web root":                   {"[service.web]\nkind = \"static\"\nroot = \"none\"\n", true},
		"an interface":                 {"[service.api]\nkind = \"stub\"\nopenapi = \"none.yaml\"\n", true},
		"functions":                    {"[service.api]\nkind = \"functions\"\ndir = \"none\"\n", true},
		"a server's version":           {"[service.ledger]\nkind = \"postgres\"\nversion = \"7\"\n", true},
		"a server's extension":         {"[service.ledger]\nkind = \"postgres\"\ndatabases = [\"a\"]\nextensions = [\"no_such\"]\n", true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := newProject(t, c.declaration)
			require.NoError(t, os.WriteFile(filepath.Join(p.dir, "plain.txt"), nil, 0o644))
			var found struct{ Findings []finding }
			r := p.run("check", "--json")
			require.NoError(t, json.Unmarshal([]byte(r.stdout), &found), r.stdout+r.stderr)
			assert.Equal(t, c.stops, r.code == 1, "check: %s%s", r.stdout, r.stderr)
			stops := 0
			for _, f := range found.Findings {
				if f.Level == "stops" {
					stops++
					assert.NotEmpty(t, f.Remedy, f.What)
				}
			}
			assert.Equal(t, c.stops, stops > 0)
			started := p.run("start")
			assert.Equal(t, c.stops, started.code == 1, "start: %s%s", started.stdout, started.stderr)
		})
	}
}
