package service

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/declare"
)

// files are declarations of a service.
type files struct {
	*nights
	at string
}

func openFiles(t *testing.T) *files {
	t.Helper()
	f := &files{nights: openNights(t, "scan", "berth"), at: t.TempDir()}
	f.Declared.dir = f.at
	return f
}

func (f *files) write(t *testing.T, name, text string) {
	t.Helper()
	if err := os.WriteFile(filepath.Join(f.at, name), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

func (f *files) takeUp(t *testing.T, x TakeUp) *Declared {
	t.Helper()
	d, err := f.Declared.TakeUp(t.Context(), byFiles, x)
	if err != nil {
		t.Fatal(err)
	}
	return d
}

// stands says how things stand, but for those that are the same or were never declared.
func (f *files) stands(t *testing.T) (out []string) {
	t.Helper()
	d, err := f.Declared.State(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range d.Items {
		if x.State != declare.DeclaredSame && x.State != declare.Undeclared {
			out = append(out, x.Kind+" "+x.Name+" "+string(x.State))
		}
	}
	return out
}

func (f *files) rule(t *testing.T, name string) string {
	t.Helper()
	r, err := f.Catalog.Rule(t.Context(), name)
	if err != nil {
		t.Fatal(err)
	}
	return r.Text
}

const (
	scanOneYear = "rule: scans\nsource: harbour\ntable: scan\nage: at\nzone: UTC\nclauses:\n  - keep: P1Y\n" +
		"then: purge\n"
	berthByKeep = "rule: berths\nsource: harbour\ntable: berth\nage: at\nzone: UTC\nclauses:\n  - keep: long\n" +
		"then: purge\n"
	keepLong     = "keep: long\nperiod: P2Y\nabout: The harbour office asks for two years.\n"
	scanTwoYears = "rule: scans\nsource: harbour\ntable: scan\nage: at\nzone: UTC\nclauses:\n  - keep: P2Y\n" +
		"then: purge\n"
)

// TestFilesAreTakenUpAndUndoNothing: what is new or changed in files is taken up, all rules or none; what somebody
// changed in the service stays until it is said that it goes, and a finding tells of it.
func TestFilesAreTakenUpAndUndoNothing(t *testing.T) {
	t.Parallel()
	f := openFiles(t)
	address := filepath.Join(f.dir, "harbour.db")
	f.write(t, "a-rules.yaml", scanOneYear+"---\n"+berthByKeep)
	f.write(t, "b-keeps.yml", keepLong)
	f.write(t, "c-places.yaml", "source: quay\nengine: sqlite\naddress: "+address+"\nguard: {live: P30D}\n---\n"+
		"store: attic\npath: "+filepath.Join(f.dir, "attic")+"\nsecond: loft\n---\nstore: loft\npath: "+
		filepath.Join(f.dir, "loft")+"\n---\nsource: harbour\nengine: sqlite\naddress: "+
		address+"\nconnections: 5\n")
	f.write(t, "ignored.txt", "nothing: of ours")
	if got := f.stands(t); !slices.Equal(
		got,
		[]string{"store attic new", "store loft new", "source harbour conflict", "source quay new",
			"keep long new", "rule berths new", "rule scans new"},
	) {
		t.Errorf("before: %q", got)
	}
	f.takeUp(t, TakeUp{})
	if got := f.stands(t); !slices.Equal(got, []string{"source harbour conflict"}) {
		t.Errorf("after: %q", got)
	}
	f.takeUp(t, TakeUp{Over: []string{"source harbour"}})
	if c, err := f.Catalog.Source(t.Context(), "harbour"); err != nil || c.Connections != 5 {
		t.Errorf("over it: %+v, %v", c, err)
	}
	if g, err := f.Catalog.Guard(t.Context(), "quay"); err != nil || g.Live == nil || g.Live.String() != "P30D" {
		t.Errorf("guard rails: %+v, %v", g, err)
	}

	// Somebody keeps rows for longer; a start, and a file that is as it was, do not undo that.
	if _, problems, err := f.Engine.Plans.ApplyRules(t.Context(), "me", "", []byte(scanTwoYears), ""); err != nil {
		t.Fatal(problems, err)
	}
	f.Close()
	f.start(t)
	f.Declared.dir = f.at
	f.takeUp(t, TakeUp{})
	if got := f.stands(t); !slices.Equal(got, []string{"rule scans changed"}) || f.rule(t, "scans") != scanTwoYears {
		t.Errorf("after somebody changed it: %q\n%s", got, f.rule(t, "scans"))
	}
	if err := f.Findings.Look(t.Context()); err != nil {
		t.Fatal(err)
	}
	found, err := f.Catalog.Findings(t.Context(), false, catalog.First(10))
	if err != nil || !slices.ContainsFunc(found, func(x catalog.Finding) bool {
		return x.Kind == "declared" && x.Subject == "rule scans"
	}) {
		t.Errorf("findings: %+v, %v", found, err)
	}
	// The file follows: both say the same, and the next change of the file is taken up by itself.
	f.write(t, "a-rules.yaml", scanTwoYears+"---\n"+berthByKeep)
	f.takeUp(t, TakeUp{})
	if got := f.stands(t); len(got) > 0 {
		t.Errorf("after the file followed: %q", got)
	}
	f.write(t, "a-rules.yaml", scanOneYear+"---\n"+berthByKeep)
	if got := f.stands(t); !slices.Equal(got, []string{"rule scans newer"}) {
		t.Errorf("after the file was changed: %q", got)
	}
	f.takeUp(t, TakeUp{})
	if f.rule(t, "scans") != scanOneYear {
		t.Errorf("it was not taken up:\n%s", f.rule(t, "scans"))
	}
	// What is gone from the files stays in force until it is forgotten that it was there.
	f.write(t, "a-rules.yaml", scanOneYear)
	f.takeUp(t, TakeUp{})
	if got := f.stands(t); !slices.Equal(got, []string{"rule berths gone"}) {
		t.Errorf("after it was gone: %q", got)
	}
	f.takeUp(t, TakeUp{Over: []string{"rule berths"}})
	if got := f.stands(t); len(got) > 0 || !strings.Contains(f.rule(t, "berths"), "berth") {
		t.Errorf("after it was forgotten: %q", got)
	}
	if text, err := f.Declared.Print(t.Context()); err != nil {
		t.Error(err)
	} else if things, problems := declare.Parse("all.yaml", []byte(text)); len(problems) > 0 || len(things) != 8 {
		t.Errorf("what is in force, as declared: %v\n%s", problems, text)
	}
}

// TestAFaultInFilesTakesUpNothing: of files with a fault nothing is taken up, of rules with a fault none is, and each
// fault has its file and line.
func TestAFaultInFilesTakesUpNothing(t *testing.T) {
	t.Parallel()
	f := openFiles(t)
	f.write(t, "rules.yaml", keepLong+"---\n"+scanOneYear)
	f.write(t, "torn.yaml", "store: attic\npath: [\n")
	d := f.takeUp(t, TakeUp{})
	if len(d.Problems) != 1 || d.Problems[0].File != "torn.yaml" {
		t.Errorf("torn: %v", d.Problems)
	}
	if got := f.stands(t); !slices.Equal(got, []string{"keep long new", "rule scans new"}) {
		t.Errorf("it was taken up: %q", got)
	}
	f.write(t, "torn.yaml", "# empty for now\n\n"+strings.Replace(berthByKeep, "age: at", "age: att", 1))
	d = f.takeUp(t, TakeUp{})
	if len(d.Problems) != 1 || d.Problems[0].File != "torn.yaml" || d.Problems[0].Line != 6 {
		t.Errorf("a column that is not there: %v", d.Problems)
	}
	if got := f.stands(t); len(got) != 3 {
		t.Errorf("some were taken up: %q", got)
	}
	f.write(t, "torn.yaml", strings.Replace(scanOneYear, "P1Y", "P3Y", 1))
	if d = f.takeUp(t, TakeUp{}); len(d.Problems) != 1 ||
		!strings.Contains(d.Problems[0].Message, "rules.yaml, line 5") {
		t.Errorf("declared twice: %v", d.Problems)
	}
	os.Remove(filepath.Join(f.at, "torn.yaml"))
	if d = f.takeUp(t, TakeUp{}); len(d.Problems) > 0 || len(f.stands(t)) > 0 {
		t.Errorf("mended: %v, %q", d.Problems, f.stands(t))
	}
	if _, err := f.Declared.TakeUp(t.Context(), "me", TakeUp{Over: []string{"rule nets"}}); err == nil {
		t.Error("over what there is not")
	}
	// A locked clause is loosened for a reason, or not.
	locked := strings.Replace(scanOneYear, "keep: P1Y", "keep: P1Y\n    locked: Ordinance 12", 1)
	f.write(t, "rules.yaml", keepLong+"---\n"+locked)
	f.takeUp(t, TakeUp{})
	f.write(t, "rules.yaml", keepLong+"---\n"+strings.Replace(locked, "P1Y", "P6M", 1))
	if d = f.takeUp(t, TakeUp{}); len(d.Problems) != 1 || d.Problems[0].Field != "reason" ||
		f.rule(t, "scans") != locked {
		t.Errorf("loosened: %v", d.Problems)
	}
	if d = f.takeUp(t, TakeUp{Reason: "the ordinance was changed"}); len(d.Problems) > 0 ||
		f.rule(t, "scans") == locked {
		t.Errorf("with a reason: %v", d.Problems)
	}
	f.Declared.dir = filepath.Join(f.at, "away")
	if d = f.takeUp(t, TakeUp{}); len(d.Problems) != 1 || len(f.stands(t)) > 0 {
		t.Errorf("a directory that is away: %v, %q", d.Problems, f.stands(t))
	}
}

// TestASourceIsChangedWhileNothingWorksOnIt: an address that does not answer is not kept; a run that works keeps the
// address from being changed, and nothing else; what nothing knows can be forgotten.
func TestASourceIsChangedWhileNothingWorksOnIt(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	change := func(x SourceChange) error {
		_, err := n.Queue.ChangeSource(t.Context(), "me", "harbour", x)
		return err
	}
	nowhere, elsewhere, many, few := filepath.Join(n.dir, "nowhere.db"), filepath.Join(n.dir, "link.db"), 7, 2
	if err := change(SourceChange{Address: &nowhere}); err == nil {
		t.Error("an address that does not answer")
	}
	if err := change(SourceChange{Connections: &few}); err == nil {
		t.Error("too few connections")
	}
	odd, unseen := "perhaps", "a\x00b"
	if err := change(SourceChange{TLS: &odd}); err == nil || !strings.Contains(err.Error(), "verify, require and off") {
		t.Errorf("a way of TLS that there is not: %v", err)
	}
	if err := change(SourceChange{Origin: &unseen}); err == nil {
		t.Error("an origin with characters that cannot be seen")
	}
	ours := filepath.Join(n.dir, "data", "catalog.db")
	if err := change(SourceChange{Address: &ours}); err == nil {
		t.Error("the service's own records")
	}
	if err := os.Symlink(filepath.Join(n.dir, "harbour.db"), elsewhere); err != nil {
		t.Fatal(err)
	}
	n.rows(t, "scan", 20000)
	if _, problems, err := n.Engine.Plans.ApplyRules(t.Context(), "me", "",
		[]byte(strings.Replace(scanOneYear, "scans", "scan", 1)+"pace: gentle\n"), ""); err != nil {
		t.Fatal(problems, err)
	}
	r := n.begin(t, "scan")
	n.until(t, r.ID, "it works", time.Minute, func(r *catalog.Run) bool { return r.State == catalog.Running })
	if err := change(SourceChange{Address: &elsewhere}); err == nil ||
		!strings.Contains(err.Error(), "works on source") {
		t.Errorf("while a run works: %v", err)
	}
	if err := change(SourceChange{Connections: &many}); err != nil {
		t.Errorf("connections while a run works: %v", err)
	}
	if c, err := n.Catalog.Source(t.Context(), "harbour"); err != nil || c.Connections != many ||
		c.Address == elsewhere {
		t.Errorf("%+v, %v", c, err)
	}
	if _, err := n.Engine.Runs.SetPace(t.Context(), "me", r.ID, "unlimited"); err != nil {
		t.Fatal(err)
	}
	n.ended(t, r.ID)
	if err := change(SourceChange{Address: &elsewhere}); err != nil {
		t.Errorf("after it: %v", err)
	}
	if left := n.left(t, "scan"); left != 0 {
		t.Errorf("%d rows are left", left)
	}
	if err := n.Places.DeleteSource(t.Context(), "me", "harbour"); err == nil ||
		!strings.Contains(err.Error(), "rule") {
		t.Errorf("a source with a rule: %v", err)
	}
}

// TestWhatIsTakenUpKeepsNobodyWaiting: a declared source accepts connections and says nothing. What files declare is
// told meanwhile, and a rule that somebody changes in that time is not undone.
func TestWhatIsTakenUpKeepsNobodyWaiting(t *testing.T) {
	t.Parallel()
	f := openFiles(t)
	f.write(t, "rules.yaml", scanOneYear)
	f.takeUp(t, TakeUp{})
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	reached := make(chan net.Conn, 10)
	go func() {
		for {
			c, err := silent.Accept()
			if err != nil {
				return
			}
			reached <- c
		}
	}()
	f.write(
		t,
		"far.yaml",
		"source: far\nengine: postgres\ntls: off\naddress: postgres://a@"+silent.Addr().String()+"/b\n",
	)
	f.write(t, "rules.yaml", strings.Replace(scanOneYear, "P1Y", "P6M", 1))
	done := make(chan struct{})
	go func() {
		defer close(done)
		f.Declared.TakeUp(t.Context(), byFiles, TakeUp{})
	}()
	conn := <-reached
	if got := f.stands(t); !slices.Equal(got, []string{"source far new", "rule scans newer"}) {
		t.Errorf("while it is being taken up: %q", got)
	}
	if _, problems, err := f.Engine.Plans.ApplyRules(t.Context(), "me", "", []byte(scanTwoYears), ""); err != nil {
		t.Fatal(problems, err)
	}
	silent.Close()
	for open := true; open; {
		conn.Close()
		select {
		case conn = <-reached:
		case <-done:
			open = false
		}
	}
	if got := f.stands(t); !slices.Equal(got, []string{"source far new", "rule scans conflict"}) ||
		f.rule(t, "scans") != scanTwoYears {
		t.Errorf("afterwards: %q\n%s", got, f.rule(t, "scans"))
	}
}

// TestARuleThatIsChangedInTheMeantimeIsNotOverwritten: between a look at it and its being applied.
func TestARuleThatIsChangedInTheMeantimeIsNotOverwritten(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	apply := func(text string, over map[string]string) error {
		_, problems, err := n.Engine.Plans.ApplyOver(t.Context(), "me", "", []byte(text), "", over)
		if len(problems) > 0 {
			t.Log(problems)
		}
		return err
	}
	if err := apply(scanOneYear, map[string]string{"scans": ""}); err != nil {
		t.Fatal(err)
	}
	var group sync.WaitGroup
	var applied atomic.Int32
	for i := range 8 { // all have looked at the same text
		group.Go(func() {
			text := strings.Replace(scanOneYear, "P1Y", fmt.Sprintf("P%dY", i+2), 1)
			if apply(text, map[string]string{"scans": scanOneYear}) == nil {
				applied.Add(1)
			}
		})
	}
	group.Wait()
	if r, err := n.Catalog.Rule(t.Context(), "scans"); err != nil || r.Revision != 2 || applied.Load() != 1 {
		t.Errorf("%d were applied over one text: %+v, %v", applied.Load(), r, err)
	}
	if err := apply(scanOneYear, map[string]string{"scans": ""}); err == nil {
		t.Error("it is there, and was expected not to be")
	}
	if err := apply(scanTwoYears, map[string]string{"scans": scanOneYear}); err == nil {
		t.Error("over a text that is not there any more")
	}
}
