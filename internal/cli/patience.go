package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"ambercellar/client"
)

// patience is how long a command waits for a service that has gone away while it did what was asked for.
const patience = time.Minute

// patiently asks what has become of something that goes on in the service, which may end and start again meanwhile:
// what is what, and id its own. What goes on there does not hang on who waits for it.
func (e *Env) patiently(what, id string, ask func() error) error {
	var since time.Time
	for {
		err := ask()
		var away *client.AwayError
		if !errors.As(err, &away) {
			return err
		}
		if since.IsZero() {
			since = time.Now()
			fmt.Fprintf(e.Err, "\nthe service does not answer any more; %s %s goes on there once it does, and is "+
				"waited for\n", what, id)
		}
		if time.Since(since) > patience {
			return fmt.Errorf("%w; %s %s goes on once the service answers: `ambercellar %s show %s` says what "+
				"became of it", err, what, id, what, id)
		}
		if err := Sleep(e.Ctx, 500*time.Millisecond); err != nil {
			return err
		}
	}
}

// follow asks for something that goes on in the service, patiently, after a moment.
func follow[T any](e *Env, what, id string, ask func(context.Context, string) (T, error)) (now T, err error) {
	if err := Sleep(e.Ctx, 200*time.Millisecond); err != nil {
		return now, err
	}
	err = e.patiently(what, id, func() (err error) {
		now, err = ask(e.Ctx, id)
		return err
	})
	return now, err
}
