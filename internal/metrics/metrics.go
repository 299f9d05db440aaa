// Package metrics tells the figures of a service in the Prometheus text format
// (https://prometheus.io/docs/instrumenting/exposition_formats/). Figures are read from the catalog when they are
// asked for, so that counters go on where they were after a start.
package metrics

import (
	"context"
	"log/slog"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"ambercellar/internal/catalog"
	"ambercellar/internal/engine/run"
	"ambercellar/internal/service"
)

const (
	// MostRules is how many rules are told apart: the first by name. What the others come to stands under the rule
	// that Others names.
	MostRules = 1000
	Others    = "(others)"
	// patience is how long the answer to one question may take.
	patience = 20 * time.Second
)

func desc(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("ambercellar_"+name, help, labels, nil)
}

var (
	up = desc("up", "1: all figures of the service were read; 0: some could not be.")
	// of rules
	rows = desc("rows_total", "Rows that left a table by a rule: archived, or purged without a copy.", "rule", "source",
		"table", "action")
	freed = desc("freed_bytes_total", "Bytes that these rows took in their table; of purged ones, as plans took them "+
		"to be.", "rule", "source", "table")
	written   = desc("archived_bytes_total", "Bytes of the files that hold archived rows.", "rule", "source", "table")
	runsEnded = desc("runs_total", "Runs that have ended, done or cancelled.", "rule", "source", "table")
	success   = desc("rule_last_success_timestamp_seconds", "When the newest run of a rule that is done ended.", "rule")
	next      = desc("rule_next_firing_timestamp_seconds", "When a rule fires next by its schedule.", "rule")
	// of the queue
	runs    = desc("runs", "Runs that have not ended, by state.", "state")
	resting = desc("resting_runs", "Runs that rest until something comes: the time of their window, budget or next "+
		"try, what their rule requires, the end of a freeze, or a database or store that is away.", "reason")
	jobs = desc("queue_jobs", "Restores, exports, disposals, verifications, moves and copies that work or wait.",
		"kind", "state")
	frozen = desc("freezes", "Freezes that stand.")
	stages = desc("stage_seconds_total", "Time that runs spent in a stage of their work: copy, verify or delete. What "+
		"works side by side is added up.", "stage")
	stageTimes = desc(
		"stage_operations_total",
		"How often a stage was gone through: segments copied, pieces verified, "+
			"transactions that deleted.",
		"stage",
	)
	rests = desc("rest_seconds_total", "Time that runs rested, by reason: pace, or the signal that was over its limit.",
		"reason")
	restTimes   = desc("rests_total", "How often runs rested, by reason.", "reason")
	signal      = desc("signal", "A signal of the database as a run that works has read it last.", "rule", "signal")
	signalLimit = desc("signal_limit", "The limit of a signal for a run that works, where there is one.", "rule",
		"signal")
	// of what somebody should look at
	findings = desc("findings", "Open findings. Acknowledged ones are known to somebody and may stay for now.", "kind",
		"severity", "acknowledged")
	// of notices
	deliveries = desc("deliveries", "Notices that wait to be sent, and those that were given up.", "state")
	oldest     = desc("delivery_oldest_waiting_seconds",
		"For how long the oldest notice has been tried in vain; 0: none has.")
	// of stores
	storeUp    = desc("store_up", "1: the store answers and is what it was; 0: it does not.", "store")
	storeFree  = desc("store_free_bytes", "Free bytes in the place of a store, where it tells them.", "store")
	storeBytes = desc("store_bytes", "Bytes of the segments in a store.", "store")
	segments   = desc("store_segments", "Segments in a store.", "store")
	unseconded = desc("store_segments_without_second_copy", "Segments that lack the second copy they are to have.",
		"store")
	damaged     = desc("store_damaged_segments", "Segments in a store that were found damaged.", "store")
	verifiedAge = desc("store_oldest_verification_timestamp_seconds",
		"When the segment of a store that was not verified for the longest time was verified.", "store")
)

