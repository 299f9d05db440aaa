package cli

import (
	"flag"
	"net/url"
	"strconv"

	"ambercellar/internal/api"
	"ambercellar/internal/client"
)

// limitFlag says how many items of a list are printed.
func limitFlag(f *flag.FlagSet) { f.Int("limit", 200, "how many are listed at the most; 0: all") }

// mostAtOnce is how many items of a list one request brings.
const mostAtOnce = 500

// items asks for a list, page by page, for as many as -limit allows.
func items[T any](e *env, path string, q url.Values) (out api.Items[T], err error) {
	limit, err := strconv.Atoi(e.flag("limit"))
	if err != nil || limit < 0 {
		return out, usage("-limit: write a number of items, or 0 for all")
	}
	return upTo[T](e, path, q, limit)
}

// every asks for a list, page by page, to its end.
func every[T any](e *env, path string) ([]T, error) {
	out, err := upTo[T](e, path, nil, 0)
	return out.Items, err
}

func upTo[T any](e *env, path string, q url.Values, limit int) (out api.Items[T], err error) {
	if q == nil {
		q = url.Values{}
	}
	out.Items = []T{} // an empty list is one, in JSON too
	for {
		n := mostAtOnce
		if limit > 0 {
			n = min(n, limit-len(out.Items))
		}
		q.Set("limit", strconv.Itoa(n))
		page, err := client.Get[api.Items[T]](e.ctx, e.client, path+"?"+q.Encode())
		if err != nil {
			return out, err
		}
		out.Items, out.Next = append(out.Items, page.Items...), page.Next
		if page.Next == nil {
			return out, nil
		}
		if limit > 0 && len(out.Items) >= limit {
			e.warn("there are more; -limit 0 lists all")
			return out, nil
		}
		q.Set("after", *page.Next)
	}
}
