// Package audit is the chain of the audit log. Each entry names the hash of the one before, so that none can be
// changed, removed or put between others without every later hash changing too. Values that somebody may ask to have
// erased stand in a detail; the chain holds a salted digest of it, and goes on to hold when the detail is gone.
package audit

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"strconv"
	"time"
)

// Format names how entries are hashed. Every field is written as its length in bytes, a colon, the field and a comma (a
// netstring), and the hash is the SHA-256 of them all.
const Format = "ambercellar-audit/1"

// EntryOutcome says what became of what somebody wanted to do.
type EntryOutcome string

const (
	OutcomeDone    EntryOutcome = "done"
	OutcomeRefused EntryOutcome = "refused" // they may not, or it cannot be done
	OutcomeFailed  EntryOutcome = "failed"
)

// Entry is an entry of the audit log.
type Entry struct {
	ID      int64 // from 1 on, without a gap
	At      time.Time
	Actor   string // the name of an account, or "service"
	Session string // by which session it was done; empty: by a token, or by the service itself
	Address string // from where; empty: not from outside
	Action  string
	Subject string
	Outcome EntryOutcome
	Digest  string // of the detail
	Hash    string // of this entry, with that of the one before
}

// Form is how instants are written for hashing.
const Form = "2006-01-02T15:04:05.000000Z"

func sum(fields ...string) string {
	n := 0
	for _, f := range fields {
		n += len(f) + 8
	}
	b := make([]byte, 0, n)
	for _, f := range fields {
		b = append(strconv.AppendInt(b, int64(len(f)), 10), ':')
		b = append(append(b, f...), ',')
	}
	h := sha256.Sum256(b)
	return hex.EncodeToString(h[:])
}

// Genesis is what the first entry of a log has before it. log is the name of the log, which no other one has.
func Genesis(log string) string { return sum(Format, log) }

// Digest is that of a detail. salt keeps a detail that was erased from being guessed.
func Digest(salt, detail string) string { return sum(salt, detail) }

// Sum is the hash of an entry behind one whose hash is before.
func (e *Entry) Sum(before string) string {
	return sum(before, strconv.FormatInt(e.ID, 10), e.At.UTC().Format(Form), e.Actor, e.Session, e.Address, e.Action,
		e.Subject, string(e.Outcome), e.Digest)
}

// Detail is what is known of an entry's detail.
type Detail struct {
	Salt, Text string
	Erased     int64 // the entry that records that it was erased; 0: it was not
	Missing    bool
}

// Fault is a place where a log does not hold.
type Fault struct {
	Entry   int64  `json:"entry"`
	Message string `json:"message"`
}

// Head says which hash a log had after an entry.
type Head struct {
	Format string    `json:"format"` // HeadFormat
	Log    string    `json:"log"`    // the name of the log
	Entry  int64     `json:"entry"`  // the last one
	Hash   string    `json:"hash"`   // its
	At     time.Time `json:"at"`     // when this was written
}

// HeadFormat is the name of the format of a head, with its version.
const HeadFormat = "ambercellar-audit-head/1"

// mostFaults bounds how many faults are told one by one.
const mostFaults = 100

// Checker checks a log, entry by entry.
type Checker struct {
	Entries int64 // that were checked
	Erased  int64 // of which the detail was erased
	Faults  []Fault
	More    int64 // faults beyond those
	Unread  int64 // entries that could not be read, because their store did not answer

	begun   place // behind which it began
	last    int64
	hash    string
	heads   map[int64][]Head
	erasing map[int64]bool  // entries that are said to record an erasure
	erases  map[int64]int64 // of these, which entry refers to it
	// subjects of the entries that record that others were destroyed
	destroys map[string]bool
	// the subject of the entry that records why the log begins where it does; empty: it begins with the first entry
	destroyed string
}

// place is an entry with its hash.
type place struct {
	entry int64
	hash  string
}

// NewChecker begins behind an entry with a hash: of the first, 0 and its genesis. heads are what is known of the log
// from elsewhere.
func NewChecker(last int64, hash string, heads []Head) *Checker {
	c := &Checker{
		begun:    place{last, hash},
		last:     last,
		hash:     hash,
		heads:    map[int64][]Head{},
		erasing:  map[int64]bool{},
		erases:   map[int64]int64{},
		destroys: map[string]bool{},
	}
	for _, h := range heads {
		c.heads[h.Entry] = append(c.heads[h.Entry], h)
	}
	return c
}

// BeginsBehind says that the entries from first on, up to where the checker begins, were destroyed. The log has to
// record that.
func (c *Checker) BeginsBehind(first int64) {
	c.destroyed = DestroyedSubject(first, c.begun.entry, c.begun.hash)
}

