package cli

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash"
	"io"
	"net"
	"time"

	"ambercellar/client"
)

// resumed passes on what comes more than once: of each answer what the ones before it brought is compared, and only
// what is new goes on.
type resumed struct {
	to     io.Writer
	passed hash.Hash // of what was passed on
	have   int64
	again  hash.Hash // of the present answer, as far as it was passed on before
	at     int64     // how far the present answer is
	failed bool      // what is passed on is not taken
}

var errOtherRows = errors.New("what comes now is not what came before the connection was lost, so these are not all " +
	"rows; ask for them again")

func (r *resumed) Write(b []byte) (int, error) {
	old := int(min(int64(len(b)), r.have-r.at))
	r.again.Write(b[:old]) // a hash takes all
	if r.at += int64(old); old > 0 && r.at == r.have && !bytes.Equal(r.again.Sum(nil), r.passed.Sum(nil)) {
		return 0, errOtherRows
	}
	n, err := r.to.Write(b[old:])
	r.failed = err != nil
	r.passed.Write(b[old : old+n])
	r.at, r.have = r.at+int64(n), r.have+int64(n)
	return old + n, err
}

// cutTries is how often an answer is asked for again that brings nothing new.
const cutTries = 2

// searchRows passes the rows that a search finds on. Where the connection is lost it asks again, and goes on from where
// it was.
func (e *Env) searchRows(q client.SearchRequest, format string) (note string, err error) {
	out := &resumed{to: e.Out, passed: sha256.New()}
	var since time.Time
	for tries := 0; ; {
		before := out.have
		out.again, out.at = sha256.New(), 0
		note, err = e.Client.SearchRows(e.Ctx, q, format, out)
		var away *client.AwayError
		switch {
		case err == nil && out.at < out.have:
			return "", errOtherRows
		case err == nil || out.failed || errors.Is(err, errOtherRows) || !errors.As(err, &away):
			return note, err
		}
		if out.have > before {
			tries, since = 0, time.Time{}
		}
		var dial *net.OpError
		if errors.As(err, &dial) && dial.Op == "dial" {
			if out.have == 0 && since.IsZero() { // the service was never there
				return "", err
			}
		} else if tries++; tries > cutTries {
			return "", err
		}
		if since.IsZero() {
			since = time.Now()
			fmt.Fprintf(e.Err, "\nthe connection is lost: %v\nthe rows are asked for again, from byte %d on\n",
				away.Err, out.have)
		}
		if time.Since(since) > patience {
			return "", fmt.Errorf("%w; waited for %s", err, patience)
		}
		if err := Sleep(e.Ctx, 200*time.Millisecond); err != nil {
			return "", err
		}
	}
}
