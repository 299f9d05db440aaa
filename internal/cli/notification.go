package cli

import (
	"context"
	"flag"
	"fmt"
	"strconv"
	"strings"

	"ambercellar/client"
)

// notificationCommands are the commands of who is told what, and of what was sent.
func notificationCommands() []Command {
	return []Command{
		{Name: "config show", Summary: "show the settings of the running service, and where each comes from",
			Run: configShow},
		{Name: "news", Summary: "show what happened that somebody may want to know of, the newest first",
			Flags: newsFlags, Run: news},
		{Name: "completion", Args: "SHELL", Summary: "print what lets bash, zsh or fish complete commands and names",
			Run: completionScript, Local: true},
		{
			Name: "support",
			Summary: "write a file for whoever helps: versions, settings, checks, queue, findings, log; no " +
				"secrets, no values of rows",
			Run:   support,
			Flags: func(f *flag.FlagSet) { f.String("out", "", "the file to write, a zip; it must not exist") },
		},
		{Name: "doctor", Run: doctor,
			Summary: "look at everything that the service depends on, and say what to do; status 1 where something " +
				"failed",
			Flags: func(f *flag.FlagSet) { f.Bool("strict", false, "status 1 for warnings too") }},
		{Name: "recipient list", Summary: "list who is told what happens", Run: recipientList},
		{Name: "recipient show", Args: "RECIPIENT", Summary: "show who is told what", Run: recipientShow},
		{Name: "recipient set", Args: "RECIPIENT ADDRESS", Run: recipientSet,
			Summary: "say who is told what, by mail or at a URL, anew or in place of what was said",
			Flags: func(f *flag.FlagSet) {
				f.String("events", "", "kinds of events, with commas between, that are told at once; all: all of them "+
					"(`ambercellar recipient events` lists them)")
				f.String("rules", "", "of these rules only; * stands for any text")
				f.String("sources", "", "of these sources only; * stands for any text")
				f.String("severity", "", "of findings, only those that are at least urgent, warning or notice")
				f.String("digest", "", "the hour at which a day is summed up, like 07:30; left out: never")
				f.String("quiet", "", "hours in which only urgent findings are told, like 22:00-06:00, with ; between")
				f.String("zone", "", "whose clock digest and quiet hours follow; left out: UTC")
				f.String("secret-env", "", "of a URL: environment variable of the service with the key that signs")
				f.String("secret-file", "", "of a URL: file with that key")
			}},
		{Name: "recipient delete", Args: "RECIPIENT", Summary: "tell a recipient nothing more", Run: recipientDelete},
		{Name: "recipient test", Args: "RECIPIENT", Summary: "send a recipient a test", Run: recipientTest},
		{Name: "recipient events", Summary: "list the kinds of events, and how people and systems are told of them",
			Run: recipientEvents},
		{
			Name:    "delivery list",
			Summary: "list what was sent to whom and what waits, the newest first",
			Run:     deliveryList,
			Flags: func(f *flag.FlagSet) {
				f.String("recipient", "", "to this recipient only")
				f.String("state", "", "in this state only: waiting, sent, failed or cancelled")
				limitFlag(f)
			},
		},
		{Name: "delivery show", Args: "DELIVERY", Summary: "show one delivery and its text",
			Run: deliveryVerb((*client.Client).Delivery)},
		{Name: "delivery resend", Args: "DELIVERY", Summary: "try a delivery now, or send one that ended once more",
			Run: deliveryVerb((*client.Client).Resend)},
		{Name: "delivery cancel", Args: "DELIVERY", Summary: "end a delivery that waits",
			Run: deliveryVerb((*client.Client).CancelDelivery)},
	}
}

func newsFlags(f *flag.FlagSet) {
	f.Int64("since", 0, "only what came after the item of this number")
	f.Int("limit", 30, "how many, at most 500")
}

func news(e *Env) error {
	l, err := e.Client.News(e.Ctx, client.NewsQuery{Since: fmt.Sprint(Get[int64](e, "since")),
		Limit: Get[int](e, "limit")})
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, n := range l.Items {
		rows = append(rows, []string{fmt.Sprint(n.Seq), At(n.At), string(n.Kind), Dash(n.Severity), n.Title})
	}
	return e.Show(l, []string{"number", "at", "kind", "severity", "what"}, rows)
}

func kinds(list []client.EventKind) string {
	out := make([]string, len(list))
	for i, k := range list {
		out[i] = string(k)
	}
	return strings.Join(out, ", ")
}

func recipientList(e *Env) error {
	l, err := e.Client.Recipients(e.Ctx)
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, r := range l.Items {
		rows = append(
			rows,
			[]string{r.Name, r.Address, kinds(r.Events), strings.Join(append(r.Rules, r.Sources...), ", "),
				r.Digest, strings.Join(r.Quiet, "; "), r.Zone},
		)
	}
	return e.Show(l, []string{"recipient", "address", "events", "of", "digest", "quiet", "zone"}, rows)
}

func (e *Env) recipient(r *client.Recipient) error {
	signed := ""
	if r.SecretEnv+r.SecretFile != "" {
		signed = "with the key in " + r.SecretEnv + r.SecretFile
	}
	return e.Facts(r, []Fact{{"recipient", r.Name}, {"address", r.Address}, {"events", kinds(r.Events)},
		{"rules", strings.Join(r.Rules, ", ")}, {"sources", strings.Join(r.Sources, ", ")},
		{"findings", strings.TrimPrefix(" at least "+r.Severity, " at least ")}, {"digest", r.Digest},
		{"quiet hours", strings.Join(r.Quiet, "; ")}, {"zone", r.Zone}, {"signed", signed},
		{"set", At(r.SetAt) + " by " + r.SetBy}})
}

