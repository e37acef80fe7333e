package postgres

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"github.com/jackc/pgx/v5/pgconn"

	"neighbour/internal/core/data/migrate"
	"neighbour/internal/core/kind"
)

// Provision makes the start of one server.
func (Kind) Provision(in *kind.Instance) kind.Provisioning { return &provisioning{in: in} }

// provisioning creates the declared databases that aren't there, on the
// connection that showed the server to be ready.
type provisioning struct {
	in   *kind.Instance
	conn *pgconn.PgConn
	// fresh says that the connection is to no database of the declaration.
	fresh   bool
	closing sync.Once
}

// Check logs in once the server says that it can: one that is asked too early
// writes a FATAL line into its log.
func (p *provisioning) Check(ctx context.Context) (string, error) {
	if status := serverStatus(p.in); status == "starting" {
		return "", errors.New("the server says that it is starting")
	}
	name := database(p.in)
	if p.fresh = !hasOwn(p.in); p.fresh {
		name = "postgres"
	}
	conn, err := connect(ctx, p.in, name)
	if coded(err, "3D000") { // invalid_catalog_name: it is newly declared
		p.fresh = true
		conn, err = connect(ctx, p.in, "postgres")
	}
	if err != nil {
		return "", err
	}
	p.conn = conn
	return "accepts a login", nil
}

// hasOwn reports whether a cluster has other databases than those that initdb
// makes: template0, template1 and postgres.
func hasOwn(in *kind.Instance) bool {
	entries, err := os.ReadDir(filepath.Join(cluster(in), "base"))
	return err == nil && len(entries) > 3
}

// State returns what the database knows of migrations, where that is known without
// another connection.
func (p *provisioning) State(ctx context.Context) (migrate.State, bool) {
	if p.conn == nil || p.fresh {
		return migrate.State{}, false
	}
	s, err := migrate.Look(ctx, &session{in: p.in, conn: p.conn})
	return s, err == nil
}

// Close ends the connection.
func (p *provisioning) Close() error {
	p.closing.Do(func() {
		if p.conn != nil {
			_ = p.conn.Close(context.Background()) // the server notices either way
		}
	})
	return nil
}

// serverStatus returns what a server writes of itself into the last line of
// postmaster.pid: "starting", "ready" (pidfile.h); "starting" as long as it has
// written nothing, "" if that can't be told.
func serverStatus(in *kind.Instance) string {
	b, err := os.ReadFile(filepath.Join(cluster(in), "postmaster.pid"))
	if errors.Is(err, fs.ErrNotExist) {
		return "starting"
	}
	if err != nil {
		return ""
	}
	const statusLine = 8
	lines := strings.Split(strings.TrimSpace(string(b)), "\n")
	if len(lines) < statusLine {
		return "starting"
	}
	return strings.TrimSpace(lines[statusLine-1])
}

func (p *provisioning) Provision(ctx context.Context, report func(string)) error {
	conn := p.conn
	if conn == nil { // another check was declared
		var err error
		if conn, err = connect(ctx, p.in, "postgres"); err != nil {
			return err
		}
		p.conn, p.fresh = conn, true
	}
	s := p.in.Service.Settings.(*Settings)
	if len(s.Databases) == 0 && len(s.Users) == 0 {
		return nil
	}
	owner := superuser
	if len(s.Users) > 0 {
		owner = s.Users[0]
		if err := p.createUsers(ctx, conn, report); err != nil {
			return err
		}
	}
	results, err := conn.Exec(ctx, "select datname, pg_get_userbyid(datdba) from pg_database").ReadAll()
	if err != nil {
		return fmt.Errorf("listing the databases: %w", err)
	}
	owners := map[string]string{}
	for _, row := range results[0].Rows {
		owners[string(row[0])] = string(row[1])
	}
	for _, name := range s.Databases {
		statement := "create database " + quote(name) + " owner " + quote(owner)
		switch owners[name] {
		case owner:
			continue
		case "":
			report("creating database " + name)
		default:
			report("database " + name + " and all in it get the owner " + owner)
			if err := p.handOver(ctx, name, owners[name], owner); err != nil {
				return fmt.Errorf("giving what is in database %s to %s: %w", name, owner, err)
			}
			statement = "alter database " + quote(name) + " owner to " + quote(owner)
		}
		if _, err := conn.Exec(ctx, statement).ReadAll(); err != nil && !exists(err) {
			return fmt.Errorf("creating database %s: %w", name, err)
		}
	}
	return p.extend(ctx, report)
}

