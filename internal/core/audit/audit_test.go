package audit

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"
)

// chain makes a log of so many entries.
func chain(n int) (list []Entry, details []Detail) {
	hash := Genesis("a-log")
	for i := range n {
		d := Detail{Salt: fmt.Sprint("salt", i), Text: fmt.Sprint("détail ", i)}
		e := Entry{
			ID:      int64(i + 1),
			At:      time.Unix(1e9+int64(i), 7000),
			Actor:   "harbour-desk",
			Session: "s",
			Address: "::1",
			Action:  "run start",
			Subject: fmt.Sprint("r", i),
			Outcome: OutcomeDone,
			Digest:  Digest(d.Salt, d.Text),
		}
		e.Hash = e.Sum(hash)
		hash = e.Hash
		list, details = append(list, e), append(details, d)
	}
	return list, details
}

func check(list []Entry, details []Detail, heads ...Head) *Checker {
	c := NewChecker(0, Genesis("a-log"), heads)
	for i := range list {
		c.Add(&list[i], details[i])
	}
	c.End()
	return c
}

// TestTheFormStaysAsItIs: a log that was written by an earlier version has to hold for ever. The
// hashes were computed apart from this code.
func TestTheFormStaysAsItIs(t *testing.T) {
	list, _ := chain(2)
	if got, want := Genesis("a-log"), "2cb0bc2f8f8012df366bb8f6a71e752c0b64f0654d33bf1ece6f266296b54cc5"; got != want {
		t.Errorf("the genesis is %s", got)
	}
	if got, want := list[1].Hash, "11dab85b56db071fa62e4e2871643aa83c5cbd551d4b02e02800478fdc7f816d"; got != want {
		t.Errorf("the second entry is %s", got)
	}
	// Fields that run into each other are told apart.
	a, b := Entry{ID: 1, Actor: "ab", Session: "c"}, Entry{ID: 1, Actor: "a", Session: "bc"}
	if a.Sum("") == b.Sum("") || a.Sum("x") == a.Sum("y") {
		t.Error("two entries have one hash")
	}
}

func TestAWholeLogHolds(t *testing.T) {
	list, details := chain(50)
	c := check(list, details, Head{Entry: 50, Hash: list[49].Hash}, Head{Entry: 7, Hash: list[6].Hash})
	if len(c.Faults) > 0 || c.Entries != 50 {
		t.Errorf("%d entries: %v", c.Entries, c.Faults)
	}
	if id, hash := c.Last(); id != 50 || hash != list[49].Hash {
		t.Errorf("it ends with %d %s", id, hash)
	}
	if c := check(nil, nil); len(c.Faults) > 0 {
		t.Errorf("an empty log: %v", c.Faults)
	}
}

// Whatever is done to a log is found, and where.
func TestWhatWasDoneToALogIsFound(t *testing.T) {
	for name, x := range map[string]struct {
		do   func(*[]Entry, *[]Detail)
		want string
		at   int64
	}{
		"an actor changed": {func(l *[]Entry, _ *[]Detail) { (*l)[4].Actor = "somebody" }, "entry 5 is not what", 5},
		"a time changed": {func(l *[]Entry, _ *[]Detail) { (*l)[4].At = (*l)[4].At.Add(time.Microsecond) },
			"entry 5", 5},
		"an outcome changed": {func(l *[]Entry, _ *[]Detail) { (*l)[0].Outcome = OutcomeRefused },
			"entry 1 is not what", 1},
		"a detail changed": {func(_ *[]Entry, d *[]Detail) { (*d)[4].Text = "other" }, "detail of entry 5 is not", 5},
		"a detail removed": {func(_ *[]Entry, d *[]Detail) { (*d)[4] = Detail{Missing: true} },
			"detail of entry 5 is missing", 5},
		"a detail erased in silence": {func(_ *[]Entry, d *[]Detail) { (*d)[4] = Detail{Erased: 9} },
			"entry 9 does not record that", 5},
		"one removed": {func(l *[]Entry, d *[]Detail) { *l, *d = slices.Delete(*l, 4, 5), slices.Delete(*d, 4, 5) },
			"entry 5 is missing", 5},
		"several removed": {func(l *[]Entry, d *[]Detail) { *l, *d = slices.Delete(*l, 4, 7), slices.Delete(*d, 4, 7) },
			"entries 5 to 7 are missing", 5},
		"one removed, and the rest counted anew": {func(l *[]Entry, d *[]Detail) {
			*l, *d = slices.Delete(*l, 4, 5), slices.Delete(*d, 4, 5)
			for i := 4; i < len(*l); i++ {
				(*l)[i].ID--
			}
		}, "entry 5 is not what", 5},
		"two changed places": {func(l *[]Entry, d *[]Detail) {
			(*l)[4].Actor, (*l)[5].Actor = "x", "y"
		}, "entry 5 is not what", 5},
		"the last removed": {func(l *[]Entry, d *[]Detail) { *l, *d = (*l)[:19], (*d)[:19] },
			"a store knows entry 20", 20},
		"the whole rewritten": {func(l *[]Entry, d *[]Detail) {
			hash := Genesis("a-log")
			for i := range *l {
				e := &(*l)[i]
				if i == 3 {
					e.Actor = "nobody"
				}
				e.Hash = e.Sum(hash)
				hash = e.Hash
			}
		}, "a store knows another entry 20", 20},
	} {
		list, details := chain(20)
		head := Head{Entry: 20, Hash: list[19].Hash}
		x.do(&list, &details)
		c := check(list, details, head)
		if len(c.Faults) == 0 || !slices.ContainsFunc(c.Faults, func(f Fault) bool {
			return f.Entry == x.at && strings.Contains(f.Message, x.want)
		}) {
			t.Errorf("%s: %+v", name, c.Faults)
		}
	}
}

func TestAnErasureThatIsRecordedHolds(t *testing.T) {
	list, details := chain(5)
	e := Entry{ID: 6, Action: EraseAction, Outcome: OutcomeDone, Digest: Digest("s", "why")}
	e.Hash = e.Sum(list[4].Hash)
	list, details = append(list, e), append(details, Detail{Salt: "s", Text: "why"})
	details[2] = Detail{Erased: 6}
	if c := check(list, details); len(c.Faults) > 0 || c.Erased != 1 {
		t.Errorf("%d erased, %v", c.Erased, c.Faults)
	}
}

func TestFaultsAreBounded(t *testing.T) {
	list, details := chain(500)
	for i := range details {
		details[i].Text = "other"
	}
	if c := check(list, details); len(c.Faults) != mostFaults || c.More != 400 {
		t.Errorf("%d faults and %d more", len(c.Faults), c.More)
	}
}
