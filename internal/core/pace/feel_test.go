package pace

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"
)

func TestASpreadTellsQuantiles(t *testing.T) {
	var s Spread
	r := rand.New(rand.NewPCG(1, 2))
	for range 20_000 {
		s.Add(time.Duration(r.ExpFloat64() * float64(time.Millisecond)))
	}
	for _, q := range []float64{0.5, 0.9, 0.99} {
		want := -math.Log(1-q) * float64(time.Millisecond)
		if got := float64(s.Quantile(q)); got < 0.93*want || got > 1.07*want {
			t.Errorf("quantile %v: %s, want %s", q, time.Duration(got), time.Duration(want))
		}
		if got := s.Beyond(time.Duration(want)); got < 0.9*(1-q) || got > 1.1*(1-q) {
			t.Errorf("beyond %s lies %.4f, want %.4f", time.Duration(want), got, 1-q)
		}
	}
	s.Fade(0.5)
	if s.Total != 10_000 {
		t.Errorf("faded it weighs %v", s.Total)
	}
	for _, odd := range []time.Duration{-time.Second, 0, time.Nanosecond, time.Hour} {
		s.Add(odd)
	}
	if q := s.Quantile(1); q > time.Minute || q < 10*time.Second {
		t.Errorf("the slowest took %s", q)
	}
	if (&Spread{}).Quantile(0.99) != 0 || (&Spread{}).Beyond(time.Second) != 0 {
		t.Error("nothing tells of something")
	}
}

// server is a made-up database with a workload: what its look-ups take alone, and how many of those beside us are held
// up.
type server struct {
	*rand.Rand
	held float64 // share of the look-ups beside us that wait for us
	by   time.Duration
	warm bool    // and none while we are at work often
	base float64 // where not 0: the share in the shortest spurts, and as many times more as they are longer
	// how often we were at work as it was last looked at
	worked float64
}

func (s *server) lookup(beside bool) time.Duration {
	took := time.Duration(math.Exp(s.NormFloat64()*0.5) * float64(500*time.Microsecond))
	if beside && s.Float64() < s.held && !(s.warm && s.worked >= often) {
		took += time.Duration(s.ExpFloat64() * float64(s.by))
	}
	return took
}

// beside lets a control work beside others for a while, as a run does: for as much of the time as three stages with
// the rests of the careful pace take, stretched. It returns the share of the time that it worked, in the last half, and
// all that the workload felt in it.
func (s *server) beside(c *Control, from, length time.Duration, look func(*Look)) (share float64, all Spread) {
	const step = 10 * time.Millisecond
	worked, looked, sum, n, debt := 0.0, 0, 0.0, 0, 0.0
	for at := from; at < from+length; at += step {
		room, _ := c.Free(at)
		if s.base > 0 {
			s.held = s.base * math.Pow(mostLonger, room.Ease)
		}
		duty := min(3/(1+59*stretch(room.Free)), 1)
		working := false
		if debt += duty; debt >= 1 {
			working, debt = true, debt-1
			worked++
		}
		if looked++; looked == 15 {
			s.worked = worked / 15
			l := Look{Busy: 5, Span: 2 * every, Worked: s.worked}
			look(&l)
			c.Look(at, l)
			worked, looked = 0, 0
		}
		if s.Float64() < 0.2 || working {
			c.Feel(Feel{Kind: FeelLookup, Took: s.lookup(working), Beside: working})
		}
		if at > from+length/2 {
			n++
			if working {
				sum++
			}
			for range 5 {
				all.Add(s.lookup(working))
			}
		}
	}
	return sum / float64(n), all
}

