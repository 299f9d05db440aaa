package pace

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// Unit is what a signal is measured in.
type Unit string

const (
	Count        Unit = "count"
	Bytes        Unit = "bytes"
	Seconds      Unit = "seconds"
	Milliseconds Unit = "milliseconds"
)

// Signal is one thing that a database, or the machine that it stands on, tells about its load.
type Signal struct {
	Name  string
	Label string // in words, with the unit where it is a count
	Unit  Unit
	Limit float64 // at the gentle pace, unless a rule says otherwise; NaN: none
	Floor bool    // the limit is the least that must be there, not the most
	Slows bool    // beyond the limit a run goes slower; beyond others it rests until the value is back
}

// Names of the signals.
const (
	Blocked   = "blocked"
	Waiting   = "waiting"
	Active    = "active"
	Deadlocks = "deadlocks"
	Probe     = "probe"
	Replica   = "replica_delay"
	Slots     = "slots_held"
	LogMinute = "log_minute"
	Dead      = "dead_rows"
	History   = "history"
	Disk      = "disk_free"
)

// Signals are all that pace follows, in the order in which they are shown.
var Signals = []Signal{
	{Name: Blocked, Label: "sessions that wait for one of ours", Unit: Count, Limit: 0},
	{Name: Waiting, Label: "sessions that wait for locks", Unit: Count, Limit: 5},
	{Name: Active, Label: "active sessions of others", Unit: Count, Limit: 40},
	{Name: Deadlocks, Label: "deadlocks in the last minute", Unit: Count, Limit: 0},
	{Name: Probe, Label: "time of a probe by key", Unit: Milliseconds, Limit: 100},
	{Name: Replica, Label: "delay of the slowest replica", Unit: Seconds, Limit: 10},
	{Name: Slots, Label: "log held back by replication slots", Unit: Bytes, Limit: 8 << 30},
	{Name: LogMinute, Label: "log written in the last minute", Unit: Bytes, Limit: math.NaN()},
	{Name: Dead, Label: "dead rows of the table", Unit: Count, Limit: 2_000_000, Slows: true},
	{Name: History, Label: "undo history length", Unit: Count, Limit: 1_000_000, Slows: true},
	{Name: Disk, Label: "free disk space of the database", Unit: Bytes, Limit: 1 << 30, Floor: true},
}

// FindSignal returns the signal of a name.
func FindSignal(name string) (Signal, bool) {
	for _, s := range Signals {
		if s.Name == name {
			return s, true
		}
	}
	return Signal{}, false
}

// Limits are a rule's own, by the signal's name; nil takes the limit away.
type Limits map[string]*float64

// Limit returns what holds for a signal. At the unlimited pace only what a rule names does, and the space on disk.
func (l Limits) Limit(p Pace, s Signal) (float64, bool) {
	if v, ok := l[s.Name]; ok {
		if v == nil {
			return 0, false
		}
		return *v, true
	}
	if p == Unlimited && s.Name != Disk {
		return 0, false
	}
	return s.Limit, !math.IsNaN(s.Limit)
}

// Level is how a value stands to its limit.
type Level string

const (
	Calm Level = "calm"
	Near Level = "near" // past half of the limit: a run goes slower
	Over Level = "over"
	Open Level = "open" // there is no limit
)

// Reading is what a signal showed, beside its limit.
type Reading struct {
	Signal string   `json:"signal"`
	Label  string   `json:"label"`
	Unit   Unit     `json:"unit"`
	Value  float64  `json:"value"`
	Limit  *float64 `json:"limit,omitempty"`
	Floor  bool     `json:"floor,omitempty"` // the limit is the least that must be there
	Level  Level    `json:"level"`
}

// Pressure is what the readings of one moment come to.
type Pressure struct {
	Readings []Reading `json:"readings"`
	Rest     bool      `json:"rest"`   // until a value is back within its limit
	Slow     float64   `json:"slow"`   // 0: not at all, to 1: as slow as pressure makes a run
	Reason   string    `json:"reason"` // in words, of a rest or slowing down
	Free     float64   `json:"free"`   // what the pace takes of the database beside others, from 0 to 1: all of it
	Why      string    `json:"why"`    // what keeps the gentle pace from taking all; empty: nothing
	Signal   string    `json:"signal"` // whose value is the reason; empty: there is none
}

