package documents

import (
	"database/sql"
	"net/url"
	"path/filepath"
)

// Forget takes away, from the file of an emulator that has ended, what is kept there beside the
// documents: changes for those who watch, and answers for those who ask again. It writes the file
// anew, so that nothing is in it that no document has.
func Forget(dir string) error {
	db, err := sql.Open("sqlite", (&url.URL{Scheme: "file", OmitHost: true, Path: filepath.Join(dir, file)}).String())
	if err != nil {
		return err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	for _, statement := range []string{"DELETE FROM changes", "DELETE FROM answers", "VACUUM", "PRAGMA wal_checkpoint(TRUNCATE)"} {
		if _, err := db.Exec(statement); err != nil {
			return err
		}
	}
	return nil
}
