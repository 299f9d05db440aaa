package cli

import (
	"flag"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"

	"ambercellar/client"
	"ambercellar/internal/core/period"
)

// tariffFlags say what retrievals from a cold store take.
func tariffFlags(f *flag.FlagSet) {
	f.String("wait", "", "of a store whose files go cold: how long a retrieval takes, by priority, like "+
		"low=PT12H,normal=PT4H,high=PT5M")
	f.String("price", "", "of a store whose files go cold: what it costs for a GiB, by priority, like "+
		"low=0.002,normal=0.01,high=0.03")
	f.String("currency", "", "of these prices")
	f.Int("days", 0, "how many days a retrieved copy stays where nothing else is said; left out: "+
		strconv.Itoa(client.UsualDays))
	f.String("verify-budget", "", "bytes in 30 days that are retrieved to verify cold segments, like 20GiB; left "+
		"out: none")
}

// tariff reads what was given of these flags into a tariff.
func (e *Env) tariff(t *client.Tariff, given func(string) bool) error {
	if given("wait") || given("price") {
		waits, err := ByPriority(e.Flag("wait"), func(s string) (string, error) {
			p, err := period.Parse(s)
			return p.String(), err
		})
		if err != nil {
			return Usage("-wait: %v", err)
		}
		prices, err := ByPriority(e.Flag("price"),
			func(s string) (float64, error) { return strconv.ParseFloat(s, 64) })
		if err != nil {
			return Usage("-price: %v", err)
		}
		t.Of = map[client.Priority]client.Rate{}
		for _, p := range []client.Priority{client.Low, client.Normal, client.High} {
			wait, ok := waits[string(p)]
			price, priced := prices[string(p)]
			if ok != priced {
				return Usage("-wait and -price name the same priorities")
			}
			if ok {
				t.Of[p] = client.Rate{Wait: wait, Price: price}
			}
		}
	}
	if given("currency") {
		t.Currency = e.Flag("currency")
	}
	if given("days") {
		t.Days = Get[int](e, "days")
	}
	if given("verify-budget") {
		n, err := humanize.ParseBytes(e.Flag("verify-budget"))
		if err != nil {
			return Usage("-verify-budget %q is no number of bytes; write one like 20GiB", e.Flag("verify-budget"))
		}
		t.Budget = int64(n)
	}
	return nil
}

// given says which flags were given.
func (e *Env) given() func(string) bool {
	set := map[string]bool{}
	e.Flags.Visit(func(f *flag.Flag) { set[f.Name] = true })
	return func(name string) bool { return set[name] }
}

