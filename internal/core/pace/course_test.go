package pace

import (
	"fmt"
	"testing"
	"time"
)

func TestACourseStaysShortAndLosesNoRow(t *testing.T) {
	c := Course{Step: 1}
	begun := time.Date(2026, 11, 2, 3, 0, 0, 0, time.UTC)
	rate := 12.0
	for n := range 50_000 {
		m := CourseMoment{
			At:     begun.Add(time.Duration(n+1) * time.Second),
			Secs:   1,
			Rows:   int64(n % 7),
			Rate:   &rate,
			Busy:   2,
			Worked: 0.5,
		}
		if n == 777 {
			m.Beside = 99
		}
		c.Add(m)
		c.Turn(m.At, fmt.Sprintf("%d sessions of others are at work; a bound of 10 %% leaves us %d %%", n, n%10))
	}
	rows, worst := int64(0), 0.0
	for _, p := range c.Points {
		rows, worst = rows+p.Rows, max(worst, p.Beside)
		if p.Busy != 2 || p.Worked != 0.5 || *p.Rate != 12 {
			t.Fatalf("%+v", p)
		}
	}
	want := int64(0)
	for n := range 50_000 {
		want += int64(n % 7)
	}
	if len(c.Points) >= mostPoints || rows != want || worst != 99 || c.Step != 128 || len(c.Turns) != 1 {
		t.Errorf(
			"%d points of %v s with %d rows of %d, at the worst %v; %d turns",
			len(c.Points),
			c.Step,
			rows,
			want,
			worst,
			len(c.Turns),
		)
	}
	if last := c.Points[len(c.Points)-1].At; !last.Equal(begun.Add(50_000 * time.Second)) {
		t.Errorf("it ends at %s", last)
	}
}

func TestACourseKeepsTheFirstTurnsAndTheNewest(t *testing.T) {
	var c Course
	for n := range 1000 {
		c.Turn(time.Unix(int64(n), 0), []string{"", "others are at work", "one waits"}[n%3])
		c.Turn(time.Unix(int64(n), 0), []string{"", "others are at work", "one waits"}[n%3])
	}
	if len(c.Turns) != mostTurns || c.Lost != 800 || c.Turns[0].At.Unix() != 0 || c.Turns[99].At.Unix() != 99 ||
		c.Turns[199].At.Unix() != 999 {
		t.Errorf("%d turns, %d lost, %v", len(c.Turns), c.Lost, c.Turns[99:101])
	}
	one, many := "one session of others is at work", "7 sessions of others are at work"
	c = Course{}
	c.Turn(time.Time{}, one)
	c.Turn(time.Time{}, many)
	if len(c.Turns) != 1 {
		t.Errorf("%v", c.Turns)
	}
}
