package keyring

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"kindredgate/internal/exchange"
)

// Limits bound what may be used, each by its number in [LimitKinds]. A zero bounds nothing.
type Limits [limitCount]int

// The limits.
const (
	RequestsPerMinute = iota
	RequestsPerDay
	TokensPerMinute
	TokensPerDay
	PromptTokens
	AnswerTokens
	RunningAtOnce
	QueueShare
	CostPerMonth
	RefusedPerMinute
	limitCount
)

// Unit is what a limit counts.
type Unit int

// The units.
const (
	ofRequests Unit = iota
	ofTokens
	ofMoney // millionths of the currency
	ofRefusals
	ofOne // a bound of single requests, which counts nothing
)

// Window is the time within which a limit counts.
type Window int

// The windows.
const (
	noWindow Window = iota
	minute
	day
	month
)

// LimitKind is what there is to know of one of the limits: what is offered as an option, in the console and in the contract comes from here.
type LimitKind struct {
	Name  string // as in JSON; an option has dashes
	Title string // for people
	Means string // a phrase for the contract and for help
	Short string // a unit behind the number
	Most  int    // what it may be at the most; 0 for no bound of its own

	what   string // in messages, standings and what is kept of counts
	unit   Unit
	window Window
	usual  int64 // that holds for a key of which nothing is said; 0 for none
	scale  int64 // units in which it is counted, for one in which it is said; 0 for 1
}

// LimitKinds are all limits, in the order in which they are shown.
var LimitKinds = [limitCount]LimitKind{
	RequestsPerMinute: {Name: "requests_per_minute", Title: "Requests per minute", Means: "requests a minute", Short: "req/min", what: "requests a minute", unit: ofRequests, window: minute},
	RequestsPerDay:    {Name: "requests_per_day", Title: "Requests per day", Means: "requests a day", Short: "req/day", what: "requests a day", unit: ofRequests, window: day},
	TokensPerMinute:   {Name: "tokens_per_minute", Title: "Tokens per minute", Means: "tokens a minute, of prompts and answers", Short: "tok/min", what: "tokens a minute", unit: ofTokens, window: minute},
	TokensPerDay:      {Name: "tokens_per_day", Title: "Tokens per day", Means: "tokens a day, of prompts and answers", Short: "tok/day", what: "tokens a day", unit: ofTokens, window: day},
	PromptTokens:      {Name: "prompt_tokens", Title: "Tokens per prompt", Means: "tokens of one prompt", Short: "tok/prompt", unit: ofOne},
	AnswerTokens:      {Name: "answer_tokens", Title: "Tokens per answer", Means: "tokens of each answer", Short: "tok/answer", unit: ofOne},
	RunningAtOnce:     {Name: "at_once", Title: "Concurrent requests", Means: "requests in progress at once", Short: "at once", what: AtOnce, unit: ofOne},
	QueueShare:        {Name: "queue_share", Title: "Share of a model's places, %", Means: "percent of a model's places, and of its queue", Short: "% of places", Most: 100, unit: ofOne},
	CostPerMonth:      {Name: "cost_per_month", Title: "Cost per month, hundredths", Means: "cost a month, in hundredths of the currency of the prices", Short: "¢/month", what: CostAMonth, unit: ofMoney, window: month, scale: 10_000},
	RefusedPerMinute:  {Name: "refused_per_minute", Title: "Refused requests per minute", Means: "requests a minute that may be refused for what is wrong with them, before all are; 600 if it is not said", Short: "refused/min", what: "refused requests a minute", unit: ofRefusals, window: minute, usual: 600},
}

// mostLimit is what a limit may be at the most.
const mostLimit = 1 << 40

// limit is how much a limit allows, in the units in which it is counted; 0 for any.
func (l Limits) limit(kind int) int64 { return int64(l[kind]) * max(1, LimitKinds[kind].scale) }

// limitNames are all limits, for errors.
func limitNames() string {
	var names []string
	for _, k := range LimitKinds {
		names = append(names, k.Name)
	}
	return strings.Join(names, ", ")
}

