package discover

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"neighbour/internal/core/kind"
	"neighbour/internal/core/machine/lazyregexp"
)

// pagesLimit is how many files of an app in PHP are read.
const pagesLimit = 60

var (
	sampleConfig = lazyregexp.New(`(?i)^[\w.-]*(?:config|settings|database|db)[\w.-]*(?:\.php|\.php\.(?:dist|sample|example|default)|\.sample\.php|\.inc)$`)
	// How pages reach a database, by what is needed for it.
	connects = []struct {
		expression *lazyregexp.Regexp
		kind       string
		extension  string
	}{
		{lazyregexp.New(`\bnew\s+\\?mysqli\b|\bmysqli_(?:connect|init|real_connect)\s*\(`), "mariadb", "mysqli"},
		{lazyregexp.New(`["']mysql:(?:host|dbname|unix_socket|["'])`), "mariadb", "pdo_mysql"},
		{lazyregexp.New(`["']pgsql:(?:host|dbname|["'])`), "postgres", "pdo_pgsql"},
		{lazyregexp.New(`\bpg_p?connect\s*\(`), "postgres", "pgsql"},
	}
	namedDatabase = lazyregexp.New(`(?i)(?:define\(\s*["']DB_(?:NAME|DATABASE)["']\s*,\s*["']|["']?(?:db_?name|database)["']?\s*(?:=>|\]?\s*=)\s*["']|dbname=)([A-Za-z][A-Za-z0-9_]*)`)
	placeholder   = lazyregexp.New(`(?i)here|your|name|example|change`)
)

// readPages looks in an app in PHP for the database that it connects to: in
// its sample configuration, and in how its pages do so.
func (r *reader) readPages(php *Service, folder, index string) {
	var files []string
	for _, dir := range []string{folder, index, filepath.Join(folder, "config"), filepath.Join(folder, "app"), filepath.Join(folder, "src"), filepath.Join(folder, "includes"), filepath.Join(folder, "inc"), filepath.Join(folder, "lib")} {
		found, _ := filepath.Glob(filepath.Join(r.dir, dir, "*"))
		for _, f := range found {
			rel, err := filepath.Rel(r.dir, f)
			if base := filepath.Base(f); err == nil && !slices.Contains(files, rel) && (strings.HasSuffix(base, ".php") || sampleConfig.MatchString(base)) {
				files = append(files, rel)
			}
		}
	}
	// The configuration comes first: it names the database.
	slices.SortStableFunc(files, func(a, b string) int {
		of := func(f string) int {
			if sampleConfig.MatchString(filepath.Base(f)) {
				return 0
			}
			return 1
		}
		return of(a) - of(b)
	})
	var extensions []string
	for _, f := range files[:min(len(files), pagesLimit)] {
		src := r.read(f)
		var server *Service
		for _, c := range connects {
			at := c.expression.FindStringIndex(src)
			if at == nil {
				continue
			}
			server = r.database(c.kind, Finding{f, strings.Count(src[:at[0]], "\n") + 1, "the app connects to " + kind.HintsOf(c.kind).Title + " with " + c.extension})
			if !slices.Contains(extensions, c.extension) {
				extensions = append(extensions, c.extension)
			}
		}
		if m := namedDatabase.FindStringSubmatchIndex(src); m != nil {
			line := strings.Count(src[:m[0]], "\n") + 1
			if server == nil {
				server = r.database("mariadb", Finding{f, line, "the app's configuration names a database"})
			}
			if name := src[m[2]:m[3]]; !placeholder.MatchString(name) && !slices.Contains(server.databases, name) {
				server.databases = append(server.databases, name)
			}
			if !strings.Contains(src, "getenv") && !strings.Contains(src, "$_ENV") {
				r.note(f, line, fmt.Sprintf("the database's address and password stand here as constants; read them with getenv, as getenv('DB_PASSWORD'), and give php that variable: DB_PASSWORD = \"${%s.password}\"", server.Name))
			}
		}
		r.readSource(php, f, src)
	}
	has := func(e string) bool {
		return slices.ContainsFunc(php.Lines, func(l string) bool { return key(l) == "extensions" && strings.Contains(l, `"`+e+`"`) })
	}
	extensions = slices.DeleteFunc(extensions, has)
	if len(extensions) > 0 && !slices.ContainsFunc(php.Lines, func(l string) bool { return key(l) == "extensions" }) {
		php.Lines = append(php.Lines, "extensions = "+list(extensions))
	}
	// A page doesn't choose the port of PHP's own server.
	php.Port = 0
}

// database returns the proposed database of a kind, or another of its family that
// was proposed before.
func (r *reader) database(kindName string, why Finding) *Service {
	if kindName == "mariadb" && r.servers["mysql"] != nil {
		kindName = "mysql"
	}
	if r.sql == "" {
		r.sql = kindName
	}
	return r.server(kindName, why)
}
