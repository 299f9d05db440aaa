package cli

import (
	"context"
	"fmt"
	"time"

	"ambercellar/client"
)

func queueList(e *Env) error {
	l, err := e.Client.Queue(e.Ctx)
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, q := range l.Items {
		position := "works"
		if q.Position > 0 {
			position = Count(q.Position)
		} else if q.Position < 0 {
			position = string(q.Run.State)
		}
		why := q.Why
		if why == "" {
			why = q.Run.Reason
		}
		rows = append(rows, []string{position, q.Run.ID, q.Run.Rule, q.Run.Source + "." + q.Run.Table,
			Count(q.Run.Priority), fmt.Sprintf("%s of %s", Count(q.Run.Done), Count(q.Run.Due)),
			startsIn(q.StartsIn), why})
	}
	return e.Show(l, []string{"position", "run", "rule", "table", "priority", "rows", "starts", "reason"}, rows)
}

// startsIn says when something that waits begins, from the seconds until then; nil: that is not known.
func startsIn(seconds *int64) string {
	if seconds == nil {
		return "-"
	}
	return "in " + (time.Duration(*seconds) * time.Second).String()
}

func queueLimits(e *Env) error {
	l, err := e.Client.QueueLimits(e.Ctx)
	if err != nil {
		return err
	}
	change := false
	for name, into := range map[string]*int{"all": &l.All, "source": &l.Source, "restores": &l.Restores,
		"exports": &l.Exports, "disposals": &l.Disposals, "verifications": &l.Verifications,
		"moves": &l.Moves, "copies": &l.Copies, "audits": &l.Audits} {
		if n := Get[int](e, name); n != 0 {
			*into, change = n, true
		}
	}
	if change {
		if l, err = e.Client.SetQueueLimits(e.Ctx, *l); err != nil {
			return err
		}
	}
	return e.Facts(l, []Fact{{"runs at a time", Count(l.All)}, {"of one source", Count(l.Source)},
		{"restores", Count(l.Restores)}, {"exports", Count(l.Exports)}, {"disposals", Count(l.Disposals)},
		{"verifications", Count(l.Verifications)}, {"moves", Count(l.Moves)}, {"second copies", Count(l.Copies)},
		{"exports of the audit log", Count(l.Audits)}})
}

func queueJobs(e *Env) error {
	l, err := e.Client.Jobs(e.Ctx)
	if err != nil {
		return err
	}
	return e.jobs(&l)
}

func (e *Env) jobs(l *client.Items[client.QueuedJob]) error {
	rows := [][]string{}
	for _, j := range l.Items {
		state, table, done := j.State, "-", "-"
		if j.Position > 0 {
			state += " " + Count(j.Position)
		}
		if j.Table != "" {
			table = j.Source + "." + j.Table
		}
		if j.Of > 0 {
			done = fmt.Sprintf("%s of %s %s", Count(j.Done), Count(j.Of), j.Unit)
		}
		rows = append(rows, []string{string(j.Kind), j.ID, state, table, j.What, done, Count(j.Priority),
			startsIn(j.StartsIn), j.By, At(j.AskedAt), j.Why})
	}
	return e.Show(l, []string{"kind", "job", "state", "table", "what", "progress", "priority", "starts", "by", "asked",
		"reason"}, rows)
}

// jobVerb is a command that does something to a job, and lists those that are left.
func jobVerb(do func(*client.Client, context.Context, string, string) (client.Items[client.QueuedJob], error)) func(
	*Env) error {
	return func(e *Env) error {
		l, err := do(e.Client, e.Ctx, e.Args[0], e.Args[1])
		if err != nil {
			return err
		}
		return e.jobs(&l)
	}
}

func priorityOf(text string) (n int, err error) {
	if _, err := fmt.Sscanf(text, "%d", &n); err != nil || fmt.Sprint(n) != text {
		return 0, Usage("%q is no priority; write a number from -100 to 100", text)
	}
	return n, nil
}

func jobPriority(e *Env) error {
	n, err := priorityOf(e.Args[2])
	if err != nil {
		return err
	}
	l, err := e.Client.SetJobPriority(e.Ctx, e.Args[0], e.Args[1], client.NewPriority{Priority: n})
	if err != nil {
		return err
	}
	return e.jobs(&l)
}

func runPriority(e *Env) error {
	priority, err := priorityOf(e.Args[1])
	if err != nil {
		return err
	}
	r, err := e.Client.SetPriority(e.Ctx, e.Args[0], client.NewPriority{Priority: priority})
	if err != nil {
		return err
	}
	return e.run1(r)
}
