package catalogue_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/project"
)

// launches are declarations with what is started for them: the command line, the
// variables and the signal, with the folders' names in place of the folders. They
// listen on this machine's own address only.
var launches = []struct{ declared, want string }{
	{"kind = \"postgres\"\nsettings = { work_mem = \"8MB\" }", "/bin/server -D DATA/cluster -p 4100 -k RUN -c listen_addresses=127.0.0.1 -c log_destination=stderr -c logging_collector=off -c log_line_prefix=[%p]  -c work_mem=8MB |  | INT"},
	{"kind = \"mariadb\"", "/bin/server --no-defaults --datadir=DATA/files --port=4100 --bind-address=127.0.0.1 --socket=RUN/s.sock --pid-file=RUN/pid --init-file=RUN/rights.sql --tmpdir=DATA/tmp --skip-name-resolve --character-set-server=utf8mb4 |  | TERM"},
	{"kind = \"mysql\"", "/bin/server --no-defaults --datadir=DATA/files --port=4100 --bind-address=127.0.0.1 --socket=RUN/s.sock --pid-file=RUN/pid --init-file=RUN/rights.sql --tmpdir=DATA/tmp --skip-name-resolve --character-set-server=utf8mb4 --mysqlx=OFF |  | TERM"},
	{"kind = \"redis\"\nsettings = { maxmemory = \"64mb\" }", "/bin/server --port 4100 --bind 127.0.0.1 --dir DATA --daemonize no --logfile  --appendonly yes --maxmemory 64mb |  | TERM"},
	{"kind = \"redis\"\nforget = true", "/bin/server --port 4100 --bind 127.0.0.1 --dir DATA --daemonize no --logfile  --appendonly no --save  |  | TERM"},
	{"kind = \"memcached\"\nmemory = 32", "/bin/server -l 127.0.0.1 -p 4100 -U 0 -m 32 |  | TERM"},
	{"kind = \"nats\"\njetstream = true", "/bin/server --addr 127.0.0.1 --port 4100 --jetstream --store_dir DATA/jetstream |  | INT"},
	{"kind = \"mqtt\"", "/bin/server -c RUN/mosquitto.conf |  | TERM"},
	{"kind = \"beanstalkd\"", "/bin/server -l 127.0.0.1 -p 4100 -b DATA |  | TERM"},
	{"kind = \"beanstalkd\"\nforget = true", "/bin/server -l 127.0.0.1 -p 4100 |  | TERM"},
	{"kind = \"mail\"", "/bin/neighbour emulate mail --listen 127.0.0.1:4100 --misbehave RUN/misbehave.json --dir DATA/messages --web 127.0.0.1:"},
	{"kind = \"mail\"\nrefuse = [\"*@bounce.example.org\"]\nmisbehave = { slow = \"2s\", full = true }\nstarttls = true", "--refuse *@bounce.example.org --starttls |  | TERM"},
	{"kind = \"objects\"\nbuckets = [\"tools\"]\npublic = [\"tools\"]", "/bin/neighbour emulate objects --listen 127.0.0.1:4100 --misbehave RUN/misbehave.json --dir DATA --access app --bucket tools --public tools | NEIGHBOUR_OBJECTS_SECRET="},
	{"kind = \"documents\"\nkeep = false", "/bin/neighbour emulate documents --listen 127.0.0.1:4100 --misbehave RUN/misbehave.json --dir DATA --user app --forget | NEIGHBOUR_DOCUMENTS_PASSWORD="},
	{"kind = \"static\"\nroot = \".\"\nlisting = true\nhosts = [\"Shed.test\"]", "/bin/neighbour emulate static --listen 127.0.0.1:4100 --misbehave RUN/misbehave.json --root DIR --ready /.well-known/neighbour/ready --fallback  --listing --host shed.test |  | TERM"},
	{"kind = \"nginx\"\nroot = \".\"", "/bin/server -c RUN/server.conf -g daemon off; |  | TERM"},
	{"kind = \"apache\"\nroot = \".\"", "/bin/server -D FOREGROUND -f RUN/server.conf |  | TERM"},
	{"kind = \"php\"", "/bin/server --nodaemonize --fpm-config RUN/fpm.conf"},
	{"kind = \"rabbitmq\"", "inet_dist_use_interface {127,0,0,1}"},
	{"kind = \"program\"\nrun = \"node a.js\"", "/bin/server a.js |  | TERM"},
}

func TestLaunches(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	t.Setenv(project.GateVariable, "off") // the names are those of the folder
	for _, l := range launches {
		declared, want := l.declared, l.want
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "neighbour.toml"), []byte("[service.one]\nport = 4100\n"+declared+"\n"), 0o600))
		p, err := project.Open(dir)
		require.NoError(t, err, declared)
		p.Self = "/bin/neighbour"
		s := p.Service("one")
		in, err := p.Instance(s)
		require.NoError(t, err)
		in.Program = kind.Program{Path: "/bin/server", Version: "9.1", Dir: "/bin"}
		l, err := p.Kind(s).Launch(in)
		require.NoError(t, err, declared)
		got := fmt.Sprintf("%s | %s | %s", strings.Join(l.Argv, " "), strings.Join(l.Env, " "), l.Signal)
		for _, r := range [][2]string{{in.Data, "DATA"}, {in.Run, "RUN"}, {dir, "DIR"}} {
			got = strings.ReplaceAll(got, r[0], r[1])
		}
		assert.Contains(t, got+"\n", want, declared)
	}
}