// LimitNamed is the number of the limit of a name. The error names those that there are.
func LimitNamed(name string) (kind int, err error) {
	kind = slices.IndexFunc(LimitKinds[:], func(k LimitKind) bool { return k.Name == name })
	if kind < 0 {
		return 0, fmt.Errorf("there is no limit %q; there are %s", name, limitNames())
	}
	return kind, nil
}

// IsZero reports whether nothing is bounded.
func (l Limits) IsZero() bool { return l == Limits{} }

// MarshalJSON writes the limits that bound something, by their names.
func (l Limits) MarshalJSON() ([]byte, error) {
	var b bytes.Buffer
	b.WriteByte('{')
	for kind, n := range l {
		if n == 0 {
			continue
		}
		if b.Len() > 1 {
			b.WriteByte(',')
		}
		fmt.Fprintf(&b, "%q:%d", LimitKinds[kind].Name, n)
	}
	b.WriteByte('}')
	return b.Bytes(), nil
}

// UnmarshalJSON reads limits by their names; those that are not named become 0.
func (l *Limits) UnmarshalJSON(raw []byte) error {
	var named map[string]int
	if err := json.Unmarshal(raw, &named); err != nil {
		return err
	}
	*l = Limits{}
	for name, n := range named {
		kind, err := LimitNamed(name)
		if err != nil {
			return err
		}
		l[kind] = n
	}
	return nil
}

// check reports what is wrong with limits that stand at a place in a request.
func (l Limits) check(at string) error {
	for kind, n := range l {
		k := LimitKinds[kind]
		switch {
		case n < 0 || n > mostLimit:
			return exchange.InvalidParam(at+k.Name, "%s is %d; a limit is a number from 1 on, or 0 for none", at+k.Name, n)
		case k.Most > 0 && n > k.Most:
			return exchange.InvalidParam(at+k.Name, "%s is %d; it is %d at the most", at+k.Name, n, k.Most)
		}
	}
	return nil
}

// tightest takes the smaller of each limit that bounds single requests.
func tightest(a, b Limits) (out Limits) {
	for kind, k := range LimitKinds {
		if k.unit != ofOne {
			continue
		}
		if out[kind] = min(a[kind], b[kind]); out[kind] == 0 {
			out[kind] = max(a[kind], b[kind])
		}
	}
	return out
}

// window is the counting of one limit. That of a minute begins with the first use after the one before has ended, others with the day or month.
type window struct {
	begun time.Time
	used  int64 // by this gate
	// What follows is of limits that gates share: what this one has taken of them, what the others have, when that was asked, and the limit.
	taken, elsewhere int64
	asked            time.Time
	limit            int64
	aligned          bool // it begins with the clock's minute, as at other gates
	// end is when the window that began then ends, which takes a calendar to find out.
	end struct{ of, at time.Time }
}

// starts is when a window begins in which a time lies.
func (w Window) starts(now time.Time) time.Time {
	switch w {
	case day:
		return time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location())
	case month:
		return time.Date(now.Year(), now.Month(), 1, 0, 0, 0, 0, now.Location())
	case minute, noWindow:
	}
	return now
}

// ends is when a window that began then ends.
func (w Window) ends(begun time.Time) time.Time {
	switch w {
	case day:
		return begun.AddDate(0, 0, 1)
	case month:
		return begun.AddDate(0, 1, 0)
	case minute, noWindow:
	}
	return begun.Add(time.Minute)
}

// at brings a window up to a time. A clock that was set back begins it anew, with what was used.
func (w *window) at(of Window, now time.Time) {
	if w.end.of != w.begun {
		w.end.of, w.end.at = w.begun, of.ends(w.begun)
	}
	if !w.begun.IsZero() && !now.Before(w.begun) && now.Before(w.end.at) {
		return
	}
	if !now.Before(w.begun) || w.begun.IsZero() {
		w.used, w.taken, w.elsewhere, w.asked = 0, 0, 0, time.Time{}
	}
	w.begun = of.starts(now)
	if w.aligned && of == minute {
		w.begun = now.Truncate(time.Minute)
	}
}
