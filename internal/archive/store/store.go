// Package store is where segments lie. A store keeps files by name; it never overwrites one, and a file is there
// whole or not at all. What is in the files is not its business.
package store

import (
	"context"
	"errors"
	"io"
	"iter"
	"slices"
	"strings"
	"time"
)

// Store keeps files under slash-separated names.
type Store interface {
	// Create begins a file of a name that no file has; ErrExists otherwise. Nothing is visible before Commit.
	Create(ctx context.Context, name string) (File, error)
	// Open opens a file for reading at any place; fs.ErrNotExist where there is none.
	Open(ctx context.Context, name string) (Reader, error)
	// List returns the files whose names begin with prefix, in order of name.
	List(ctx context.Context, prefix string) ([]Object, error)
	// Each goes through them, in any order, without having them all in memory. What is written or removed meanwhile
	// may be among them or not.
	Each(ctx context.Context, prefix string) iter.Seq2[Object, error]
	// Remove removes a file; one that is not there is no error.
	Remove(ctx context.Context, name string) error
	// KeptUntil says until when the place keeps anybody from removing a file, or a version of it; the zero time: it
	// does not.
	KeptUntil(ctx context.Context, name string) (time.Time, error)
	// Unfinished lists files that were begun and never committed, by the names that they were to have, which begin
	// with prefix.
	Unfinished(ctx context.Context, prefix string) ([]Unfinished, error)
	// RemoveUnfinished removes one of them.
	RemoveUnfinished(ctx context.Context, u Unfinished) error
	// Check writes a small file, reads it back, finds it in the listing, and removes it.
	Check(ctx context.Context) error
	// Habits tells what the place does with files on its own.
	Habits(ctx context.Context) ([]Habit, error)
	// Free returns how many bytes the service may still write; -1 where that is unknown.
	Free(ctx context.Context) int64
}

// File is a file being written.
type File interface {
	io.Writer
	Commit() error // makes the file durable and visible
	Abort()        // drops it; does nothing after Commit
}

// Reader is a file being read.
type Reader interface {
	io.ReaderAt
	io.Closer
	Size() int64
}

// Object is a file in a listing.
type Object struct {
	Name     string
	Size     int64
	Modified time.Time
}

// Unfinished is a file that was begun and not committed.
type Unfinished struct {
	Object
	ID string // tells it from others of the name
}

// Habit is something that a place does with files on its own.
type Habit struct {
	Harms   bool   `json:"harms"` // segments would vanish, could not be read, or could not be destroyed
	Message string `json:"message"`
}

// ErrDamaged is wrapped by every error that says a stored file is not what was written.
var ErrDamaged = errors.New("the segment is damaged")

// ErrExists says that a name is taken.
var ErrExists = errors.New("a file of that name exists already, and the archive overwrites nothing")

// sorted takes all files of a listing, in order of name.
func sorted(list iter.Seq2[Object, error]) ([]Object, error) {
	var out []Object
	for o, err := range list {
		if err != nil {
			return nil, err
		}
		out = append(out, o)
	}
	slices.SortStableFunc(out, func(a, b Object) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}