func storeReseal(e *Env) error {
	r, err := e.Client.Reseal(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	return e.Facts(r, []Fact{{"sealed anew", fmt.Sprintf("%s files (%s)", Count(r.Sealed), Size(r.Bytes))},
		{"in cold storage", fmt.Sprintf("%s files, which keep their key", Count(r.Cold))}})
}

func segmentMove(e *Env) error {
	to := e.Flag("to")
	if to == "" {
		return Usage("-to is missing: the store")
	}
	s, err := e.Client.MoveSegment(e.Ctx, e.Args[0], client.NewMove{To: to})
	if err != nil {
		return err
	}
	return e.segment(s, s)
}

func retrieveFlags(f *flag.FlagSet) {
	whereFlags(f)
	f.String("table", "", "in place of segments: those of this table, as SOURCE.TABLE, that may hold rows for "+
		"which the condition is true")
	f.String("priority", "normal", "low, normal or high")
	f.Int("days", 0, "how many days the copies stay; left out: as the store has it")
	f.String("note", "", "what it is for")
	f.Bool("try", false, "only say what it takes")
}

func segmentRetrieve(e *Env) error {
	where, err := e.where()
	if err != nil {
		return err
	}
	q := client.RetrievalRequest{Where: where, Priority: client.Priority(e.Flag("priority")), Note: e.Flag("note")}
	if len(e.Args) > 0 {
		q.Segments = strings.Split(e.Args[0], ",")
	}
	if table := e.Flag("table"); table != "" {
		var ok bool
		if q.Source, q.Table, ok = strings.Cut(table, "."); !ok {
			return Usage("-table %q: write SOURCE.TABLE", table)
		}
	}
	if (len(q.Segments) > 0) == (q.Table != "") {
		return Usage("say what is to be retrieved: segments, separated by commas, or -table")
	}
	q.Days = Get[int](e, "days")
	if Get[bool](e, "try") {
		c, err := e.Client.PreviewRetrieval(e.Ctx, q)
		if err != nil {
			return err
		}
		return e.chilled(c)
	}
	l, err := e.Client.Retrieve(e.Ctx, q)
	if err != nil {
		return err
	}
	return e.retrievals(l)
}

// chilled shows what is in cold storage, and what it takes to fetch it.
func (e *Env) chilled(c *client.Chilled) error {
	rows := [][]string{}
	for _, s := range c.Segments {
		rows = append(rows, []string{s.Segment, s.Store, Count(s.Rows), Size(s.Bytes), s.Oldest, s.Newest,
			atOrDash(s.ExpectedAt)})
	}
	if err := e.Show(c, []string{"segment", "store", "rows", "file", "oldest", "newest", "being retrieved, expected"},
		rows); err != nil || e.Format != "table" {
		return err
	}
	for _, o := range c.Offers {
		fmt.Fprintf(e.Out, "%s priority: %s\n", o.Priority, Offered(o))
	}
	return nil
}

func Offered(o client.Offer) string {
	wait, price := "an unknown time", "an unknown price"
	if o.Wait != "" {
		wait = o.Wait
	}
	if o.Price != nil {
		price = money(*o.Price, o.Currency)
	}
	return wait + ", " + price
}

// money writes an amount with as many digits as tell something.
func money(amount float64, currency string) string {
	text := strconv.FormatFloat(amount, 'f', 2, 64)
	if amount != 0 && amount < 0.01 {
		text = "less than 0.01"
	}
	return strings.TrimSpace(text + " " + currency)
}

func retrievalList(e *Env) error {
	l, err := items(e, func(n int, after string) (client.Items[client.Retrieval], error) {
		return e.Client.Retrievals(e.Ctx, client.RetrievalsQuery{Limit: n, After: after})
	})
	if err != nil {
		return err
	}
	return e.retrievals(l)
}

func (e *Env) retrievals(l client.Items[client.Retrieval]) error {
	rows := [][]string{}
	for _, r := range l.Items {
		price := "unknown"
		if r.Price != nil {
			price = money(*r.Price, r.Currency)
		}
		until := r.ExpectedAt
		what := "expected "
		if r.Until != nil {
			until, what = r.Until, "there until "
		}
		when := "-"
		if until != nil {
			when = what + At(*until)
		}
		rows = append(rows, []string{r.Segment, r.Store, string(r.State), string(r.Priority), Size(r.Bytes), price,
			when, At(r.CreatedAt), r.CreatedBy, Dash(r.Note), Dash(r.Reason)})
	}
	return e.Show(l, []string{"segment", "store", "state", "priority", "file", "price", "when", "asked", "by", "for",
		"reason"}, rows)
}

// coldNote says of a search which segments it could not look into.
func (e *Env) coldNote(c *client.Chilled, sourceName, table string) {
	if c == nil {
		return
	}
	fmt.Fprintf(e.Out, "not searched: %s in cold storage that may hold such rows (%s, %s)\n",
		Things(len(c.Segments), "segment"), Things(c.Rows, "row"), Size(c.Bytes))
	for _, o := range c.Offers {
		fmt.Fprintf(e.Out, "  to retrieve them at %s priority: %s\n", o.Priority, Offered(o))
	}
	fmt.Fprintf(e.Out, "  `ambercellar segment retrieve -table %s.%s -where … -priority low` fetches them\n",
		sourceName, table)
}

func restoreApprove(e *Env) error {
	r, err := e.Client.ApproveRestore(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	return e.restore(r)
}

func restoreRefuse(e *Env) error {
	r, err := e.Client.RefuseRestore(e.Ctx, e.Args[0], client.NewRefusal{Reason: e.Flag("reason")})
	if err != nil {
		return err
	}
	return e.restore(r)
}

func disposalApprove(e *Env) error {
	d, err := e.Client.ApproveDisposal(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	return e.disposal(d)
}

// ByPriority reads a list like low=1,normal=2,high=3.
func ByPriority[T any](text string, read func(string) (T, error)) (map[string]T, error) {
	out := map[string]T{}
	if text == "" {
		return out, nil
	}
	for _, part := range strings.Split(text, ",") {
		name, value, _ := strings.Cut(part, "=")
		if !slices.Contains([]client.Priority{client.Low, client.Normal, client.High}, client.Priority(name)) {
			return nil, fmt.Errorf("%q is none of the priorities low, normal and high", name)
		}
		v, err := read(value)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		out[name] = v
	}
	return out, nil
}