func recipientShow(e *Env) error {
	r, err := e.Client.Recipient(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	return e.recipient(r)
}

func recipientSet(e *Env) error {
	in := client.NewRecipient{Address: e.Args[1], Rules: Names(e.Flag("rules")), Sources: Names(e.Flag("sources")),
		Severity: e.Flag("severity"), Digest: e.Flag("digest"), Zone: e.Flag("zone"), SecretEnv: e.Flag("secret-env"),
		SecretFile: e.Flag("secret-file")}
	for _, k := range Names(e.Flag("events")) {
		in.Events = append(in.Events, client.EventKind(k))
	}
	for _, w := range strings.Split(e.Flag("quiet"), ";") {
		if w = strings.TrimSpace(w); w != "" {
			in.Quiet = append(in.Quiet, w)
		}
	}
	r, err := e.Client.SetRecipient(e.Ctx, e.Args[0], in)
	if err != nil {
		return err
	}
	return e.recipient(r)
}

func recipientDelete(e *Env) error {
	l, err := e.Client.DeleteRecipient(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	if e.Format != "table" {
		return e.Show(l, nil, nil)
	}
	_, err = fmt.Fprintf(e.Out, "%s is told nothing more\n", e.Args[0])
	return err
}

func recipientTest(e *Env) error {
	d, err := e.Client.TestRecipient(e.Ctx, e.Args[0])
	if err != nil {
		return err
	}
	return e.delivery(d)
}

func recipientEvents(e *Env) error {
	n, err := e.Client.Notifications(e.Ctx)
	if err != nil {
		return err
	}
	mail := "none is named (`ambercellar serve -smtp`)"
	if n.Mail != nil {
		mail = fmt.Sprintf("%s, from %s, TLS: %s", n.Mail.Server, n.Mail.From, n.Mail.Security)
	}
	hosts := strings.Join(n.Hosts, ", ")
	if hosts == "" {
		hosts = "none is named (`ambercellar serve -tell-hosts`)"
	}
	waiting := strconv.FormatInt(n.Waiting, 10)
	if n.Since != nil {
		waiting += ", the oldest tried since " + At(*n.Since)
	}
	return e.Facts(n, []Fact{{"mail server", mail}, {"hosts of webhooks", hosts}, {"links lead to", n.Console},
		{"kinds of events", kinds(n.Kinds)}, {"deliveries that wait", waiting},
		{"deliveries that failed", strconv.FormatInt(n.Failed, 10)}})
}

func deliveryList(e *Env) error {
	l, err := items(e, func(n int, after string) (client.Items[client.Delivery], error) {
		return e.Client.Deliveries(e.Ctx, client.DeliveriesQuery{Recipient: e.Flag("recipient"), State: e.Flag("state"),
			Limit: n, After: after})
	})
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, d := range l.Items {
		rows = append(rows, []string{d.ID, At(d.MadeAt), d.Recipient, d.Address, d.Title, string(d.State),
			strconv.Itoa(d.Attempts), d.Error})
	}
	return e.Show(l, []string{"delivery", "made", "recipient", "address", "what", "state", "attempts", "error"}, rows)
}

func deliveryVerb(do func(*client.Client, context.Context, string) (*client.Delivery, error)) func(*Env) error {
	return func(e *Env) error {
		d, err := do(e.Client, e.Ctx, e.Args[0])
		if err != nil {
			return err
		}
		return e.delivery(d)
	}
}

func (e *Env) delivery(d *client.Delivery) error {
	if err := e.Facts(d, []Fact{{"delivery", d.ID}, {"recipient", d.Recipient}, {"address", d.Address},
		{"what", d.Title}, {"state", string(d.State)}, {"attempts", strconv.Itoa(d.Attempts)},
		{"error", d.Error}, {"made", At(d.MadeAt)}, {"not tried before", atOrDash(d.NextAt)},
		{"ended", atOrDash(d.EndedAt)}}); err != nil || e.Format != "table" {
		return err
	}
	_, err := fmt.Fprintf(e.Out, "\n%s", d.Text)
	return err
}

func doctor(e *Env) error {
	l, err := e.Client.Doctor(e.Ctx)
	if err != nil {
		return err
	}
	rows, failed := [][]string{}, 0
	for _, c := range l.Items {
		if c.Level == client.CheckFailed || c.Level == client.CheckWarns && Get[bool](e, "strict") {
			failed++
		}
		rows = append(rows, []string{c.Name, string(c.Level), c.Message, c.Remedy, fmt.Sprintf("%.1f ms", c.Took)})
	}
	if err := e.Show(l, []string{"what", "level", "how it stands", "what to do", "took"}, rows); err != nil {
		return err
	}
	if failed > 0 {
		return fmt.Errorf("%s not as it should be", map[bool]string{true: "one thing is", false: strconv.Itoa(failed) +
			" things are"}[failed == 1])
	}
	return nil
}

func configShow(e *Env) error {
	l, err := e.Client.Configuration(e.Ctx)
	if err != nil {
		return err
	}
	rows := [][]string{}
	for _, v := range l.Items {
		rows = append(
			rows,
			[]string{v.Name, v.Text, v.From, map[bool]string{true: "at SIGHUP", false: "at a new start"}[v.Changes]},
		)
	}
	return e.Show(l, []string{"setting", "value", "from", "changes"}, rows)
}

func support(e *Env) error {
	out := e.Flag("out")
	if out == "" {
		return Usage("-out is missing: the file to write")
	}
	if err := e.save("/support", out); err != nil {
		return err
	}
	_, err := fmt.Fprintf(
		e.Out,
		"%s holds what helps to see what the service does; it has no secrets, no conditions, no "+
			"reasons and no values of rows, but names of rules, sources and tables\n",
		out,
	)
	return err
}
