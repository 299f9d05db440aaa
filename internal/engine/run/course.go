package run

import (
	"context"
	"slices"
	"sync"
	"time"

	"ambercellar/internal/core/pace"
)

// courseEvery is how often the course of a run that goes on is kept.
const courseEvery = 15 * time.Second

// course is how a run goes, as it is being written; others read it meanwhile.
type course struct {
	mu    sync.Mutex
	whole *pace.Course
	rows  int64 // that had left the table at the last moment
	at    time.Time
	kept  time.Time
}

// Course returns how a run goes, or went: up to the last second while it works here.
func (mv *Mover) Course(ctx context.Context, id string) (*pace.Course, error) {
	if x, ok := mv.courses.Load(id); ok {
		return x.(*course).copy(), nil
	}
	if _, err := mv.Catalog.Run(ctx, id); err != nil {
		return nil, err
	}
	return mv.Catalog.Course(ctx, id)
}

func (c *course) copy() *pace.Course {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := *c.whole
	out.Points, out.Turns = slices.Clone(out.Points), slices.Clone(out.Turns)
	return &out
}

// takeUpCourse goes on with the course that earlier executions left, and returns what ends that.
func (r *Execution) takeUpCourse(ctx context.Context) (end func()) {
	whole, err := r.Catalog.Course(ctx, r.Run.ID)
	if err != nil {
		r.Log.Warn("how the run has gone so far cannot be read", "run", r.Run.ID, "error", err)
	}
	r.course = &course{whole: whole, rows: r.Run.Done(), at: r.Now(), kept: r.Now()}
	r.courses.Store(r.Run.ID, r.course)
	return func() {
		r.moment(r.Now())
		if err := r.Catalog.SaveCourse(ctx, r.Run.ID, r.course.copy()); err != nil {
			r.Log.Warn("how the run went cannot be kept", "run", r.Run.ID, "error", err)
		}
		r.courses.Delete(r.Run.ID)
	}
}

// moment notes what went on since the last one, and why the run goes as fast as it does.
func (r *Execution) moment(now time.Time) {
	c := r.course
	if c == nil {
		return
	}
	m := pace.CourseMoment{At: now.UTC(), Secs: now.Sub(c.at).Seconds()}
	why := r.speed()
	if r.watcher != nil {
		s := r.watcher.State()
		m.Worked, m.Busy, m.Behind = s.Worked, float64(s.Busy), s.Behind
		if s.Told {
			m.Rate = &s.Rate
		}
		if pace.Pace(r.Run.Pace) == pace.Gentle {
			m.Bound = s.Bound
			if s.Want >= 0 {
				m.Share = &s.Want
			}
		}
		if s.Busy > 0 {
			look, commit := s.Felt[pace.FeelLookup], s.Felt[pace.FeelCommit]
			m.Alone, m.Beside, m.Commit = millis(look.Alone), millis(look.Beside), millis(commit.Alone)
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if m.Secs > 0 && m.Secs < maxMoment.Seconds() { // otherwise it stood still in between, or the clock jumped
		m.Rows = max(r.Run.Done()-c.rows, 0)
		c.whole.Add(m)
	}
	c.rows, c.at = r.Run.Done(), now
	c.whole.Turn(now.UTC(), why)
}

// maxMoment is the longest moment that is one.
const maxMoment = time.Minute

func millis(d time.Duration) float64 { return float64(d.Round(10*time.Microsecond)) / 1e6 }

// speed says in words why the run goes as fast as it does.
func (r *Execution) speed() string {
	if r.load.reason != "" {
		return r.load.reason
	}
	switch p := pace.Pace(r.Run.Pace); {
	case p == pace.Careful:
		return "long rests, as its pace is careful"
	case p == pace.Unlimited:
		return "no rests, as its pace is unlimited"
	case r.freely():
		return "at full speed: nobody else is at work"
	}
	return "speeding up: nobody else is at work"
}

// courseToKeep is the course where it is time to keep it; nil otherwise.
func (r *Execution) courseToKeep() *pace.Course {
	if c := r.course; c != nil && r.Now().Sub(c.kept) >= courseEvery {
		c.kept = r.Now()
		return c.copy()
	}
	return nil
}