// collector reads the figures of a service.
type collector struct {
	service *service.Service

	mu     sync.Mutex
	before time.Time            // base sums up the days before this one
	base   []catalog.RuleTotals // which do not change any more
	last   string               // up to which name
}

// Handler answers with the figures of a service and of its process.
func Handler(s *service.Service) http.Handler {
	registry := prometheus.NewRegistry()
	version := prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "ambercellar_build_info",
		Help: "The version of the program.", ConstLabels: prometheus.Labels{"version": service.Version}},
		func() float64 { return 1 })
	registry.MustRegister(&collector{service: s}, version, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return promhttp.HandlerFor(registry, promhttp.HandlerOpts{MaxRequestsInFlight: 4, Timeout: patience,
		ErrorHandling: promhttp.ContinueOnError, ErrorLog: slog.NewLogLogger(s.Log.Handler(), slog.LevelError)})
}

// Describe names no figures beforehand: which there are depends on rules and stores.
func (c *collector) Describe(chan<- *prometheus.Desc) {}

// Collect reads all figures. What cannot be read is left out, and ambercellar_up tells of it.
func (c *collector) Collect(out chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	var failed atomic.Bool
	var group sync.WaitGroup
	for _, part := range []func(context.Context, sink) error{c.ofRules, c.ofTimes, c.ofQueue, c.ofEfforts, c.ofFindings,
		c.ofNotices, c.ofStores} {
		group.Go(func() {
			if err := part(ctx, sink(out)); err != nil {
				failed.Store(true)
				c.service.Log.Error("figures cannot be read", "error", err)
			}
		})
	}
	group.Wait()
	ok := 1.0
	if failed.Load() {
		ok = 0
	}
	sink(out).gauge(up, ok)
}

type sink chan<- prometheus.Metric

func (s sink) gauge(d *prometheus.Desc, v float64, labels ...string) {
	s <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, clean(labels)...)
}

func (s sink) counter(d *prometheus.Desc, v int64, labels ...string) {
	s <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, float64(v), clean(labels)...)
}

// clean makes names that are no UTF-8, which databases may have, fit for labels.
func clean(labels []string) []string {
	for i, l := range labels {
		labels[i] = strings.ToValidUTF8(l, "\uFFFD")
	}
	return labels
}

func at(t time.Time) float64 { return float64(t.UnixMilli()) / 1000 }

// totals sums up what the runs of each rule came to, up to the last one that is told apart. Days that are over do not
// change: they are read once a day.
func (c *collector) totals(ctx context.Context, last string) ([]catalog.RuleTotals, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	day := c.service.Now().UTC().Truncate(24*time.Hour).AddDate(0, 0, -1) // a run may be late into yesterday's sum
	if !c.before.Equal(day) || c.last != last {
		base, err := c.service.Catalog.RuleTotalsBefore(ctx, day, last)
		if err != nil {
			return nil, err
		}
		c.base, c.before, c.last = base, day, last
	}
	recent, err := c.service.Catalog.RuleTotalsFrom(ctx, day, last)
	return append(slices.Clip(c.base), recent...), err
}

// behindAll is behind every name.
const behindAll = "\U0010FFFF"

// told says which rules are told by their own names, and the last name of these.
func (c *collector) told(ctx context.Context) (names map[string]bool, last string, err error) {
	list, err := c.service.Catalog.RuleNames(ctx, MostRules)
	names, last = map[string]bool{}, behindAll
	for _, name := range list {
		names[name] = true
	}
	if len(list) == MostRules {
		last = list[MostRules-1]
	}
	return names, last, err
}