func TestOthersFeelNoMoreThanTheBound(t *testing.T) {
	for _, c := range []struct {
		name        string
		held        float64
		by          time.Duration
		bound       float64
		least, most float64 // of the share of the time that we may work
	}{
		{"they do not feel us", 0, 0, 0.1, 0.5, 1},
		{"one look-up in ten waits", 0.1, 5 * time.Millisecond, 0.1, 0.01, 0.06},
		{"half of them wait", 0.5, 10 * time.Millisecond, 0.1, 0.002, 0.03},
		{"and may become half as slow again", 0.1, 5 * time.Millisecond, 0.5, 0.03, 0.2},
		{"and twice as slow", 0.1, 5 * time.Millisecond, 1, 0.04, 0.4},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := &server{Rand: rand.New(rand.NewPCG(3, 4)), held: c.held, by: c.by}
			x := Control{Bound: c.bound}
			share, all := s.beside(&x, 0, 10*time.Minute, func(*Look) {})
			var alone Spread
			for range 200_000 {
				alone.Add(s.lookup(false))
			}
			felt := float64(all.Quantile(0.99)) / float64(alone.Quantile(0.99))
			if share < c.least || share > c.most || felt > 1+1.5*c.bound {
				t.Errorf("it works %.3f of the time, and others feel %.2f times what they do alone: %+v", share, felt,
					x.State(10*time.Minute))
			}
		})
	}
}

func TestItGivesWayToLocksReplicasAndOtherLoads(t *testing.T) {
	free := &server{Rand: rand.New(rand.NewPCG(5, 6))}
	for _, c := range []struct {
		name string
		look func(*Look)
		want string
	}{
		{"a lock of ours", func(l *Look) { l.Blocked = 1 }, "one waits for a lock of ours"},
		{"a replica", func(l *Look) { l.Behind = 7.25 }, "a replica falls behind, by 7.3 s now"},
		{"another load", func(l *Look) { l.Ended += 10_000 }, "do much more than before"},
	} {
		t.Run(c.name, func(t *testing.T) {
			var x Control
			ended := int64(0)
			steady := func(l *Look) {
				ended += 150
				l.Ended, l.Counted = ended, true
			}
			free.beside(&x, 0, time.Minute, steady)
			if room, why := x.Free(time.Minute); room.Free < 0.3 || room.Burst != besideBurst {
				t.Fatalf("before: %+v, %s", room, why)
			}
			at := time.Minute + every
			said := ""
			for n := range 3 { // looks: less than half a second
				l := Look{Busy: 5, Worked: 0.5}
				steady(&l)
				c.look(&l)
				ended = l.Ended
				x.Look(at+time.Duration(n)*every, l)
				if _, why := x.Free(at); strings.Contains(why, c.want) {
					said = why
				}
			}
			if room, why := x.Free(at + 2*every); room.Free > 0 || said == "" {
				t.Errorf("after: %+v, %q", room, why)
			}
		})
	}
}

// Counters that begin anew, wrap or are reset, a clock that stands still, and looks that come late change nothing for
// good, and never make it faster.
func TestOddLooksDoNotThrowIt(t *testing.T) {
	s := &server{Rand: rand.New(rand.NewPCG(7, 8)), held: 0.1, by: 5 * time.Millisecond}
	r := rand.New(rand.NewPCG(9, 10))
	var x Control
	share, _ := s.beside(&x, 0, 10*time.Minute, func(l *Look) {
		switch l.Counted = true; r.IntN(20) {
		case 0:
			l.Ended = math.MinInt64 / 4
		case 1:
			l.Ended = math.MaxInt64 / 4
		case 2:
			l.Counted = false
		case 3:
			l.Worked = 1
		}
	})
	x.Look(10*time.Minute, Look{Busy: 5})
	x.Look(10*time.Minute, Look{Busy: 5})
	x.Look(0, Look{Busy: 5})
	state := x.State(0)
	if share > 0.06 || math.IsNaN(state.Rate) || math.IsNaN(state.Free) || state.Free < leastBeside {
		t.Errorf("it works %.3f of the time: %+v", share, state)
	}
}

func TestWhatIsUsualSavesLearning(t *testing.T) {
	s := &server{Rand: rand.New(rand.NewPCG(11, 12))}
	var usual Spread
	for range 5000 {
		usual.Add(s.lookup(false))
	}
	var x Control
	x.Expect(FeelLookup, usual)
	if f := x.State(0).Felt[FeelLookup]; f.Alone == 0 || f.Beside != 0 {
		t.Errorf("it expects %+v", f)
	}
	for _, b := range []Felt{{}, {Alone: usual}} {
		if share, known := b.Share(0.1); known {
			t.Errorf("of too little follows %v", share)
		}
	}
	x.Look(0, Look{Busy: 1})
	if room, why := x.Free(0); room.Free > 0 || room.Burst != 0 || room.Spurts == 0 ||
		!strings.Contains(why, "not known yet") {
		t.Errorf("it begins with %+v: %s", room, why)
	}
	if text := strings.Join([]string{percent(0.1), percent(0.043), percent(1)}, ", "); text != "10 %, 4.3 %, 100 %" {
		t.Error(text)
	}
}

