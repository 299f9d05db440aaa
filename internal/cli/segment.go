package cli

import (
	"flag"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ambercellar/client"
)

// segmentCommands are the commands of segments, what lies in cold storage, and verifications.
func segmentCommands() []Command {
	return []Command{
		{Name: "segment list", Summary: "list archived segments, the newest first", Flags: func(f *flag.FlagSet) {
			f.String("run", "", "of this run only")
			f.String("source", "", "of this source only")
			f.String("table", "", "of this table only")
			f.Bool("ungoverned", false, "those alone whose rule is not there any more: they are kept without end")
			limitFlag(f)
		}, Run: segmentList},
		{Name: "segment show", Args: "SEGMENT", Summary: "show a segment", Run: segmentShow},
		{Name: "segment verify", Args: "[SEGMENT]",
			Summary: "read segments back from their stores and check every row; with -store also without a service",
			Flags:   verifyFlags, Run: segmentVerify},
		{Name: "segment move", Args: "SEGMENT",
			Summary: "move the rows of a segment to another store, or back to that of its records",
			Flags: func(f *flag.FlagSet) {
				f.String("to", "", "the store")
				f.Bool("wait", true, "wait for it; -wait=false does not")
			}, Run: segmentMove},
		{Name: "segment retrieve", Args: "[SEGMENT,…]", Summary: "fetch segments from cold storage for some days",
			Flags: retrieveFlags, Run: segmentRetrieve},
		{Name: "retrieval list", Summary: "list retrievals from cold storage, the newest first", Flags: limitFlag,
			Run: retrievalList},
		{Name: "verification list", Summary: "list verifications, the newest first", Flags: limitFlag,
			Run: verificationList},
		{Name: "verification show", Args: "VERIFICATION", Summary: "show what a verification found",
			Run: verificationShow},
	}
}

func segmentList(e *Env) error {
	l, err := items(e, func(n int, after string) (client.Items[client.Segment], error) {
		return e.Client.Segments(e.Ctx, client.SegmentsQuery{Run: e.Flag("run"), Source: e.Flag("source"),
			Table: e.Flag("table"), Ungoverned: Get[bool](e, "ungoverned"), Limit: n, After: after})
	})
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, s := range l.Items {
		in := s.RowsIn()
		if s.Cold {
			in += ", cold"
		}
		rows = append(rows, []string{s.ID, s.Source + "." + s.Table, string(s.State), in, Count(s.Deleted),
			Size(s.FileBytes), Dash(s.Oldest), Dash(s.Newest), atOrDash(s.KeepUntil)})
	}
	return e.Show(l, []string{"segment", "table", "state", "store", "rows", "file", "oldest", "newest", "kept until"},
		rows)
}

func segmentShow(e *Env) error {
	s, err := e.Client.Segment(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	with, masked, beside := "", []string{}, []string{}
	if g := s.GoesWith; g != nil {
		with = "rows of " + g.Table
		if g.Segment != "" {
			with += ", families of segment " + g.Segment
		}
	}
	for _, column := range slices.Sorted(maps.Keys(s.Masked)) {
		masked = append(masked, column+" ("+s.Masked[column]+")")
	}
	for _, b := range s.Beside {
		beside = append(beside, fmt.Sprintf("%s of %s in %s", Things(b.Rows, "row"), b.Table, b.File))
	}
	return e.segment(s, &s.Segment, Fact{"goes with", with}, Fact{"joined columns", strings.Join(s.Included, ", ")},
		Fact{"beside", strings.Join(beside, "; ")}, Fact{"columns left out", strings.Join(s.Omitted, ", ")},
		Fact{"masked", strings.Join(masked, ", ")})
}

func (e *Env) segment(whole any, s *client.Segment, more ...Fact) error {
	return e.Facts(whole, append([]Fact{{"segment", s.ID}, {"table", s.Source + "." + s.Table},
		{"run", fmt.Sprintf("%s, segment %d", s.Run, s.Number)}, {"state", string(s.State)}, {"store", s.Store},
		{"being moved to", s.Moving}, {"second copy in", s.Second}, {"file", s.Stem + ".parquet"},
		{"rows", fmt.Sprintf("%s copied = %s deleted + %s changed + %s vanished + %s held + %s skipped", Count(s.Rows),
			Count(s.Deleted), Count(s.Changed), Count(s.Vanished), Count(s.Held), Count(s.Skipped))},
		{"size", Size(s.FileBytes) + Ratio(s.RawBytes, s.FileBytes)}, {"oldest", s.Oldest}, {"newest", s.Newest},
		{"digest", s.Digest}, {"created", At(s.CreatedAt)}, {"closed", atOrDash(s.ClosedAt)},
		{"verified", atOrDash(s.VerifiedAt)}, {"kept until", atOrDash(s.KeepUntil)}, {"rows lie in", whereabouts(s)},
		{"chain", fmt.Sprintf("link %d: %s", s.Sequence, s.ManifestHash)}, {"closing", s.ClosingHash}}, more...))
}

// whereabouts says where the rows of a segment lie, if not with its records, and whether they can be read.
func whereabouts(s *client.Segment) string {
	switch {
	case s.RowsStore == "" && s.ColdAt != nil:
		return fmt.Sprintf("%s; they move to %s on %s", s.Store, s.ColdStore, At(*s.ColdAt))
	case s.RowsStore == "":
		return ""
	case !s.Cold:
		return s.RowsStore
	case s.Second != "":
		return fmt.Sprintf("%s, cold; they are read from the second copy in %s", s.RowsStore, s.Second)
	case s.WarmUntil != nil && time.Now().Before(*s.WarmUntil):
		return fmt.Sprintf("%s, cold; a copy can be read until %s", s.RowsStore, At(*s.WarmUntil))
	}
	return s.RowsStore + ", cold: they have to be retrieved before they can be read"
}

func segmentMove(e *Env) error {
	to := e.Flag("to")
	if to == "" {
		return Usage("-to is missing: the store")
	}
	s, err := e.Client.MoveSegment(e.Ctx, e.Args[0], client.NewMove{To: to})
	for err == nil && s.Moving != "" && Get[bool](e, "wait") {
		fmt.Fprintf(e.Err, "segment %s has not been moved yet; `ambercellar queue jobs` shows its turn\n", s.ID)
		if err := Sleep(e.Ctx, time.Second); err != nil {
			return err
		}
		err = e.patiently("move", s.ID, func() (err error) {
			s, err = e.Client.MoveSegment(e.Ctx, e.Args[0], client.NewMove{To: to}) // as it was asked for before
			return err
		})
	}
	if err != nil {
		return err
	}
	return e.segment(s, s)
}
