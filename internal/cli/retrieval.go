package cli

import (
	"flag"
	"fmt"
	"strconv"
	"strings"

	"ambercellar/client"
)

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
