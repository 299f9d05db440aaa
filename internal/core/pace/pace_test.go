package pace

import (
	"testing"
	"time"
)

func TestBatchesFindTheirSize(t *testing.T) {
	for _, c := range []struct {
		pace   Pace
		perRow time.Duration
		want   int
	}{{Gentle, 10 * time.Microsecond, 500}, {Gentle, 10 * time.Millisecond, MinRows},
		{Unlimited, time.Microsecond, MaxRows}, {Unlimited, 100 * time.Microsecond, 4000}} {
		s := New(c.pace, Profile{})
		for range 30 {
			rest := s.Done(s.Rows(), time.Duration(s.Rows())*c.perRow, 0, 0)
			if (rest > 0) != (c.pace != Unlimited) {
				t.Fatalf("%s rests %s", c.pace, rest)
			}
		}
		if got := s.Rows(); got < c.want*9/10 || got > c.want*11/10 {
			t.Errorf("%s at %s a row: batches of %d, want about %d", c.pace, c.perRow, got, c.want)
		}
	}
}

func TestPressureMakesRestsLonger(t *testing.T) {
	for _, c := range []struct {
		pace Pace
		slow float64
		want time.Duration
	}{{Gentle, 0, 95 * time.Millisecond}, {Gentle, 1, 190 * time.Millisecond}, {Unlimited, 0, 0},
		{Unlimited, 0.5, 10 * time.Millisecond}} {
		s := New(c.pace, Profile{})
		if rest := s.Done(s.Rows(), 5*time.Millisecond, 0, c.slow); rest != c.want {
			t.Errorf("%s at a pressure of %v: a rest of %s, want %s", c.pace, c.slow, rest, c.want)
		}
	}
}

// A batch that was held up, by whatever, is no more work than the others: also where most are.
func TestWaitingIsNoWork(t *testing.T) {
	s := New(Careful, Profile{Rows: 200, Rest: 19})
	var rest time.Duration
	for n := range 200 {
		took := time.Duration(s.Rows()) * 20 * time.Microsecond
		if n%4 != 0 {
			took += time.Duration(n%4) * 80 * time.Millisecond
		}
		rest = s.Done(s.Rows(), took, 0, 0)
		if worked := time.Duration(s.Rows()) * 20 * time.Microsecond; n > 20 && rest > 3*19*worked {
			t.Fatalf("batch %d of %d rows took %s, and the rest is %s", n, s.Rows(), took, rest)
		}
	}
	for range 16 { // what lasts is the work of another table
		rest = s.Done(s.Rows(), 30*time.Millisecond, 0, 0)
	}
	if rest != 19*30*time.Millisecond {
		t.Errorf("where each batch takes 30 ms, the rest is %s", rest)
	}
}

// A piece of reading that a stall held up is rested from as if it had not been.
func TestAStallIsNotRestedFromWhereRowsAreRead(t *testing.T) {
	p := NewPieces()
	for range 20 {
		if worked := p.Worked(100, 2*time.Millisecond); worked != 2*time.Millisecond {
			t.Fatalf("of 2 ms it worked %s", worked)
		}
	}
	if worked := p.Worked(100, 300*time.Millisecond); worked != 2*time.Millisecond {
		t.Errorf("beside a stall it worked %s", worked)
	}
	if worked := p.Worked(400, 300*time.Millisecond); worked != 8*time.Millisecond {
		t.Errorf("a piece four times as large worked %s", worked)
	}
}

func TestPiecesAreAsShortAsPays(t *testing.T) {
	for _, c := range []struct {
		name          string
		fixed, perRow time.Duration
		want          int
	}{
		{"quick rows", 0, time.Microsecond, 800},
		{"rows", 0, 10 * time.Microsecond, 100},
		{"slow rows", 0, 200 * time.Microsecond, MinRows},
		{"rows that each wait for a disk", 0, 5 * time.Millisecond, MinRows},
		{"a statement with a small cost of its own", 300 * time.Microsecond, 10 * time.Microsecond, MinRows},
		{"with a larger one", 2 * time.Millisecond, 5 * time.Microsecond, 400},
		{"a day's rows are sorted for each piece", 50 * time.Millisecond, 5 * time.Microsecond, 12_800},
		{"the table is read for each piece", time.Second, 10 * time.Microsecond, 51_200},
	} {
		p, at := NewPieces(), 0
		for n := range 200 {
			noise := time.Duration(100 + n*37%11) // a tenth more at the most, and now and then a stall
			if n%29 == 0 {
				noise = 2000
			}
			if p.Rows() >= c.want/2 && p.Rows() <= 2*c.want {
				at++
			}
			p.Done(p.Rows(), (c.fixed+time.Duration(p.Rows())*c.perRow)*noise/100)
		}
		if at < 160 {
			t.Errorf("%s: only %d pieces of 200 have about %d rows", c.name, at, c.want)
		}
	}
}

func TestAShortLastPieceSaysNothing(t *testing.T) {
	p := NewPieces()
	if p.Done(7, time.Second); p != NewPieces() {
		t.Errorf("it left %+v", p)
	}
}

func TestOneOutlierDoesNotThrowTheSize(t *testing.T) {
	s := New(Gentle, Profile{})
	s.Done(500, 5*time.Millisecond, 0, 0)
	if rest := s.Done(500, 10*time.Second, 0, 1); s.Rows() < 250 || rest != MaxRest {
		t.Errorf("one slow batch made it %d, with a rest of %s", s.Rows(), rest)
	}
	s = New(Gentle, Profile{})
	s.Done(3, time.Microsecond, 0, 0)
	if s.Rows() != 500 {
		t.Errorf("a short last batch made it %d", s.Rows())
	}
}