func (c *collector) ofRules(ctx context.Context, out sink) error {
	told, last, err := c.told(ctx)
	if err != nil {
		return err
	}
	list, err := c.totals(ctx, last)
	if err != nil {
		return err
	}
	type key struct{ rule, source, table string }
	sums := map[key]*catalog.RuleTotals{}
	for _, t := range list {
		k := key{t.Rule, t.Source, t.Table}
		if !told[t.Rule] {
			k = key{Others, Others, Others}
		}
		sum := sums[k]
		if sum == nil {
			sum = &catalog.RuleTotals{}
			sums[k] = sum
		}
		sum.Runs, sum.Archived, sum.Purged = sum.Runs+t.Runs, sum.Archived+t.Archived, sum.Purged+t.Purged
		sum.Freed, sum.FileBytes = sum.Freed+t.Freed, sum.FileBytes+t.FileBytes
	}
	for k, sum := range sums {
		out.counter(rows, sum.Archived, k.rule, k.source, k.table, "archived")
		out.counter(rows, sum.Purged, k.rule, k.source, k.table, "purged")
		out.counter(freed, sum.Freed, k.rule, k.source, k.table)
		out.counter(written, sum.FileBytes, k.rule, k.source, k.table)
		out.counter(runsEnded, sum.Runs, k.rule, k.source, k.table)
	}
	return nil
}

// ofTimes tells of rules when they last had success and when they fire next, of those that are told apart.
func (c *collector) ofTimes(ctx context.Context, out sink) error {
	told, _, err := c.told(ctx)
	if err != nil {
		return err
	}
	last, err := c.service.Catalog.LastSuccesses(ctx, MostRules)
	if err != nil {
		return err
	}
	for _, l := range last {
		if told[l.Rule] {
			out.gauge(success, at(l.Ended.Time), l.Rule)
		}
	}
	for name, t := range c.service.Schedules.Next() {
		if told[name] {
			out.gauge(next, at(t), name)
		}
	}
	return nil
}

func (c *collector) ofQueue(ctx context.Context, out sink) error {
	states, err := c.service.Catalog.StateCounts(ctx)
	if err != nil {
		return err
	}
	for _, s := range catalog.ActiveRuns() {
		out.gauge(runs, float64(states[s]), string(s))
	}
	if err := c.ofResting(ctx, out); err != nil {
		return err
	}
	for _, kind := range catalog.JobKinds {
		works, waits := 0, 0
		for _, j := range c.service.Jobs.Line() {
			switch {
			case j.Kind != kind:
			case j.Works:
				works++
			default:
				waits++
			}
		}
		out.gauge(jobs, float64(works), string(kind), "working")
		out.gauge(jobs, float64(waits), string(kind), "waiting")
	}
	stand, err := c.service.Catalog.Freezes(ctx, false)
	if err != nil {
		return err
	}
	out.gauge(frozen, float64(len(stand)))
	return nil
}

// ofResting tells what the runs rest for that do not work until something comes.
func (c *collector) ofResting(ctx context.Context, out sink) error {
	list, err := c.service.Catalog.RunsIn(ctx, catalog.Resting)
	if err != nil {
		return err
	}
	counts := map[string]int{"time": 0, "requirement": 0, "freeze": 0, "away": 0}
	for i := range list {
		switch r := &list[i]; {
		case c.service.Freezes.Over(r.Source, r.Table):
			counts["freeze"]++
		case r.UnmetSince != nil:
			counts["requirement"]++
		case r.ResumeAt != nil:
			counts["time"]++ // of its window or budget, or of its next try
		default:
			counts["away"]++
		}
	}
	for reason, n := range counts {
		out.gauge(resting, float64(n), reason)
	}
	return nil
}

