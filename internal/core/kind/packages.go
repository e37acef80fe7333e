package kind

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"neighbour/internal/core/machine/lazyregexp"
)

// Packages names what provides a program: packages of Debian and Homebrew,
// several with blanks between. Other systems' names for those of Debian are
// known for the most usual ones.
type Packages struct {
	Debian   string `json:"debian,omitempty"`
	Homebrew string `json:"homebrew,omitempty"`
}

// installer is a package manager.
type installer struct {
	program string   // that there is on systems that have it
	command []string // what installs the packages that are named after it
	yes     string   // the option with which it asks nothing
	ours    bool     // it runs as this user, and asks for more rights itself
	names   func(Packages) string
}

// installers are the package managers, the first one found being taken.
var installers = []installer{
	{"apt-get", []string{"apt-get", "install", "--no-install-recommends"}, "-y", false, func(p Packages) string { return p.Debian }},
	{"dnf", []string{"dnf", "install"}, "-y", false, named(0)},
	{"pacman", []string{"pacman", "-S", "--needed"}, "--noconfirm", false, named(1)},
	{"apk", []string{"apk", "add"}, "", false, named(2)},
	{"zypper", []string{"zypper", "install"}, "-y", false, named(3)},
	{"brew", []string{"brew", "install"}, "", true, func(p Packages) string { return p.Homebrew }},
}

// others are what packages of Debian are called by dnf, pacman, apk and zypper; ""
// where there is none.
var others = map[string][4]string{
	"postgresql": {"postgresql-server", "postgresql", "postgresql", "postgresql-server"}, "postgresql-client": {"postgresql", "postgresql", "postgresql-client", "postgresql"},
	"mariadb-server": {"mariadb-server", "mariadb", "mariadb", "mariadb"}, "mariadb-client": {"mariadb", "mariadb-clients", "mariadb-client", "mariadb-client"},
	"redis-server": {"redis", "redis", "redis", "redis"}, "redis-tools": {"redis", "redis", "redis", "redis"},
	"memcached": {"memcached", "memcached", "memcached", "memcached"}, "mosquitto": {"mosquitto", "mosquitto", "mosquitto", "mosquitto"},
	"nginx-light": {"nginx", "nginx", "nginx", "nginx"}, "nginx": {"nginx", "nginx", "nginx", "nginx"}, "apache2": {"httpd", "apache", "apache2", "apache2"},
	"rabbitmq-server": {"rabbitmq-server", "rabbitmq", "rabbitmq-server", "rabbitmq-server"}, "nats-server": {"", "nats-server", "nats-server", ""},
	"beanstalkd": {"beanstalkd", "", "beanstalkd", "beanstalkd"}, "sqlite3": {"sqlite", "sqlite", "sqlite", "sqlite3"},
	"nodejs": {"nodejs", "nodejs", "nodejs", "nodejs"}, "npm": {"nodejs-npm", "npm", "npm", "npm"},
	"php-cli": {"php-cli", "php", "php", "php8-cli"}, "php-fpm": {"php-fpm", "php-fpm", "", "php8-fpm"}, "composer": {"composer", "composer", "composer", "php-composer2"},
	"python3": {"python3", "python", "python3", "python3"}, "python3-venv": {"python3", "python", "python3", "python3"}, "ruby": {"ruby", "ruby", "ruby", "ruby"},
	"golang-go": {"golang", "go", "go", "go"}, "default-jre": {"java-latest-openjdk", "jre-openjdk", "openjdk21-jre", "java-21-openjdk"}, "maven": {"maven", "maven", "maven", "maven"},
	"make": {"make", "make", "make", "make"}, "perl": {"perl", "perl", "perl", "perl"}, "elixir": {"elixir", "elixir", "elixir", "elixir"}, "cargo": {"cargo", "rust", "cargo", "cargo"},
}

// named returns what finds the names of one of the others; "" where one is not
// known.
func named(column int) func(Packages) string {
	return func(p Packages) string {
		var out []string
		for _, name := range strings.Fields(p.Debian) {
			other := others[name][column]
			if other == "" {
				return ""
			}
			out = append(out, other)
		}
		return strings.Join(out, " ")
	}
}