// exists reports whether what was to be created is there by now: the keeper before
// was killed while the server was about it.
func exists(err error) bool {
	return coded(err, "23505", "42P04", "42710") // unique_violation, duplicate_database, duplicate_object
}

// handOver gives one user what another has in a database, so that who logs in as the one from
// now on may do what the other could. Reassigning all that the superuser owns is refused, since
// the system's own tables are among it.
func (p *provisioning) handOver(ctx context.Context, database, from, to string) error {
	conn, err := connect(ctx, p.in, database)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, strings.NewReplacer(":from", literal(from), ":to", literal(to)).Replace(handingOver)).ReadAll()
	return err
}

// handingOver alters the owner of all that a user has made in a database. What belongs to an
// extension stays as it is, and what belongs to a table follows it.
const handingOver = `do $neighbour$
declare
	statement text;
	old oid := (select oid from pg_roles where rolname = :from);
begin
	for statement in
		with own as (
			select oid from pg_namespace where nspname !~ '^pg_' and nspname <> 'information_schema'
		), others as (
			select classid, objid from pg_depend where deptype = 'e'
		)
		select format('alter schema %I owner to %I', nspname, :to) from pg_namespace
			where nspowner = old and oid in (select oid from own) and ('pg_namespace'::regclass, oid) not in (select * from others)
		union all
		select format('alter %s %s owner to %I', case relkind when 'S' then 'sequence' when 'v' then 'view' when 'm' then 'materialized view' when 'f' then 'foreign table' when 'c' then 'type' else 'table' end, oid::regclass, :to) from pg_class c
			where relowner = old and relnamespace in (select oid from own) and relkind in ('r', 'p', 'S', 'v', 'm', 'f', 'c') and ('pg_class'::regclass, oid) not in (select * from others)
			and not (relkind = 'S' and exists (select from pg_depend where classid = 'pg_class'::regclass and objid = c.oid and deptype in ('a', 'i')))
		union all
		select format('alter routine %s owner to %I', oid::regprocedure, :to) from pg_proc
			where proowner = old and pronamespace in (select oid from own) and ('pg_proc'::regclass, oid) not in (select * from others)
		union all
		select format('alter type %s owner to %I', oid::regtype, :to) from pg_type
			where typowner = old and typnamespace in (select oid from own) and typtype in ('e', 'd', 'r') and ('pg_type'::regclass, oid) not in (select * from others)
	loop
		execute statement;
	end loop;
end $neighbour$`

// createUsers creates the declared users that aren't there. All but the first
// become members of the first, and so may do what it may.
func (p *provisioning) createUsers(ctx context.Context, conn *pgconn.PgConn, report func(string)) error {
	users := p.in.Service.Settings.(*Settings).Users
	results, err := conn.Exec(ctx, "select rolname from pg_roles").ReadAll()
	if err != nil {
		return fmt.Errorf("listing the users: %w", err)
	}
	there := map[string]bool{}
	for _, row := range results[0].Rows {
		there[string(row[0])] = true
	}
	for i, name := range users {
		if there[name] {
			continue
		}
		report("creating user " + name)
		password, err := p.in.UserPassword(name)
		if err != nil {
			return err
		}
		statement := "create role " + quote(name) + " login password '" + password + "'" // letters and digits
		if i > 0 {
			statement += " in role " + quote(users[0])
		}
		if _, err := conn.Exec(ctx, statement).ReadAll(); err != nil && !exists(err) {
			return fmt.Errorf("creating user %s: %w", name, err)
		}
	}
	return nil
}
