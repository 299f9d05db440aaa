package mariadb

import (
	"testing"
	"time"

	"ambercellar/internal/dbtest"
)

// A table that others have locked is one line of the list, and keeps the others from nothing.
func TestALockedTableIsOneLineOfTheList(t *testing.T) {
	url := dbtest.MariaDB(t)
	if err := dbtest.ExecMariaDB(url,
		`CREATE TABLE scan (id int PRIMARY KEY, at datetime NOT NULL, KEY (at)); INSERT INTO scan VALUES (1,
			'2020-01-01');
		CREATE TABLE other (id int PRIMARY KEY, at datetime NOT NULL, KEY (at)); INSERT INTO other VALUES (1,
			'2020-01-01')`); err != nil {
		t.Fatal(err)
	}
	db, err := dbtest.OpenMariaDB(url)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	c, err := db.Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	if _, err := c.ExecContext(t.Context(), "LOCK TABLES scan WRITE"); err != nil {
		t.Fatal(err)
	}
	s := openAt(t, url)
	begun := time.Now()
	list, err := s.Tables(t.Context())
	if err != nil || len(list) != 2 {
		t.Fatalf("%d tables, %v", len(list), err)
	}
	for _, x := range list {
		if (x.Oldest == "") != (x.Name == "scan") || len(x.Columns) != 2 {
			t.Errorf("%+v", x)
		}
	}
	if _, err := s.Check(t.Context()); err != nil {
		t.Errorf("the check of the source: %v", err)
	}
	if took := time.Since(begun); took > 3500*time.Millisecond { // one lock is waited for, for a second: no more
		t.Errorf("it took %s", took)
	}
}
