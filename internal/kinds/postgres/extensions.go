package postgres

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"neighbour/internal/core/kind"
)

// checkExtensions makes sure that the declared extensions are installed for a server. Where its
// own pg_config doesn't say where they are, the server tells when they are created.
func checkExtensions(p kind.Program, declared []string) error {
	if len(declared) == 0 {
		return nil
	}
	var dir string
	for _, pattern := range []string{"/usr/share/postgresql/" + major(p.Version) + "/extension", filepath.Join(filepath.Dir(filepath.Dir(p.Path)), "share/postgresql*/extension"), filepath.Join(filepath.Dir(filepath.Dir(p.Path)), "share/extension")} {
		if found, _ := filepath.Glob(pattern); len(found) > 0 {
			dir = found[0]
			break
		}
	}
	if dir == "" {
		return nil
	}
	var lacks []string
	for _, name := range declared {
		if _, err := os.Stat(filepath.Join(dir, name+".control")); err != nil {
			lacks = append(lacks, name)
		}
	}
	if len(lacks) == 0 {
		return nil
	}
	return &kind.MissingError{Program: fmt.Sprintf("the extensions %s of PostgreSQL %s", strings.Join(lacks, ", "), major(p.Version)), Many: true,
		Packages: kind.Packages{Debian: extensionPackages(lacks, major(p.Version))}}
}

// packagesOf are what Debian's packages of extensions have after the version, where that is not
// the extension's name. Those of the server's own package are not in it.
var packagesOf = map[string]string{"vector": "pgvector", "postgis": "postgis-3", "postgis_raster": "postgis-3", "postgis_topology": "postgis-3", "pg_cron": "cron", "pg_partman": "partman", "pgrouting": "pgrouting", "pg_repack": "repack"}

// contributed are the extensions that the server's own package has.
var contributed = []string{"btree_gin", "btree_gist", "citext", "cube", "dblink", "earthdistance", "fuzzystrmatch", "hstore", "intarray", "isn", "ltree", "pg_stat_statements", "pg_trgm", "pgcrypto", "plpgsql", "postgres_fdw", "tablefunc", "unaccent", "uuid-ossp"}

// extensionPackages returns Debian's packages of extensions for a version of the server, blanks
// between them.
func extensionPackages(extensions []string, version string) string {
	var names []string
	for _, e := range extensions {
		if !slices.Contains(contributed, e) {
			names = append(names, "postgresql-"+version+"-"+cmp.Or(packagesOf[e], strings.ReplaceAll(e, "_", "-")))
		}
	}
	slices.Sort(names)
	return strings.Join(slices.Compact(names), " ")
}

// extend creates the declared extensions in each declared database.
func (p *provisioning) extend(ctx context.Context, report func(string)) error {
	s := p.in.Service.Settings.(*Settings)
	if len(s.Extensions) == 0 {
		return nil
	}
	for _, database := range s.Databases {
		conn, err := connect(ctx, p.in, database)
		if err != nil {
			return err
		}
		defer conn.Close(ctx)
		for _, name := range s.Extensions {
			report("extension " + name + " in " + database)
			if _, err := conn.Exec(ctx, "create extension if not exists "+quote(name)).ReadAll(); err != nil {
				return fmt.Errorf("extension %s in %s: %w; Debian has more of them in postgresql-contrib and postgresql-%s-NAME", name, database, err, major(p.in.Program.Version))
			}
		}
	}
	return nil
}