// Judge puts values beside their limits.
func Judge(values map[string]float64, p Pace, limits Limits) Pressure {
	out := Pressure{Readings: []Reading{}}
	for _, s := range Signals {
		v, known := values[s.Name]
		if !known {
			continue
		}
		r := Reading{Signal: s.Name, Label: s.Label, Unit: s.Unit, Value: v, Floor: s.Floor, Level: Open}
		if limit, ok := limits.Limit(p, s); ok {
			r.Limit = &limit
			share := load(v, limit, s.Floor)
			switch {
			case share > 1 && s.Slows:
				r.Level = Over
				out.slow(1, s, v, limit)
			case share > 1:
				r.Level = Over
				if !out.Rest {
					out.Rest, out.Reason, out.Signal = true, said(s, v, limit), s.Name
				}
			case share > 0.5 && !s.Slows:
				r.Level = Near
				out.slow(2*share-1, s, v, limit)
			default:
				r.Level = Calm
			}
		}
		out.Readings = append(out.Readings, r)
	}
	return out
}

func (p *Pressure) slow(by float64, s Signal, v, limit float64) {
	if by > p.Slow {
		p.Slow = by
		if !p.Rest {
			p.Reason, p.Signal = said(s, v, limit), s.Name
		}
	}
}

// load is the share of its limit that a value takes; more than 1 is beyond it.
func load(v, limit float64, floor bool) float64 {
	if floor {
		v, limit = limit, v
	}
	switch {
	case v <= 0:
		return 0
	case limit <= 0:
		return math.Inf(1)
	}
	return v / limit
}

func said(s Signal, v, limit float64) string {
	bound := "at most"
	if s.Floor {
		bound = "at least"
	}
	return fmt.Sprintf("%s: %s (%s %s)", s.Label, s.Unit.Spoken(v), bound, s.Unit.Spoken(limit))
}

// Spoken writes a value with its unit.
func (u Unit) Spoken(v float64) string {
	switch u {
	case Milliseconds:
		return strconv.FormatFloat(v, 'f', -1, 64) + " ms"
	case Seconds:
		return strconv.FormatFloat(math.Round(v*10)/10, 'f', -1, 64) + " s"
	case Bytes:
		for _, x := range sizes {
			if v >= x.factor && x.factor > 1 {
				return strconv.FormatFloat(math.Round(v/x.factor*10)/10, 'f', -1, 64) + " " + x.name
			}
		}
		return strconv.FormatFloat(v, 'f', -1, 64) + " B"
	}
	return strconv.FormatFloat(math.Round(v), 'f', -1, 64)
}

var sizes = []struct {
	name   string
	factor float64
}{{"TiB", 1 << 40}, {"TB", 1e12}, {"GiB", 1 << 30}, {"GB", 1e9}, {"MiB", 1 << 20}, {"MB", 1e6}, {"KiB", 1 << 10},
	{"kB", 1e3}, {"B", 1}}

var amount = regexp.MustCompile(`^([0-9]+(?:\.[0-9]+)?) ?([A-Za-z]*)$`)

// Parse reads a value with its unit: a bare number is a count, or bytes, seconds or milliseconds as the signal counts.
func (u Unit) Parse(text string) (float64, error) {
	remedy := map[Unit]string{Count: "a number like 5", Bytes: "a size like 500 MB", Seconds: "a time like 10 s",
		Milliseconds: "a time like 100 ms"}[u]
	bad := fmt.Errorf("%q is not %s", text, remedy)
	m := amount.FindStringSubmatch(strings.TrimSpace(text))
	if m == nil {
		return 0, bad
	}
	v, err := strconv.ParseFloat(m[1], 64)
	if err != nil {
		return 0, bad
	}
	unit := m[2]
	if unit == "" {
		return v, nil
	}
	switch u {
	case Count:
		switch strings.ToLower(unit) {
		case "k", "thousand":
			return v * 1e3, nil
		case "m", "million":
			return v * 1e6, nil
		}
	case Bytes:
		for _, x := range sizes {
			if strings.EqualFold(unit, x.name) {
				return v * x.factor, nil
			}
		}
	case Seconds, Milliseconds:
		for name, d := range map[string]time.Duration{"ms": time.Millisecond, "s": time.Second, "min": time.Minute,
			"h": time.Hour} {
			if unit == name {
				v *= float64(d)
				if u == Seconds {
					return v / float64(time.Second), nil
				}
				return v / float64(time.Millisecond), nil
			}
		}
	}
	return 0, bad
}