// Pass goes on behind an entry with a hash, without having read those before it.
func (c *Checker) Pass(last int64, hash string) {
	c.Unread += last - c.last
	c.last, c.hash = last, hash
}

// Damaged says that the entries up to one with a hash are not there, or not what was written.
func (c *Checker) Damaged(last int64, hash, why string) {
	c.fault(c.last+1, "entries %d to %d: %s", c.last+1, last, why)
	c.last, c.hash = last, hash
}

func (c *Checker) fault(entry int64, format string, args ...any) {
	if len(c.Faults) == mostFaults {
		c.More++
		return
	}
	c.Faults = append(c.Faults, Fault{Entry: entry, Message: fmt.Sprintf(format, args...)})
}

// EraseAction is what entries are called that record an erasure of details, DestroyAction those that record that the
// oldest entries were destroyed.
const (
	EraseAction   = "audit erase"
	DestroyAction = "audit destroy"
)

// DestroyedSubject is the subject of an entry that records the destruction of entries: the first and the last of them,
// and the hash of the last, behind which the log begins from then on.
func DestroyedSubject(first, last int64, hash string) string {
	return fmt.Sprintf("%d-%d %s", first, last, hash)
}

// Add checks the next entry.
func (c *Checker) Add(e *Entry, d Detail) {
	c.Entries++
	switch {
	case e.ID == c.last+2:
		c.fault(c.last+1, "entry %d is missing", c.last+1)
	case e.ID > c.last+2:
		c.fault(c.last+1, "entries %d to %d are missing", c.last+1, e.ID-1)
	}
	gap := e.ID != c.last+1
	if e.Sum(c.hash) != e.Hash && !gap { // behind a gap, it cannot be said
		c.fault(e.ID, "entry %d is not what was written, or the one before it is not", e.ID)
	}
	switch {
	case d.Missing:
		c.fault(e.ID, "the detail of entry %d is missing", e.ID)
	case d.Erased != 0:
		c.Erased++
		c.erases[d.Erased] = e.ID
	case Digest(d.Salt, d.Text) != e.Digest:
		c.fault(e.ID, "the detail of entry %d is not what was written", e.ID)
	}
	if e.Action == EraseAction && e.Outcome == OutcomeDone {
		c.erasing[e.ID] = true
	}
	if e.Action == DestroyAction && e.Outcome == OutcomeDone {
		c.destroys[e.Subject] = true
	}
	c.known(e.ID, e.Hash)
	c.last, c.hash = e.ID, e.Hash
}

// known compares an entry with what is known of it from elsewhere.
func (c *Checker) known(id int64, hash string) {
	for _, h := range c.heads[id] {
		if h.Hash != hash {
			c.fault(id, "a store knows another entry %d, of %s", id, h.At.UTC().Format(time.RFC3339))
		}
	}
	delete(c.heads, id)
}

// End checks what can be said when all entries were added.
func (c *Checker) End() {
	var beyond *Head
	for id, heads := range c.heads {
		if id > c.last && (beyond == nil || id > beyond.Entry) {
			beyond = &heads[0]
		}
	}
	if beyond != nil {
		c.fault(
			beyond.Entry,
			"a store knows entry %d, of %s; here the last is %d: entries were removed at the end, or an "+
				"older catalog was put back",
			beyond.Entry,
			beyond.At.UTC().Format(time.RFC3339),
			c.last,
		)
	}
	if c.destroyed != "" && !c.destroys[c.destroyed] && c.Unread == 0 {
		c.fault(
			c.begun.entry,
			"the log begins behind entry %d, and no entry records that those before were destroyed",
			c.begun.entry,
		)
	}
	for by, entry := range c.erases {
		if !c.erasing[by] && c.Unread == 0 {
			c.fault(entry, "the detail of entry %d was taken away, and entry %d does not record that", entry, by)
		}
	}
}

// Join takes over what a checker has found that began where this one ended.
func (c *Checker) Join(next *Checker) {
	if next.begun != (place{c.last, c.hash}) {
		c.fault(c.last+1, "what follows entry %d is not what was written behind it", c.last)
	}
	c.Unread += next.Unread
	maps.Copy(c.destroys, next.destroys)
	c.Entries, c.Erased = c.Entries+next.Entries, c.Erased+next.Erased
	room := mostFaults - len(c.Faults)
	c.Faults = append(c.Faults, next.Faults[:min(room, len(next.Faults))]...)
	c.More += next.More + int64(max(len(next.Faults)-room, 0))
	c.last, c.hash = next.last, next.hash
	for id, heads := range next.heads {
		c.heads[id] = append(c.heads[id], heads...)
	}
	maps.Copy(c.erasing, next.erasing)
	maps.Copy(c.erases, next.erases)
}

// Last is the last entry that was added, and its hash.
func (c *Checker) Last() (id int64, hash string) { return c.last, c.hash }