// serving are the packages of Debian whose installation starts a server for the
// whole machine, with the service that it is.
var serving = map[string]string{
	"postgresql": "postgresql", "mariadb-server": "mariadb", "mysql-server": "mysql", "redis-server": "redis-server", "memcached": "memcached", "mosquitto": "mosquitto",
	"nginx-light": "nginx", "nginx": "nginx", "apache2": "apache2", "rabbitmq-server": "rabbitmq-server", "nats-server": "nats-server", "beanstalkd": "beanstalkd", "php-fpm": "php-fpm",
}

// Install is what installs packages on this system.
type Install struct {
	Argv []string
	// Serving are the packages that start a server for the whole machine when
	// they are installed.
	Serving []string
	// Update has the lists of packages brought up to date before, where they are missing or older
	// than listsAge; nil where they needn't be.
	Update []string
}

// listsAge is how old the lists of packages may be: what they name may be gone from the servers.
const listsAge = 7 * 24 * time.Hour

// aptLists is where apt-get has its lists of packages.
var aptLists = "/var/lib/apt/lists"

// listsAreOld reports whether apt-get has no lists of packages, or old ones.
func listsAreOld() bool {
	found, _ := filepath.Glob(filepath.Join(aptLists, "*_Packages*"))
	if len(found) == 0 {
		return true
	}
	// Each update changes the folder, if only for its lock and partial files.
	for _, path := range []string{aptLists, filepath.Join(aptLists, "partial"), "/var/lib/apt/periodic/update-success-stamp"} {
		if info, err := os.Stat(path); err == nil && time.Since(info.ModTime()) < listsAge {
			return false
		}
	}
	return true
}

// String returns the command as it is typed.
func (i Install) String() string { return strings.Join(i.Argv, " ") }

// NewInstall returns what installs all of these packages on this system, with yes
// without asking anything. It is empty if there are none, or nothing known to
// install them with.
func NewInstall(yes bool, all ...Packages) Install {
	for _, m := range installers {
		if _, err := exec.LookPath(m.program); err != nil {
			continue
		}
		var names []string
		var i Install
		for _, p := range all {
			for _, name := range strings.Fields(m.names(p)) {
				if !slices.Contains(names, name) {
					names = append(names, name)
				}
			}
			for _, name := range strings.Fields(p.Debian) {
				if _, serves := serving[name]; serves && m.program == "apt-get" && !slices.Contains(i.Serving, name) {
					i.Serving = append(i.Serving, name)
				}
			}
		}
		if len(names) == 0 {
			return Install{}
		}
		if os.Getuid() != 0 && !m.ours {
			i.Argv = []string{"sudo"}
		}
		if m.program == "apt-get" && listsAreOld() {
			i.Update = append(slices.Clone(i.Argv), "apt-get", "update")
		}
		i.Argv = append(i.Argv, m.command...)
		if yes && m.yes != "" {
			i.Argv = append(i.Argv, m.yes)
		}
		i.Argv = append(i.Argv, names...)
		return i
	}
	return Install{}
}

// InstallCommand returns the command that installs all of these packages on
// this system: "sudo apt-get install postgresql redis-server". It is "" if
// there are none, or nothing known to install them with.
func InstallCommand(all ...Packages) string { return NewInstall(false, all...).String() }

// InWords says how to install them on this system, or what they are called
// where that isn't known; "" if they have no names.
func (p Packages) InWords() string {
	if c := InstallCommand(p); c != "" {
		return "install it with: " + c
	}
	switch {
	case p.Debian != "":
		return "install what Debian has as " + p.Debian
	case p.Homebrew != "":
		return "install what Homebrew has as " + p.Homebrew
	}
	return ""
}

var candidate = lazyregexp.New(`(?m)^ +Candidate: (?:\d+:)?(\d[\d.]*)`)

// Offered returns the version of a package of Debian that apt-get would install, "" if there is
// none, or no apt-get.
func Offered(name string) string {
	out, err := exec.Command("apt-cache", "policy", name).Output()
	if err != nil {
		return ""
	}
	if m := candidate.FindSubmatch(out); m != nil {
		return string(m[1])
	}
	return ""
}
