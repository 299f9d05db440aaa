package cli

import (
	"flag"

	"ambercellar/client"
)

// limitFlag says how many items of a list are printed.
func limitFlag(f *flag.FlagSet) { f.Int("limit", 200, "how many are listed at the most; 0: all") }

// mostAtOnce is how many items of a list one request brings.
const mostAtOnce = 500

// A pager asks for a page of a list.
type pager[T any] func(limit int, after string) (client.Items[T], error)

// items asks for a list, page by page, for as many as -limit allows.
func items[T any](e *Env, page pager[T]) (out client.Items[T], err error) {
	limit := Get[int](e, "limit")
	if limit < 0 {
		return out, Usage("-limit: write a number of items, or 0 for all")
	}
	return upTo(e, page, limit)
}

// every asks for a list, page by page, to its end.
func every[T any](e *Env, page pager[T]) ([]T, error) {
	out, err := upTo(e, page, 0)
	return out.Items, err
}

func upTo[T any](e *Env, page pager[T], limit int) (out client.Items[T], err error) {
	out.Items = []T{} // an empty list is one, in JSON too
	for after := ""; ; {
		n := mostAtOnce
		if limit > 0 {
			n = min(n, limit-len(out.Items))
		}
		p, err := page(n, after)
		if err != nil {
			return out, err
		}
		out.Items, out.Next = append(out.Items, p.Items...), p.Next
		if p.Next == nil {
			return out, nil
		}
		if limit > 0 && len(out.Items) >= limit {
			e.Warn("there are more; -limit 0 lists all")
			return out, nil
		}
		after = *p.Next
	}
}
