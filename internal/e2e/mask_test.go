package e2e

import (
	"bytes"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"neighbour/internal/testkit"
)

// What is struck out of an exported snapshot is in none of the archive's files, the rest is, and
// the snapshot and what runs stay as they are.
func TestMaskedExports(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "redis-server")
	testkit.Need(t, testkit.Postgres, "postgres")
	testkit.Need(t, "mariadbd")
	const secret, public = "hemmelig-adresse", "hammer drill"
	p := newProject(t, `[snapshots]
mask = { ledger = ["members.email", "public.members.phone", "members.born", "loans.who"], shelf = ["session:*"], file = ["notes.text"], books = ["accounts.holder", "books.accounts.iban", "accounts.opened"], reviews = ["reviews.author.mail", "reviews.phone", "reviews.lent.to.who"], postbox = ["*"] }
[service.ledger]
kind = "postgres"
databases = ["shed", "other"]
[service.shelf]
kind = "redis"
[service.file]
kind = "sqlite"
[service.books]
kind = "mariadb"
databases = ["books"]
users = ["clerk"]
[service.reviews]
kind = "documents"
[service.postbox]
kind = "mail"
`)
	p.must("start")
	ask := func(service, statement string) { p.must("ask", service, statement, "--write") }
	ask("ledger", "create table members (id int primary key, email text not null unique, phone varchar(8), born date not null, tool text)")
	ask("ledger", "create index on members (email)")
	ask("ledger", "create materialized view mails as select email from members")
	ask("ledger", "insert into members select n, '"+secret+"' || n, 'tlf"+secret[:5]+"', date '1990-01-01' + n, '"+public+"' || n from generate_series(1, 3000) n")
	ask("ledger", "refresh materialized view mails")
	ask("ledger", "create table loans (month int, who text) partition by range (month)")
	ask("ledger", "create table spring partition of loans for values from (1) to (5)")
	ask("ledger", "create table autumn partition of loans for values from (5) to (13)")
	ask("ledger", "insert into loans select n, '"+secret+"' from generate_series(1, 12) n")
	ask("ledger", "create schema neighbour")
	ask("ledger", "create table neighbour.change (id int, old jsonb)")
	ask("ledger", "insert into neighbour.change values (1, '{\"email\": \""+secret+"\"}')")
	ask("ledger", "analyze")
	ask("ledger", "delete from members where id > 2500")
	for i := range 10 {
		ask("shelf", "set session:"+itoa(i)+" "+secret)
	}
	ask("shelf", "copy session:1 session:other db 3")
	ask("shelf", "set tool:1 '"+public+"'")
	ask("file", "create table notes (id integer primary key, text text not null, about text)")
	ask("file", "create table audit (what text)")
	ask("file", "create trigger \"to ld\" after update on notes begin insert into audit values (old.text); end")
	for i := range 8 {
		ask("file", "insert into notes (text, about) values ('"+secret+itoa(i)+"', '"+public+"')")
	}
	ask("file", "delete from notes where id > 6")
	ask("books", "create table accounts (id int auto_increment primary key, holder varchar(40) not null unique, iban varchar(30), opened date not null, tool text)")
	ask("books", "create table audit (what text)")
	ask("books", "create trigger told after update on accounts for each row insert into audit values (old.holder)")
	for i := range 12 {
		ask("books", "insert into accounts (holder, iban, opened, tool) values ('"+secret+itoa(i)+"', '"+secret+"', '1999-12-31', '"+public+"')")
	}
	ask("books", "delete from accounts where id > 9")
	for i := range 8 {
		ask("reviews", `{"insert": "reviews", "documents": [{"n": `+itoa(i)+`, "phone": "`+secret+`", "lent": [{"to": [{"who": "`+secret+itoa(i)+`", "day": 1}]}, {"to": {"who": "`+secret+`"}}], "author": {"name": "`+public+`", "mail": "`+secret+`"}}]}`)
	}
	ask("reviews", `{"delete": "reviews", "deletes": [{"q": {"n": {"$gt": 5}}, "limit": 0}]}`)
	p.must("snapshot", "save", "bug")

	contents := func(archive string) []byte {
		t.Helper()
		f, err := os.Open(archive)
		require.NoError(t, err)
		defer f.Close()
		z, err := zstd.NewReader(f)
		require.NoError(t, err)
		defer z.Close()
		all, err := io.ReadAll(z) // files of an archive are in it as they are
		require.NoError(t, err)
		return all
	}
	whole, masked := filepath.Join(t.TempDir(), "whole.tar.zst"), filepath.Join(t.TempDir(), "bug.tar.zst")
	p.must("snapshot", "export", "bug", whole, "--whole")
	b := contents(whole)
	assert.Contains(t, string(b), secret)
	assert.Contains(t, string(b), public)
	out := p.must("snapshot", "export", "bug", masked)
	assert.Contains(t, out, "struck out of ledger: members.email, public.members.phone, members.born and loans.who")
	assert.Contains(t, out, "struck out of postbox: all that it holds")
	b = contents(masked)
	assert.False(t, bytes.Contains(b, []byte(secret)), "%d times", bytes.Count(b, []byte(secret)))
	assert.False(t, bytes.Contains(b, []byte("tlf"+secret[:5])))
	assert.True(t, bytes.Contains(b, []byte(public)))
	copies, _ := filepath.Glob(p.state("copies/*"))
	unfinished, _ := filepath.Glob(p.state("snapshots/.unfinished-*"))
	assert.Empty(t, append(copies, unfinished...))
	assert.Contains(t, p.must("ask", "ledger", "select count(*) from members where email like '"+secret+"%'"), "2500")
	assert.NotContains(t, p.must("snapshot", "show", "bug"), "struck out")

	// A teammate can use it.
	p.must("snapshot", "import", masked, "--as", "theirs")
	assert.Contains(t, p.must("snapshot", "show", "theirs"), "struck out of shelf: session:*")
	p.must("snapshot", "restore", "theirs", "--yes")
	for _, name := range []string{"ledger", "shelf", "file", "books", "reviews"} {
		p.until(name, "ready")
	}
	got := p.must("ask", "ledger", "select count(*), count(distinct email), count(phone), max(email) from members", "--csv")
	assert.Contains(t, got, "2500,2500,0,999-masked-")
	assert.Contains(t, p.must("ask", "shelf", "keys *"), "tool:1")
	assert.NotContains(t, p.must("ask", "shelf", "keys *"), "session")
	assert.Contains(t, p.must("ask", "file", "select count(*), min(text) from notes", "--csv"), "6,1-masked-")

	assert.Contains(t, p.must("ask", "file", "select count(*) from audit", "--csv"), "0")
	ask("file", "update notes set about = 'saw' where id = 1")
	assert.Contains(t, p.must("ask", "file", "select count(*) from audit", "--csv"), "1", "its trigger is there again")

	all := p.must("data", "reviews", "reviews", "--json")
	assert.Equal(t, 6, strings.Count(all, public))
	assert.NotContains(t, all, "mail")
	got = p.must("ask", "books", "select count(*), count(distinct holder), count(iban), min(holder) from accounts", "--csv")
	assert.Contains(t, got, "9,9,0,1-masked-")
	assert.Contains(t, p.must("ask", "books", "select count(*) from audit", "--csv"), "0")
	ask("books", "update accounts set tool = 'saw' where id = 1")
	assert.Contains(t, p.must("ask", "books", "select count(*) from audit", "--csv"), "1", "its trigger is there again")

	ask("ledger", "create table trail as select 'from ' || email as what from members")
	p.must("snapshot", "save", "trail")
	for mask, says := range map[string]string{
		`ledger = ["members.emial"]`:    `"members.emial" names nothing`,
		`shelf = ["basket:*"]`:          `"basket:*" names nothing`,
		`file = ["nots.text"]`:          `"nots.text" names nothing`,
		`ledger = ["members.id"]`:       "",
		`books = ["accounts.hloder"]`:   `"accounts.hloder" names nothing`,
		`reviews = ["reviews.mial"]`:    `"reviews.mial" names nothing`,
		`reviews = ["reviews"]`:         "names no field of a collection",
		`ledger = ["email"]`:            "names no column of a table",
		`postbox = ["inbox"]`:           "of a service of kind mail no part can be struck out",
		`till = ["*"]`:                  `there is no service "till"`,
		`ledger = ["members.email", 3]`: "must be",
	} {
		text, err := os.ReadFile(filepath.Join(p.dir, "neighbour.toml"))
		require.NoError(t, err)
		_, services, _ := strings.Cut(string(text), "[service.ledger]")
		p.write("neighbour.toml", "[snapshots]\nmask = { "+mask+" }\n[service.ledger]"+services)
		r := p.run("snapshot", "export", "theirs", filepath.Join(t.TempDir(), "x"))
		assert.Equal(t, says != "", r.code != 0, "%s: %s", mask, r.stderr)
		assert.Contains(t, r.stderr, says, mask)
	}
	copies, _ = filepath.Glob(p.state("copies/*"))
	assert.Empty(t, copies, "of what fails nothing stays")

	// What is written down elsewhere, too, does not leave the machine.
	text, err := os.ReadFile(filepath.Join(p.dir, "neighbour.toml"))
	require.NoError(t, err)
	_, services, _ := strings.Cut(string(text), "[service.ledger]")
	p.write("neighbour.toml", "[snapshots]\nmask = { ledger = [\"members.email\"] }\n[service.ledger]"+services)
	// A look is at what runs, also after the file was edited.
	assert.Contains(t, p.must("ask", "ledger", "select count(*) from trail", "--csv"), "2500")
	assert.Contains(t, p.must("data", "reviews"), "reviews")
	r := p.run("snapshot", "export", "trail", filepath.Join(t.TempDir(), "x"))
	assert.Equal(t, 1, r.code)
	assert.Regexp(t, `ledger: a masked value that begins with "\S+" is still in \S*cluster/base/`, r.stderr)
}
