package catalog

import (
	"errors"
	"fmt"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// unusable says of an error that the catalog cannot be opened with what to do about it.
func unusable(path string, err error) error {
	var e *sqlite.Error
	if !errors.As(err, &e) {
		return fmt.Errorf("catalog %s: %w", path, err)
	}
	const back = "stop the service, put the newest backup of the catalog in its place (without the files -wal and " +
		"-shm), " +
		"and start it again; without one, move the file away, add sources and stores anew, and `ambercellar catalog " +
		"rebuild` takes up what the stores hold"
	remedy := ""
	switch e.Code() & 0xff { // the rest tells it more finely
	case sqlite3.SQLITE_CORRUPT:
		remedy = "the file is damaged: " + back
	case sqlite3.SQLITE_NOTADB:
		remedy = "the file is no catalog: " + back
	case sqlite3.SQLITE_FULL:
		remedy = "the disk is full: make room in the data directory's file system"
	case sqlite3.SQLITE_IOERR:
		remedy = "the disk is full, or fails: look at the data directory's file system (`df`, `dmesg`)"
	case sqlite3.SQLITE_READONLY, sqlite3.SQLITE_CANTOPEN, sqlite3.SQLITE_PERM:
		remedy = "the service's user needs to write the file and its directory: look at their owner, and whether " +
			"the file " +
			"system is mounted to be written"
	case sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED:
		remedy = "another program works on the file: end it"
	default:
		return fmt.Errorf("catalog %s: %w", path, err)
	}
	return fmt.Errorf("catalog %s: %w; %s", path, err, remedy)
}

// ErrFull says that there is no room for what is to be kept.
var ErrFull = errors.New("there is no room for the service's own records")

// noRoom tells of an error of SQLite's that it is ErrFull, where it is that.
func noRoom(err error) error {
	var e *sqlite.Error
	if errors.As(err, &e) && e.Code() == sqlite3.SQLITE_FULL {
		return fmt.Errorf("%w: %w", ErrFull, err)
	}
	return err
}