// Where the machine stalls, a bound that is measured by that would allow anything: what counts then is how many more
// of others' look-ups are slow beside us.
func TestABoundIsNotMeasuredByStalls(t *testing.T) {
	felt := func(slowEach int, took time.Duration) (s Spread) {
		for i := range 1000 {
			if slowEach > 0 && i%slowEach == 0 {
				s.Add(took)
			} else {
				s.Add(500 * time.Microsecond)
			}
		}
		return s
	}
	stalling, waiting := felt(50, 300*time.Millisecond), felt(10, 20*time.Millisecond)
	for name, c := range map[string]struct {
		alone, beside      Spread
		bound, least, most float64
	}{
		"it stalls while we rest alone":    {stalling, felt(0, 0), 0.1, mostStalled, mostStalled},
		"it stalls, whoever is at work":    {stalling, felt(50, 400*time.Millisecond), 0.1, mostStalled, mostStalled},
		"and one in ten waits for us":      {stalling, waiting, 0.1, leastStalled, leastStalled},
		"which others may feel more of":    {stalling, waiting, 1, 0.2, 0.28},
		"nothing stalls, and nobody waits": {felt(0, 0), felt(0, 0), 0.1, 1, 1},
	} {
		f := Felt{Alone: c.alone, Beside: c.beside}
		if share, known := f.Share(c.bound); !known || share < c.least || share > c.most {
			t.Errorf("%s: we may be at work %v of the time (%v)", name, share, known)
		}
	}
}

// A run that others do not feel still rests now and then, so that it goes on to know how they fare without it.
func TestWhatOthersFeelAloneIsLearnedAgainAndAgain(t *testing.T) {
	var x Control
	var took []time.Duration // of the looks at which a look-up was felt alone
	ended := int64(0)
	for n := range 2000 {
		at := time.Duration(n) * every
		ended += 150
		room, _ := x.Free(at)
		rests := 59 * stretch(room.Free)
		x.Look(at, Look{Busy: 5, Worked: 1 / (1 + rests), Ended: ended, Counted: true})
		for range 8 {
			x.Feel(Feel{Kind: FeelLookup, Took: time.Millisecond, Beside: true})
		}
		if rests > 1 || n < 100 { // long enough for a look-up within
			x.Feel(Feel{Kind: FeelLookup, Took: time.Millisecond})
			took = append(took, at)
		}
	}
	longest := time.Duration(0)
	for i := range took[1:] {
		longest = max(longest, took[i+1]-took[i])
	}
	if last := 2000*every - took[len(took)-1]; max(longest, last) > 10*time.Second || len(took) > 1000 {
		t.Errorf("of 2,000 looks %d had a rest, and up to %s went by without one", len(took), max(longest, last))
	}
}

// Where so many work that none of the probes is made without us, the pace falls to the careful one, and not below.
func TestWithoutAnyLookUpAloneItIsCareful(t *testing.T) {
	var x Control
	for range 100 {
		x.Feel(Feel{Kind: FeelLookup, Took: time.Millisecond})
	}
	ended := int64(0)
	for n := range 400 {
		ended += 150
		x.Look(time.Duration(n)*every, Look{Busy: 5, Worked: 0.2, Ended: ended, Counted: true})
		for range 8 {
			x.Feel(Feel{Kind: FeelLookup, Took: time.Millisecond, Beside: true})
		}
		if room, why := x.Free(time.Duration(n) * every); room.Free < 0 || n == 399 && room.Free > 0 {
			t.Fatalf("at look %d %.2f is free: %s", n, room.Free, why)
		}
	}
}

// What is felt of a run that seldom works says little of one that often does: where others feel nothing of that, it is
// found out soon.
func TestATrialFindsWhatIsFeltOfARunAtSpeed(t *testing.T) {
	const seeds = 20
	found, sum := 0, 0.0
	for seed := range uint64(seeds) {
		s := &server{Rand: rand.New(rand.NewPCG(13, seed)), held: 0.15, by: 5 * time.Millisecond, warm: true}
		var x Control
		share, all := s.beside(&x, 0, time.Minute, func(*Look) {})
		var alone Spread
		for range 200_000 {
			alone.Add(s.lookup(false))
		}
		sum += float64(all.Quantile(0.99)) / float64(alone.Quantile(0.99))
		if share > 0.25 {
			found++
		}
	}
	if felt := sum / seeds; found < seeds*4/5 || felt > 1.1 {
		t.Errorf("after half a minute %d of %d are often at work, and others feel %.2f times what they do alone", found,
			seeds, felt)
	}
}

