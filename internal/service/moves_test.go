package service

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"ambercellar/internal/catalog"
	"ambercellar/internal/core/pace"
	"ambercellar/internal/engine/refuse"
	"ambercellar/internal/engine/upkeep"
	"ambercellar/internal/source"
)

// store adds a directory as a store.
func (n *nights) store(t *testing.T, name string) (path string) {
	t.Helper()
	path = filepath.Join(n.dir, name)
	if err := n.Places.AddStore(t.Context(), "me", catalog.Store{Name: name, Path: path}, false); err != nil {
		t.Fatal(err)
	}
	return path
}

// segment waits until the one segment of a table is as it should be.
func (n *nights) segment(t *testing.T, table string, is func(*catalog.Segment) bool) *catalog.Segment {
	t.Helper()
	for begun := time.Now(); ; time.Sleep(5 * time.Millisecond) {
		list, err := n.Catalog.Segments(t.Context(), catalog.SegmentFilter{Table: table}, catalog.All)
		if err != nil || len(list) != 1 {
			t.Fatal(list, err)
		}
		if is(&list[0]) {
			return &list[0]
		}
		if time.Since(begun) > 3*time.Minute {
			t.Fatalf("%+v; %s", list[0], n.jobs())
		}
	}
}

func anySegment(*catalog.Segment) bool { return true }

// TestMovesTakeTheirTurns: a move whose store is away rests and says why, stays paused over another start with who
// asked for it, goes on when it is resumed, and leaves the rows where they are when it is cancelled.
func TestMovesTakeTheirTurns(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan", "berth")
	n.cellar(t, "scan", 1000)
	n.cellar(t, "berth", 1000)
	attic := n.store(t, "attic")
	hide := func() {
		t.Helper()
		if err := os.Rename(attic, attic+".away"); err != nil {
			t.Fatal(err)
		}
	}
	scan, berth := n.segment(t, "scan", anySegment), n.segment(t, "berth", anySegment)
	hide()
	if _, err := n.Queue.Move(t.Context(), "quinn", scan.ID, "attic"); err == nil ||
		!strings.Contains(err.Error(), "it is tried again by itself") {
		t.Errorf("to a store that is away: %v", err)
	}
	line := n.Jobs.Line()
	if len(line) != 1 || line[0].By != "quinn" || !strings.Contains(line[0].Why, "attic") {
		t.Fatalf("%+v", line)
	}
	if err := n.Jobs.Pause(t.Context(), "me", catalog.JobMove, scan.ID); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(attic+".away", attic); err != nil {
		t.Fatal(err)
	}
	n.restart(t)
	if s, err := n.Queue.Move(t.Context(), "another", scan.ID, "attic"); err != nil || s.Moving != "attic" {
		t.Errorf("one that is paused: %+v, %v", s, err)
	}
	// another of its kind goes on meanwhile
	if s, err := n.Queue.Move(t.Context(), "me", berth.ID, "attic"); err != nil || s.RowsStore != "attic" {
		t.Errorf("%+v, %v", s, err)
	}
	line = n.Jobs.Line()
	if len(line) != 1 || line[0].By != "quinn" || line[0].Why != "paused by me" || line[0].Works {
		t.Fatalf("%+v", line)
	}
	if err := n.Jobs.Resume(t.Context(), "me", catalog.JobMove, scan.ID); err != nil {
		t.Fatal(err)
	}
	n.segment(t, "scan", func(s *catalog.Segment) bool { return s.RowsStore == "attic" && s.Leaving == "" })

	hide()
	if _, err := n.Queue.Move(t.Context(), "me", berth.ID, "cellar"); err == nil {
		t.Error("it was moved from a store that is away")
	}
	if err := n.Jobs.Cancel(t.Context(), "me", catalog.JobMove, berth.ID); err != nil {
		t.Fatal(err)
	}
	if s := n.segment(t, "berth", anySegment); s.Moving != "" || s.RowsStore != "attic" || n.jobs() != "" {
		t.Errorf("%+v; %s", s, n.jobs())
	}
}

