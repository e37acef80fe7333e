package demo

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/smtp"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	_ "modernc.org/sqlite" // the driver
)

// files are those of the demo that are no programs.
var files = map[string]string{
	"db/changes/001_members.sql": `-- who may borrow
CREATE TABLE member (
	id    INTEGER PRIMARY KEY,
	name  TEXT NOT NULL,
	mail  TEXT NOT NULL UNIQUE,
	since TEXT NOT NULL
);
`,
	"db/changes/002_house.sql": `-- where tools are brought back to
ALTER TABLE member ADD COLUMN house TEXT NOT NULL DEFAULT '';
CREATE INDEX member_house ON member (house);
`,
	"db/changes/003_loans.sql": `-- what there is, who has it, and what they say of it
CREATE TABLE tool (
	id    INTEGER PRIMARY KEY,
	name  TEXT NOT NULL,
	shelf TEXT NOT NULL,
	price NUMERIC NOT NULL
);
CREATE TABLE loan (
	id       INTEGER PRIMARY KEY,
	tool     INTEGER NOT NULL REFERENCES tool (id),
	member   INTEGER NOT NULL REFERENCES member (id),
	due      DATE NOT NULL,
	returned DATE,
	note     TEXT
);
CREATE TABLE review (
	tool   INTEGER NOT NULL REFERENCES tool (id),
	member INTEGER NOT NULL REFERENCES member (id),
	stars  INTEGER NOT NULL,
	text   TEXT,
	PRIMARY KEY (tool, member)
);
CREATE VIEW overdue AS
	SELECT t.name AS tool, m.name AS member, l.due FROM loan l JOIN tool t ON t.id = l.tool JOIN member m ON m.id = l.member WHERE l.returned IS NULL;
`,
	"db/changes/004_reviews.sql": `-- what they say is among the documents
DROP TABLE review;
`,
	"db/seed.sql": `INSERT INTO member (name, mail, since, house) VALUES
	('Ines Brandt', 'ines@example.org', '2023-04-02', 'No. 12'),
	('Tomas Okafor', 'tomas@example.org', '2023-04-02', 'No. 3'),
	('Marit Solheim', 'marit@example.org', '2024-09-14', 'No. 21'),
	('Bao Linh Tran', 'linh@example.org', '2025-01-30', 'No. 8');
INSERT INTO tool (name, shelf, price) VALUES
	('hammer drill', 'A 3', 129.9), ('extension ladder, 6 m', 'wall', 189), ('tile cutter', 'B 1', 74.5), ('heat gun', 'B 2', 39.9),
	('belt sander', 'A 1', 99), ('pipe wrench', 'C 4', 24.5), ('apple press', 'floor', 240), ('sewing machine', 'C 1', 310);
INSERT INTO loan (tool, member, due, returned, note) VALUES
	(3, 3, '2026-09-02', '2026-09-01', NULL), (1, 2, '2026-09-14', '2026-09-20', 'bit no. 6 was blunt'), (7, 4, '2026-10-11', '2026-10-10', NULL),
	(5, 1, '2026-10-30', '2026-10-30', 'keep the dust bag dry'), (1, 1, '2026-11-24', NULL, NULL), (2, 2, '2026-11-27', NULL, 'for the gutters'), (8, 3, '2026-11-29', NULL, NULL);
`,
}

// index lists the photos.
func index(ctx context.Context) error {
	found, err := filepath.Glob("photos/*")
	if err != nil {
		return err
	}
	for _, f := range found {
		say("photo of the " + strings.ReplaceAll(strings.TrimSuffix(filepath.Base(f), filepath.Ext(f)), "-", " "))
		warmUp(ctx, 20*time.Millisecond)
	}
	say(fmt.Sprintf("%d photos are listed", len(found)))
	return nil
}

// members lists those who may borrow, those of a house if one is named.
func members(ctx context.Context) error {
	db, err := sql.Open("sqlite", os.Getenv("MEMBERS_PATH"))
	if err != nil {
		return err
	}
	defer db.Close()
	rows, err := db.QueryContext(ctx, "SELECT name, house, since FROM member ORDER BY since, name")
	if err != nil {
		return err
	}
	defer rows.Close()
	n := 0
	for rows.Next() {
		var name, house, since string
		if err := rows.Scan(&name, &house, &since); err != nil {
			return err
		}
		fmt.Printf("%-16s %-8s since %s\n", name, house, since)
		n++
	}
	fmt.Printf("%d may borrow\n", n)
	return rows.Err()
}

// late returns the loans that are overdue.
func late() ([]Tool, error) {
	tools, err := getTools(os.Getenv("API_URL"))
	return slices.DeleteFunc(tools, func(t Tool) bool { return t.Due.IsZero() || t.Due.After(time.Now()) }), err
}

// overdue lists the loans that are overdue.
func overdue(context.Context) error {
	all, err := late()
	if err != nil {
		return err
	}
	for _, t := range all {
		fmt.Printf("%-18s %-14s due %s\n", t.Name, t.Borrower, t.Due.Format("2 January"))
	}
	fmt.Printf("%d overdue\n", len(all))
	return nil
}

// remind writes to the borrower who is late for longest.
func remind(context.Context) error {
	all, err := late()
	if err != nil {
		return err
	}
	if len(all) == 0 {
		fmt.Println("nobody is late")
		return nil
	}
	t := slices.MinFunc(all, func(a, b Tool) int { return a.Due.Compare(b.Due) })
	u, err := url.Parse(os.Getenv("SMTP_URL"))
	if err != nil {
		return err
	}
	if err := smtp.SendMail(u.Host, nil, os.Getenv("SENDER"), []string{t.Mail}, []byte(letter(t))); err != nil {
		return errors.New("the mail is not sent: " + err.Error())
	}
	fmt.Printf("reminded %s of the %s\n", t.Borrower, t.Name)
	return nil
}