func TestReadingRestsAsThePaceAndTheDatabaseAsk(t *testing.T) {
	for _, c := range []struct {
		pace    Pace
		profile Profile
		slow    float64
		want    float64
	}{{Careful, Profile{}, 0, 19}, {Gentle, Profile{Rest: 59, ReadRest: 39}, 0, 39},
		{Gentle, Profile{ReadRest: 39}, 1, 78}, {Unlimited, Profile{ReadRest: 39}, 0, 0},
		{Unlimited, Profile{}, 0.5, 4}} {
		if got := ReadRest(c.pace, c.profile, Room{}, c.slow); got != c.want {
			t.Errorf("at the %s pace, with %+v and %.1f of pressure, reading rests %.1f times, want %.1f", c.pace,
				c.profile, c.slow, got, c.want)
		}
	}
}

func TestParseKnowsThePaces(t *testing.T) {
	if p, err := Parse(""); err != nil || p != Gentle {
		t.Errorf("the default is %q, %v", p, err)
	}
	if _, err := Parse("furious"); err == nil {
		t.Error("furious passed for a pace")
	}
}

func TestAnotherPaceBeginsGently(t *testing.T) {
	s := New(Unlimited, Profile{})
	for range 10 {
		s.Done(s.Rows(), 10*time.Millisecond, 0, 0)
	}
	if s.Rows() != MaxRows {
		t.Fatalf("batches are of %d rows", s.Rows())
	}
	s.Change(Gentle, Profile{})
	if rest := s.Done(s.Rows(), 5*time.Millisecond, 0, 0); s.Rows() != 500 || rest != 95*time.Millisecond {
		t.Errorf("gentle batches are of %d rows, with a rest of %s", s.Rows(), rest)
	}
	s.Change(Gentle, Profile{Rows: 200, Rest: 39})
	if rest := s.Done(s.Rows(), 5*time.Millisecond, 0, 0); s.Rows() != 200 || rest != 195*time.Millisecond {
		t.Errorf("batches of a database with a profile of its own are of %d rows, with a rest of %s", s.Rows(), rest)
	}
	s.Change(Gentle, Profile{})
	s.Done(s.Rows(), time.Second, 0, 0) // the database is slow
	small := s.Rows()
	s.Change(Unlimited, Profile{})
	if rest := s.Done(s.Rows(), 100*time.Millisecond, 0, 0); small >= 500 || s.Rows() > 2*small || rest != 0 {
		t.Errorf("from %d rows it jumps to %d, with a rest of %s", small, s.Rows(), rest)
	}
}

func TestPressureSlowsAndStops(t *testing.T) {
	three := 3.0
	for _, c := range []struct {
		name   string
		values map[string]float64
		pace   Pace
		limits Limits
		rest   bool
		slow   float64
		reason string
	}{
		{"nothing is known", nil, Gentle, nil, false, 0, ""},
		{"all is calm", map[string]float64{Waiting: 1, Probe: 3, Disk: 50 << 30}, Gentle, nil, false, 0, ""},
		{"past half of a limit a run goes slower", map[string]float64{Replica: 7.5}, Gentle, nil, false, 0.5,
			"delay of the slowest replica: 7.5 s (at most 10 s)"},
		{"beyond it the run rests", map[string]float64{Replica: 12, Active: 30}, Gentle, nil, true, 0.5,
			"delay of the slowest replica: 12 s (at most 10 s)"},
		{"one session that waits for ours is enough", map[string]float64{Blocked: 1}, Gentle, nil, true, 0,
			"sessions that wait for one of ours: 1 (at most 0)"},
		{"dead rows slow alone", map[string]float64{Dead: 9e6}, Gentle, nil, false, 1,
			"dead rows of the table: 9000000 (at most 2000000)"},
		{"space on disk is a floor", map[string]float64{Disk: 100 << 20}, Unlimited, nil, true, 0,
			"free disk space of the database: 100 MiB (at least 1 GiB)"},
		{"at the unlimited pace only what a rule names holds", map[string]float64{Waiting: 4, Active: 1000}, Unlimited,
			Limits{Waiting: &three}, true, 0, "sessions that wait for locks: 4 (at most 3)"},
		{"a rule takes a limit away", map[string]float64{Waiting: 400}, Gentle, Limits{Waiting: nil}, false, 0, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := Judge(c.values, c.pace, c.limits)
			if p.Rest != c.rest || p.Slow != c.slow || p.Reason != c.reason {
				t.Errorf("rest %v, slow %v, %q; want %v, %v, %q", p.Rest, p.Slow, p.Reason, c.rest, c.slow, c.reason)
			}
			if len(p.Readings) != len(c.values) {
				t.Errorf("%d readings of %d values", len(p.Readings), len(c.values))
			}
		})
	}
}

func TestAmountsKeepTheirUnit(t *testing.T) {
	for _, c := range []struct {
		unit Unit
		text string
		want float64 // -1: refused
	}{
		{Count, "5", 5}, {Count, "5 MB", -1}, {Count, "-5", -1}, {Bytes, "200 MB", 200e6},
		{Bytes, "1.5GiB", 1.5 * (1 << 30)}, {Bytes, "300", 300}, {Bytes, "3 s", -1},
		{Seconds, "2 min", 120}, {Seconds, "500 ms", 0.5}, {Milliseconds, "0.1 s", 100}, {Milliseconds, "20", 20},
		{Seconds, "1e9", -1}, {Seconds, "", -1},
	} {
		got, err := c.unit.Parse(c.text)
		if err != nil {
			got = -1
		}
		if got != c.want {
			t.Errorf("%q in %s: %v, want %v (%v)", c.text, c.unit, got, c.want, err)
		}
	}
}
