package catalogue_test

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/project"
	"neighbour/internal/testkit"
)

// configured are services whose servers read files that are generated. What is
// written for each is in testdata/NAME.txt.
var configured = map[string]struct{ needs, declared string }{
	"nginx":         {"", "kind = \"nginx\"\nroot = \"public\"\nphp = \"${engine}\"\nextra = \"\"\"\nlocation /old { return 410; }\"\"\""},
	"nginx-proxy":   {"", "kind = \"nginx\"\nroot = \"public\"\nproxy = \"${api}\""},
	"apache":        {"apache2", "kind = \"apache\"\nroot = \"public\"\nphp = \"${engine}\""},
	"php":           {"", "kind = \"php\"\nworkers = 3\nini = { memory_limit = \"64M\", \"date.timezone\" = \"UTC\" }"},
	"mqtt":          {"", "kind = \"mqtt\""},
	"mqtt-users":    {"mosquitto_passwd", "kind = \"mqtt\"\nusers = [\"scale\", \"label printer\"]"},
	"rabbitmq":      {"", "kind = \"rabbitmq\"\nvhosts = [\"/\", \"sheds\"]\nusers = [\"lender\"]\nqueues = [\"reminders\"]"},
	"rabbitmq-bare": {"", "kind = \"rabbitmq\""},
}

// ownAccount is what only root's configurations have, as a user's can't.
var ownAccount = regexp.MustCompile(`(?mi)^(user|group) .*\n|^(user|group) = .*\n`)

// hashed are passwords as servers keep them: of mosquitto (PHC string format)
// and of RabbitMQ.
var hashed = regexp.MustCompile(`(:)\$7\$\S+|("password_hash": ?)"[^"]+"`)

// cookie is the secret of RabbitMQ's node.
var cookie = regexp.MustCompile(`(== \.erlang\.cookie\n)\w+`)

// modules is where this system has Apache's modules.
var modules = regexp.MustCompile(`"/[^"]*/modules/`)

func TestConfigurations(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	for name, c := range configured {
		t.Run(name, func(t *testing.T) {
			if c.needs != "" {
				testkit.Need(t, c.needs)
			}
			dir := t.TempDir()
			require.NoError(t, os.Mkdir(filepath.Join(dir, "public"), 0o755))
			accepts := filepath.Join(dir, "accepts")
			require.NoError(t, os.WriteFile(accepts, []byte("#!/bin/sh\n"), 0o755))
			others := "[service.engine]\nkind = \"php\"\nport = 4101\n[service.api]\nrun = \"true\"\nport = 4102\n"
			require.NoError(t, os.WriteFile(filepath.Join(dir, "neighbour.toml"), []byte(others+"[service.one]\nport = 4100\n"+c.declared+"\n"), 0o600))
			p, err := project.Open(dir)
			require.NoError(t, err)
			s := p.Service("one")
			in, err := p.Instance(s)
			require.NoError(t, err)
			require.NoError(t, p.EnsureInstanceDirs(in))
			in.Program = kind.Program{Path: accepts, Version: "9.1", Dir: dir}
			require.NoError(t, p.Kind(s).(kind.Preparer).Prepare(t.Context(), in, func(string) {}))

			files, err := filepath.Glob(filepath.Join(in.Run, "*"))
			require.NoError(t, err)
			slices.Sort(files)
			var got strings.Builder
			for _, f := range files {
				b, err := os.ReadFile(f)
				require.NoError(t, err)
				got.WriteString("== " + filepath.Base(f) + "\n" + string(b) + "\n")
			}
			text := ownAccount.ReplaceAllString(got.String(), "")
			for _, r := range [][2]string{{in.Data, "DATA"}, {in.Run, "RUN"}, {dir, "DIR"}} {
				text = strings.ReplaceAll(text, r[0], r[1])
			}
			text = hashed.ReplaceAllString(text, "${1}${2}HASH")
			text = cookie.ReplaceAllString(text, "${1}COOKIE")
			text = modules.ReplaceAllString(text, `"MODULES/`)
			assert.NotContains(t, text, "0.0.0.0", "it listens on this machine's own address only")
			golden := filepath.Join("testdata", name+".txt")
			if *update {
				require.NoError(t, os.MkdirAll("testdata", 0o755))
				require.NoError(t, os.WriteFile(golden, []byte(text), 0o600))
			}
			want, err := os.ReadFile(golden)
			require.NoError(t, err, "write it with -update")
			assert.Equal(t, string(want), text)
		})
	}
}