// Spurts become as long as others do not feel beyond the bound, and are short again as soon as something is odd.
func TestSpurtsAreAsLongAsOthersDoNotFeel(t *testing.T) {
	for _, c := range []struct {
		base        float64
		least, most float64 // of the ease at last
	}{{1e-9, 0.6, 1}, {0.001, 0.05, 0.9}, {0.004, 0, 0.4}, {0.1, 0, 0.05}} {
		sum, eased := 0.0, 0.0
		const seeds = 10
		for seed := range uint64(seeds) {
			s := &server{Rand: rand.New(rand.NewPCG(51, seed)), base: c.base, by: 5 * time.Millisecond}
			var x Control
			_, all := s.beside(&x, 0, 4*time.Minute, func(*Look) {
				if x.trial.until > 0 && x.ours.ease > 0 {
					t.Errorf("%v held up: spurts are eased by %.2f in a trial", c.base, x.ours.ease)
				}
			})
			s.held = 0
			var alone Spread
			for range 200_000 {
				alone.Add(s.lookup(false))
			}
			sum += float64(all.Quantile(0.99)) / float64(alone.Quantile(0.99))
			room, _ := x.Free(4 * time.Minute)
			eased += room.Ease / seeds
			x.Look(4*time.Minute+every, Look{Busy: 5, Blocked: 1})
			if room, _ := x.Free(4*time.Minute + every); room.Ease > 0 {
				t.Errorf("%v held up: while one waits for a lock %.2f", c.base, room.Ease)
			}
		}
		if felt := sum / seeds; felt > 1.12 || eased < c.least || eased > c.most {
			t.Errorf("%v held up in the shortest spurts: others feel %.2f times what they do alone, and spurts are "+
				"eased by %.2f", c.base, felt, eased)
		}
	}
}

// What others feel is what they do: who changes much waits for commits anyway, and who only reads does not.
func TestWhatOthersFeelIsMixedAsWhatTheyDo(t *testing.T) {
	r := rand.New(rand.NewPCG(41, 42))
	share := func(changed int64) float64 {
		var x Control
		x.Look(0, Look{Busy: 5, Ended: 0, Counted: true})
		for range 4000 {
			took := time.Duration(math.Exp(r.NormFloat64()*0.1) * float64(700*time.Microsecond))
			x.Feel(Feel{Kind: FeelLookup, Took: took})
			if r.Float64() < 0.2 {
				took += time.Millisecond
			}
			x.Feel(Feel{Kind: FeelLookup, Took: took, Beside: true})
			for _, beside := range []bool{false, true} {
				x.Feel(Feel{Kind: FeelCommit, Beside: beside,
					Took: time.Duration(math.Exp(r.NormFloat64()*0.2) * float64(2*time.Millisecond))})
			}
		}
		x.Look(every, Look{Busy: 5, Ended: 1000, Changed: changed, Counted: true})
		got, known := x.share()
		if !known {
			t.Errorf("with %d changes of 1,000 nothing is known", changed)
		}
		return got
	}
	if reads, writes, odd := share(0), share(250), share(-3); reads > 0.1 || writes < 0.9 || odd > 0.1 {
		t.Errorf("we may be at work %.2f of the time where they read, %.2f where a quarter changes something, %.2f "+
			"where the count fell", reads, writes, odd)
	}
}