// TestSecondCopiesTakeTheirTurns: they wait while the second store is away, are made once it is back, and cannot be
// cancelled for as long as they are wanted.
func TestSecondCopiesTakeTheirTurns(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	n.cellar(t, "scan", 1000)
	attic := n.store(t, "attic")
	if err := os.Rename(attic, attic+".away"); err != nil {
		t.Fatal(err)
	}
	second := "attic"
	if err := n.Places.SetStore(t.Context(), "me", "cellar", StoreChange{Second: &second}); err != nil {
		t.Fatal(err)
	}
	for begun := time.Now(); ; time.Sleep(5 * time.Millisecond) {
		line := n.Jobs.Line()
		if len(line) == 1 && line[0].Kind == catalog.JobCopy && strings.Contains(line[0].Why, "attic") {
			break
		}
		if time.Since(begun) > 3*time.Minute {
			t.Fatalf("%+v", line)
		}
	}
	s := n.segment(t, "scan", anySegment)
	var refused *refuse.Error
	if err := n.Jobs.Cancel(t.Context(), "me", catalog.JobCopy, s.ID); !errors.As(err, &refused) {
		t.Errorf("cancelled: %v", err)
	}
	if err := os.Rename(attic+".away", attic); err != nil {
		t.Fatal(err)
	}
	n.segment(t, "scan", func(s *catalog.Segment) bool { return s.Second == "attic" })
	for begun := time.Now(); n.jobs() != ""; time.Sleep(5 * time.Millisecond) {
		if time.Since(begun) > time.Minute {
			t.Fatal(n.jobs())
		}
	}
}

// TestACancelledMoveToAColdStoreStays: what its rule wants is not asked for again once somebody has cancelled it.
func TestACancelledMoveToAColdStoreStays(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	n.cellar(t, "scan", 1000)
	attic := n.store(t, "attic")
	s := n.segment(t, "scan", anySegment)
	if err := os.Rename(attic, attic+".away"); err != nil {
		t.Fatal(err)
	}
	due := catalog.At(n.Now())
	s.ColdStore, s.ColdAt = "attic", &due
	if err := n.Catalog.SaveSegment(t.Context(), s); err != nil {
		t.Fatal(err)
	}
	n.segment(t, "scan", func(s *catalog.Segment) bool { return s.Moving == "attic" })
	for begun := time.Now(); n.jobs() != "move 1"; time.Sleep(5 * time.Millisecond) {
		if time.Since(begun) > time.Minute {
			t.Fatal(n.jobs())
		}
	}
	if by := n.Jobs.Line()[0].By; by != "service" {
		t.Errorf("asked for by %s", by)
	}
	if err := n.Jobs.Cancel(t.Context(), "me", catalog.JobMove, s.ID); err != nil {
		t.Fatal(err)
	}
	if list, err := n.Engine.Upkeep.ToMove(t.Context(), mostMoves); err != nil || len(list) != 0 {
		t.Errorf("%+v, %v", list, err)
	}
}

// TestAMoveIsRedirected: one that rests is told to go elsewhere. The queue says where to, and nothing stays behind.
func TestAMoveIsRedirected(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	n.cellar(t, "scan", 1000)
	attic, loft := n.store(t, "attic"), n.store(t, "loft")
	s := n.segment(t, "scan", anySegment)
	for _, path := range []string{attic, loft} {
		if err := os.Rename(path, path+".away"); err != nil {
			t.Fatal(err)
		}
		name := filepath.Base(path)
		if _, err := n.Queue.Move(t.Context(), "me", s.ID, name); err == nil {
			t.Errorf("to store %s, which is away", name)
		}
		if line := n.Jobs.Line(); len(line) != 1 || !strings.HasSuffix(line[0].What, "to store "+name) {
			t.Errorf("%+v", line)
		}
	}
	if err := os.Rename(loft+".away", loft); err != nil {
		t.Fatal(err)
	}
	if s, err := n.Queue.Move(t.Context(), "me", s.ID, "loft"); err != nil || s.RowsIn() != "loft" {
		t.Errorf("%+v, %v", s, err)
	}
}

