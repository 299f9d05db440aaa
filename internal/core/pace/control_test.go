package pace

import (
	"strings"
	"testing"
	"time"
)

const every = 150 * time.Millisecond

// day looks at a database on which others are at work in spans, and returns how much was free, look by look.
func day(c *Control, from time.Duration, looks int, busy func(at time.Duration) int) (free []float64) {
	for n := range looks {
		at := from + time.Duration(n+1)*every
		c.Look(at, Look{Busy: busy(at), Span: 2 * every})
		now, _ := c.Free(at)
		free = append(free, now.Free)
	}
	return free
}

func nobody(time.Duration) int { return 0 }

func TestAloneItTakesAllWithinTenSeconds(t *testing.T) {
	for _, c := range []struct {
		name  string
		first Look
		most  time.Duration
	}{
		{"nobody was there before", Look{Span: 10 * time.Second}, time.Second},
		{"what was before is not known", Look{}, 6 * time.Second},
		{"others have just left", Look{Busy: 3, Span: 10 * time.Second}, 10 * time.Second},
	} {
		t.Run(c.name, func(t *testing.T) {
			var x Control
			x.Look(0, c.first)
			if room, _ := x.Free(0); room.Free > 0.5 {
				t.Errorf("it begins with %.2f", room.Free)
			}
			free := day(&x, 0, int(c.most/every), nobody)
			for i := 1; i < len(free); i++ {
				if free[i] < free[i-1] {
					t.Errorf("it takes less without a reason: %.2f after %.2f", free[i], free[i-1])
				}
			}
			if last := free[len(free)-1]; last != 1 {
				t.Errorf("after %s it takes %.2f", c.most, last)
			}
		})
	}
}

// TestWhereNobodyHasItOpenBatchesAreLonger, and short at once when somebody has.
func TestWhereNobodyHasItOpenBatchesAreLonger(t *testing.T) {
	var x Control
	s := New(Gentle, Profile{})
	at := time.Duration(0)
	look := func(l Look) time.Duration {
		at += every
		l.Span = 10 * time.Second
		x.Look(at, l)
		room, _ := x.Free(at)
		s.Free(room)
		took := time.Duration(s.Rows()) * 20 * time.Microsecond
		s.Done(s.Rows(), took, 0, 0)
		return took
	}
	for n := range 80 {
		took := look(Look{Alone: true})
		if x.free < 1 && took > longBatch {
			t.Errorf("look %d: a batch takes %s before all is free", n, took)
		}
	}
	if took := look(Look{Alone: true}); took < singleBurst*9/10 || took > singleBurst*11/10 {
		t.Errorf("a batch takes %s where nobody has it open", took)
	}
	if took := look(Look{}); took > longBatch*11/10 {
		t.Errorf("a batch takes %s where others have it open", took)
	}
	for range 80 {
		look(Look{Alone: true})
	}
	if took := look(Look{Busy: 1}); took > 2*shortBatch {
		t.Errorf("a batch takes %s where others are at work", took)
	}
}

func TestItGivesWayAtOnceAndSaysWhy(t *testing.T) {
	var x Control
	x.Look(0, Look{Span: 10 * time.Second})
	day(&x, 0, 20, nobody)
	at := 21 * every
	x.Look(at, Look{Busy: 2, Span: 2 * every})
	if room, why := x.Free(at); room.Free != 0 || !strings.HasPrefix(why, "2 sessions of others are at work; ") {
		t.Errorf("it takes %.2f: %q", room.Free, why)
	}
	x.Look(at+every, Look{Hidden: "GRANT it"})
	if room, why := x.Free(at + every); room.Free != 0 || why != "GRANT it" {
		t.Errorf("of what it cannot see it takes %.2f: %q", room.Free, why)
	}
}

func TestWithoutALookNothingIsFree(t *testing.T) {
	var x Control
	if room, why := x.Free(time.Hour); room.Free != 0 || !strings.Contains(why, "not known") {
		t.Errorf("it takes %.2f: %q", room.Free, why)
	}
	x.Look(0, Look{Span: 10 * time.Second})
	day(&x, 0, 20, nobody)
	if room, why := x.Free(20*every + Stale + 2*time.Second); room.Free != 0 || !strings.Contains(why, "3s ago") {
		t.Errorf("after a look of long ago it takes %.2f: %q", room.Free, why)
	}
	x.Look(time.Hour, Look{Span: every})
	if room, why := x.Free(time.Hour); room.Free == 0 || why != "" {
		t.Errorf("after the next look it takes %.2f: %q", room.Free, why)
	}
}

// A session that asks something every ten seconds, as what watches a database does, costs little; others who come and
// go find it at the same speed each time.
func TestOthersWhoComeAndGo(t *testing.T) {
	mean := func(list []float64) (sum float64) {
		for _, v := range list {
			sum += v
		}
		return sum / float64(len(list))
	}
	var x Control
	x.Look(0, Look{Span: 10 * time.Second})
	seldom := day(&x, 0, 4000, func(at time.Duration) int {
		if at%(10*time.Second) < every {
			return 1
		}
		return 0
	})
	if m := mean(seldom); m < 0.8 {
		t.Errorf("beside somebody who looks by every ten seconds it takes %.2f", m)
	}
	x = Control{}
	x.Look(0, Look{Span: 10 * time.Second})
	var first float64
	cycle := int(40 * time.Second / every)
	for n := range 5 {
		m := mean(day(&x, time.Duration(n*cycle)*every, cycle, func(at time.Duration) int {
			if at%(40*time.Second) >= 20*time.Second {
				return 8
			}
			return 0
		}))
		if n == 0 {
			first = m
		} else if m < 0.8*first || m > 1.2*first {
			t.Errorf("in cycle %d it takes %.2f, in the first %.2f", n+1, m, first)
		}
	}
}

func TestBatchesAndRestsFollowWhatIsFree(t *testing.T) {
	const each = 10 * time.Microsecond
	s := New(Gentle, Profile{Rows: 200, Rest: 59})
	run := func(n int) (rest time.Duration) {
		for range n {
			rest = s.Done(s.Rows(), time.Duration(s.Rows())*each, 0, 0)
		}
		return rest
	}
	if rest := run(20); s.Rows() != 200 || rest != 59*200*each {
		t.Errorf("beside others batches have %d rows and rests last %s", s.Rows(), rest)
	}
	s.Free(Room{Free: 0.5})
	if rest := run(20); s.Rows() != 2750 || rest < 7*2750*each || rest > 8*2750*each {
		t.Errorf("half free, batches have %d rows and rests last %s", s.Rows(), rest)
	}
	s.Free(Room{Free: 1})
	if rest := run(20); s.Rows() != 5000 || rest != 0 {
		t.Errorf("alone, batches have %d rows and rests last %s", s.Rows(), rest)
	}
	s.Free(Room{})
	if s.Rows() != 200 {
		t.Errorf("when others come the next batch has %d rows", s.Rows())
	}
	s.Change(Careful, Profile{Rows: 200, Rest: 59})
	s.Free(Room{Free: 1})
	if rest := run(20); s.Rows() != 200 || rest != 59*200*each {
		t.Errorf("the careful pace has batches of %d rows and rests of %s", s.Rows(), rest)
	}
}
