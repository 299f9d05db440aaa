// Package approval says what others have to approve before it is carried out, and by how many.
package approval

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// What is what can be made to need an approval.
type What string

const (
	Runs       What = "runs"
	Emptyings  What = "emptyings" // runs that remove all rows of a table at once
	Overrides  What = "overrides" // runs of plans that go beyond a guard rail
	Restores   What = "restores"
	Disposals  What = "disposals" // erasures too
	Erasures   What = "erasures"
	Loosenings What = "loosenings" // rules and keeps that loosen a locked clause
	Lifts      What = "lifts"      // of holds
	Guards     What = "guards"     // changes of the guard rails
)

// All is all that can be made to need one.
var All = []What{Runs, Emptyings, Overrides, Restores, Disposals, Erasures, Loosenings, Lifts, Guards}

// mostPersons is how many persons can be demanded.
const mostPersons = 9

// Demand says that something needs an approval.
type Demand struct {
	What    What
	Rule    string // of this rule alone; empty: of all of the source
	Persons int    // so many have to approve, none of them who asks
	Above   int64  // only of more rows than this; 0: of any
}

// Parse reads a demand: WHAT[@RULE][:PERSONS][:above=ROWS], like runs, runs@boarding-scans:2 or runs:2:above=10000.
func Parse(text string) (Demand, error) {
	parts := strings.Split(text, ":")
	what, rule, named := strings.Cut(parts[0], "@")
	d := Demand{What: What(what), Rule: rule, Persons: 1}
	if !slices.Contains(All, d.What) || named && rule == "" {
		return d, fmt.Errorf("%.80q is nothing that can be made to need an approval", parts[0])
	}
	for _, part := range parts[1:] {
		if rows, ok := strings.CutPrefix(part, "above="); ok {
			n, err := strconv.ParseInt(rows, 10, 64)
			if err != nil || n < 1 || !d.What.counts() {
				return d, fmt.Errorf("%.80q is no number of rows above which %s need an approval", part, d.What)
			}
			d.Above = n
			continue
		}
		n, err := strconv.Atoi(part)
		if err != nil || n < 1 || n > mostPersons {
			return d, fmt.Errorf("%.80q is no number of persons from 1 to %d", part, mostPersons)
		}
		d.Persons = n
	}
	return d, nil
}

// counts says whether it is known how many rows it is about.
func (w What) counts() bool {
	return w == Runs || w == Emptyings || w == Overrides || w == Restores || w == Disposals || w == Erasures
}

// String writes a demand as Parse reads it.
func (d Demand) String() string {
	text := string(d.What)
	if d.Rule != "" {
		text += "@" + d.Rule
	}
	if d.Persons > 1 {
		text += ":" + strconv.Itoa(d.Persons)
	}
	if d.Above > 0 {
		text += ":above=" + strconv.FormatInt(d.Above, 10)
	}
	return text
}

// Persons says how many persons have to approve something; 0: nobody has to. It is of one kind or of several; rows is
// how many rows it is about, less than 0 where that is not known, which counts as too many.
func Persons(demands []string, whats []What, rule string, rows int64) (most int, err error) {
	for _, text := range demands {
		d, err := Parse(text)
		if err != nil {
			return 0, err
		}
		if slices.Contains(whats, d.What) && (d.Rule == "" || d.Rule == rule) &&
			(rows < 0 || rows > d.Above || d.Above == 0) {
			most = max(most, d.Persons)
		}
	}
	return most, nil
}

// Digest tells what was approved from everything else: the SHA-256 of its JSON.
func Digest(of any) (string, error) {
	b, err := json.Marshal(of)
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:]), err
}