// TestAMoveIsAskedForByMany: side by side, there and back. The rows lie in one store in the end, whole.
func TestAMoveIsAskedForByMany(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan")
	n.cellar(t, "scan", 1000)
	n.store(t, "attic")
	n.store(t, "loft")
	s := n.segment(t, "scan", anySegment)
	var group sync.WaitGroup
	for i := range 12 {
		group.Go(func() {
			to := []string{"attic", "loft", "cellar"}[i%3]
			if _, err := n.Queue.Move(t.Context(), "me", s.ID, to); err != nil &&
				!strings.Contains(err.Error(), "segment") && !strings.Contains(err.Error(), "cancelled by") {
				t.Error(err)
			}
			if i%4 == 3 {
				n.Jobs.Cancel(t.Context(), "me", catalog.JobMove, s.ID) // it may have ended
			}
		})
	}
	group.Wait()
	n.segment(t, "scan", func(s *catalog.Segment) bool {
		return s.Moving == "" && s.Leaving == "" && n.jobs() == ""
	})
	if _, err := n.Engine.Upkeep.VerifySegment(t.Context(), s.ID); err != nil {
		t.Error(err)
	}
	if s := n.segment(t, "scan", anySegment); s.Damage != "" {
		t.Error(s.Damage)
	}
	files := 0
	for _, name := range []string{"attic", "loft", "data/cellar"} {
		found, err := filepath.Glob(filepath.Join(n.dir, name, "harbour/scan/*/*.parquet"))
		if err != nil {
			t.Fatal(err)
		}
		files += len(found)
	}
	if files != 1 {
		t.Errorf("%d files of rows", files)
	}
}

// crowd is a source in which others are at work, for as long as a test says.
type crowd struct {
	source.Source
	busy atomic.Int64
}

func (c *crowd) Unwrap() source.Source { return nil }

func (c *crowd) Others(context.Context, time.Duration) (pace.Look, error) {
	return pace.Look{Busy: int(c.busy.Load()), Span: time.Second}, nil
}

// TestSecondCopiesWaitForAQuietHour: while a run sees others at work they wait and say why, unless somebody wants one
// now, and not for longer than half a day; verifying that nobody asked for goes on slowly.
func TestSecondCopiesWaitForAQuietHour(t *testing.T) {
	t.Parallel()
	n := openNights(t, "scan", "berth")
	n.cellar(t, "scan", 1000)
	n.store(t, "attic")
	others := &crowd{}
	others.busy.Store(2)
	run := n.Watch.Of(others, "harbour", nil, 0)
	defer run.Leave()
	second := "attic"
	if err := n.Places.SetStore(t.Context(), "me", "cellar", StoreChange{Second: &second}); err != nil {
		t.Fatal(err)
	}
	waits := func() string {
		t.Helper()
		for begun := time.Now(); ; time.Sleep(5 * time.Millisecond) {
			if line := n.Jobs.Line(); len(line) == 1 && line[0].Kind == catalog.JobCopy {
				return line[0].Why
			}
			if time.Since(begun) > time.Minute {
				t.Fatal(n.jobs())
			}
		}
	}
	if why := waits(); !strings.Contains(why,
		"in source harbour 2 sessions of others are at work; it waits for a quiet hour") {
		t.Errorf("it says %q", why)
	}
	if s := n.segment(t, "scan", anySegment); s.Second != "" {
		t.Errorf("it was copied to %s", s.Second)
	}
	begun := time.Now()
	ctx, cancel := context.WithTimeout(t.Context(), 3*quietLook/2)
	defer cancel()
	if err := n.Jobs.passes(ctx, "of nobody"); !errors.Is(err, context.DeadlineExceeded) ||
		time.Since(begun) < quietLook {
		t.Errorf("verifying went on after %s (%v)", time.Since(begun), err)
	}
	others.busy.Store(0)
	if err := n.Jobs.passes(t.Context(), "of nobody"); err != nil {
		t.Error(err)
	}
	n.segment(t, "scan", func(s *catalog.Segment) bool { return s.Second == "attic" })

	others.busy.Store(1)
	for n.Watch.Others() == "" {
		time.Sleep(time.Millisecond)
	}
	n.cellar(t, "berth", 1000)
	if why := waits(); !strings.Contains(why, "one session of others is at work") {
		t.Errorf("it says %q", why)
	}
	berth := n.segment(t, "berth", anySegment)
	if err := n.Jobs.SetPriority(t.Context(), "me", catalog.JobCopy, berth.ID, 1); err != nil {
		t.Fatal(err)
	}
	n.segment(t, "berth", func(s *catalog.Segment) bool { return s.Second == "attic" })
	j := &job{JobTurn: catalog.JobTurn{Kind: catalog.JobCopy}, JobOrder: JobOrder{By: upkeep.ByService,
		Asked: n.Now().Add(-quietWithin)}}
	if why := n.Jobs.unquiet(j); why != "" {
		t.Errorf("after half a day it still waits: %s", why)
	}
}
