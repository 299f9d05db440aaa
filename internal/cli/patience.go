package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"time"

	"github.com/oklog/ulid/v2"

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

// lasting sends a request whose answer may take long: what is what it asks for. It goes on in the service when the
// connection is lost, and is asked for again then; where the service was stopped meanwhile, it begins anew. A service
// that was never there is not waited for.
func lasting[T any](e *Env, what string, ask func(context.Context) (T, error)) (answer T, err error) {
	id := ulid.Make().String()
	ctx := client.WithRequest(e.Ctx, id)
	var since time.Time
	for {
		answer, err = ask(ctx)
		if e.Ctx.Err() != nil { // whoever asked has given up
			late, cancel := context.WithTimeout(context.WithoutCancel(e.Ctx), 5*time.Second)
			defer cancel()
			return answer, errors.Join(err, ignoreProblem(e.Client.EndRequest(late, id)))
		}
		var away *client.AwayError
		if !errors.As(err, &away) {
			return answer, err
		}
		if since.IsZero() {
			var dial *net.OpError
			if errors.As(err, &dial) && dial.Op == "dial" {
				return answer, err
			}
			since = time.Now()
			fmt.Fprintf(e.Err, "\nthe connection is lost: %v\n%s goes on in the service, as request %s, and is asked "+
				"for again; where the service was stopped, it begins anew\n", away.Err, what, id)
		}
		if time.Since(since) > patience {
			return answer, fmt.Errorf("%w; waited for %s; %s may still go on in the service, as request %s, for two "+
				"minutes; ask for it again", err, patience, what, id)
		}
		Sleep(e.Ctx, 500*time.Millisecond) // whoever gives up meanwhile is heard at the next try
	}
}

// ignoreProblem drops what a service answers: that something has ended already is as well.
func ignoreProblem(err error) error {
	var p *client.Problem
	var away *client.AwayError
	if errors.As(err, &p) || errors.As(err, &away) {
		return nil
	}
	return err
}