// ofEfforts tells where the time of runs went, and which signals those that work follow.
func (c *collector) ofEfforts(ctx context.Context, out sink) error {
	list, err := c.service.Catalog.Efforts(ctx)
	for _, usual := range []catalog.Effort{{Kind: catalog.EffortStage, Name: run.StageCopy},
		{Kind: catalog.EffortStage, Name: run.StageVerify}, {Kind: catalog.EffortStage, Name: run.StageDelete},
		{Kind: catalog.EffortRest, Name: run.RestPace},
		{Kind: catalog.EffortRest, Name: run.RestOthers}} { // they are told before there was any
		if !slices.ContainsFunc(list, func(e catalog.Effort) bool {
			return e.Kind == usual.Kind && e.Name == usual.Name
		}) {
			list = append(list, usual)
		}
	}
	for _, e := range list {
		spent, times := stages, stageTimes
		if e.Kind == catalog.EffortRest {
			spent, times = rests, restTimes
		}
		out <- prometheus.MustNewConstMetric(spent, prometheus.CounterValue, float64(e.Micros)/1e6, e.Name)
		out.counter(times, e.Times, e.Name)
	}
	seen := map[string]bool{}
	for _, r := range c.service.Queue.Latest() {
		if r.Pressure == nil || seen[r.Rule] {
			continue
		}
		seen[r.Rule] = true
		for _, x := range r.Pressure.Readings {
			out.gauge(signal, x.Value, r.Rule, x.Signal)
			if x.Limit != nil {
				out.gauge(signalLimit, *x.Limit, r.Rule, x.Signal)
			}
		}
	}
	return err
}

func (c *collector) ofFindings(ctx context.Context, out sink) error {
	list, err := c.service.Catalog.FindingCounts(ctx)
	if err != nil {
		return err
	}
	count := map[catalog.FindingCount]int{}
	for _, kind := range c.service.Findings.Kinds() { // those that there are none of are told, too
		for _, severity := range catalog.Severities {
			count[catalog.FindingCount{Kind: kind, Severity: severity}] = 0
		}
	}
	for _, f := range list {
		n := f.N
		f.N = 0
		count[f] += n
	}
	for f, n := range count {
		out.gauge(findings, float64(n), f.Kind, string(f.Severity), strconv.FormatBool(f.Quiet))
	}
	return nil
}

func (c *collector) ofNotices(ctx context.Context, out sink) error {
	list, err := c.service.Catalog.DeliveryCounts(ctx)
	if err != nil {
		return err
	}
	count := map[catalog.DeliveryState]int64{catalog.DeliveryWaiting: 0, catalog.DeliveryFailed: 0}
	age := 0.0
	for _, d := range list {
		count[d.State] = d.N
		if d.State == catalog.DeliveryWaiting && d.Since != nil {
			age = max(0, c.service.Now().Sub(d.Since.Time).Seconds())
		}
	}
	out.gauge(oldest, age)
	for state, n := range count {
		out.gauge(deliveries, float64(n), string(state))
	}
	return nil
}

func (c *collector) ofStores(ctx context.Context, out sink) error {
	stores, err := c.service.Catalog.Stores(ctx)
	if err != nil {
		return err
	}
	var group sync.WaitGroup
	failed := make(chan error, len(stores))
	for i := range stores {
		group.Go(func() {
			if err := c.ofStore(ctx, &stores[i], out); err != nil {
				failed <- err
			}
		})
	}
	group.Wait()
	close(failed)
	return <-failed
}

func (c *collector) ofStore(ctx context.Context, st *catalog.Store, out sink) error {
	free, err := c.service.Places.StoreState(ctx, st.Name)
	if err != nil {
		out.gauge(storeUp, 0, st.Name)
	} else {
		out.gauge(storeUp, 1, st.Name)
	}
	if err == nil && free >= 0 {
		out.gauge(storeFree, float64(free), st.Name)
	}
	t, err := c.service.Catalog.StoreTotals(ctx, st)
	if err != nil {
		return err
	}
	out.gauge(storeBytes, float64(t.FileBytes+t.GuestBytes), st.Name)
	out.gauge(segments, float64(t.Segments), st.Name)
	out.gauge(unseconded, float64(t.Unseconded), st.Name)
	out.gauge(damaged, float64(t.Damaged), st.Name)
	if t.Verified != nil {
		out.gauge(verifiedAge, at(t.Verified.Time), st.Name)
	}
	return nil
}