// What trials cost others is within the bound from the first minute on, however much they feel of what is tried.
func TestTheBoundHoldsInTheFirstMinuteToo(t *testing.T) {
	const seeds = 10
	for _, held := range []float64{0.03, 0.1, 0.3, 0.8} {
		for _, warm := range []bool{false, true} {
			sum := 0.0
			for seed := range uint64(seeds) {
				s := &server{Rand: rand.New(rand.NewPCG(31, seed)), held: held, by: 8 * time.Millisecond, warm: warm}
				var x Control
				_, all := s.beside(&x, 0, time.Minute, func(*Look) {})
				var alone Spread
				for range 100_000 {
					alone.Add(s.lookup(false))
				}
				sum += float64(all.Quantile(0.99)) / float64(alone.Quantile(0.99))
			}
			if felt := sum / seeds; felt > 1.15 {
				t.Errorf("%v held up (none of a run at speed: %v): others feel %.2f times what they do alone", held,
					warm, felt)
			}
		}
	}
}

// Trials cost others little where they feel what is tried, and come ever more seldom.
func TestTrialsThatAreFeltBecomeRare(t *testing.T) {
	for _, held := range []float64{0.1, 0.3, 0.8} {
		s := &server{Rand: rand.New(rand.NewPCG(17, 18)), held: held, by: 10 * time.Millisecond}
		var x Control
		trials, looks, on := []time.Duration(nil), 0, false
		tell := func(*Look) {
			if now := x.trial.until > 0; now != on {
				if on = now; now {
					trials = append(trials, time.Duration(looks)*every)
				}
			}
			looks++
		}
		s.beside(&x, 0, 10*time.Minute, tell)
		if len(trials) < 3 || len(trials) > 10 {
			t.Errorf("%v held up: trials after %s", held, trials)
		} else if n := len(trials); trials[n-1]-trials[n-2] < 100*time.Second {
			t.Errorf("%v held up: the last of the trials after %s comes too soon", held, trials)
		}
	}
}

// Others who come and go do not pay for a trial each time that they come.
func TestWhoComesAndGoesPaysForFewTrials(t *testing.T) {
	s := &server{Rand: rand.New(rand.NewPCG(23, 24)), held: 0.8, by: 10 * time.Millisecond}
	var x Control
	trials, looks, on := 0, 0, false
	s.beside(&x, 0, 4*time.Minute, func(l *Look) {
		if looks++; time.Duration(looks)*every%(20*time.Second) > 10*time.Second {
			l.Busy = 0
		}
		if now := x.trial.until > 0; now != on {
			if on = now; now {
				trials++
			}
		}
	})
	if trials < 1 || trials > 4 {
		t.Errorf("%d trials in twelve times ten seconds", trials)
	}
}

// A trial ends at once where others wait for a lock of ours, and what is free is then what it is without one.
func TestATrialEndsWhereOthersWait(t *testing.T) {
	s := &server{Rand: rand.New(rand.NewPCG(19, 20)), held: 0.15, by: 10 * time.Millisecond}
	var x Control
	looks, at := 0, 0
	s.beside(&x, 0, time.Minute, func(l *Look) {
		if looks++; at == 0 && x.trial.until > 0 {
			l.Blocked, at = 1, looks
		} else if looks == at+1 && x.trial.until > 0 {
			t.Error("the trial goes on")
		} else if looks == at+1 && x.free > 0 {
			t.Errorf("%v is free", x.free)
		}
	})
	if at == 0 {
		t.Error("there was no trial")
	}
}

// Many runs that each take what is free in a trial do not take all of the server's time together.
func TestATrialOfManyRunsStaysATrial(t *testing.T) {
	var x Control
	for range 200 {
		x.Feel(Feel{Kind: FeelLookup, Took: time.Millisecond})
	}
	worked, ended, tried := 0.0, int64(0), 0
	for n := range 400 {
		at := time.Duration(n) * every
		ended += 150
		x.Look(at, Look{Busy: 5, Worked: worked, Ended: ended, Counted: true})
		room, _ := x.Free(at)
		worked = 1 - math.Pow(1-1/(1+59*stretch(room.Free)), 64) // of the time one of 64 at least
		took := time.Millisecond
		if n%8 == 0 { // what is done seldom is felt
			took = 5 * time.Millisecond
		}
		for range 2 {
			x.Feel(Feel{Kind: FeelLookup, Took: time.Millisecond})
			x.Feel(Feel{Kind: FeelLookup, Took: took, Beside: true})
		}
		if x.trial.until > 0 {
			if tried++; room.Free > 0.45 {
				t.Fatalf("look %d: %.2f is free for each, and they work %.2f of the time", n, room.Free, worked)
			}
		}
	}
	if tried == 0 {
		t.Error("there was no trial")
	}
}
