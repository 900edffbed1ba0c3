package record

import (
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"kindredgate/internal/dialect"
	"kindredgate/internal/exchange"
)

// Filter chooses records. Zero fields choose all.
type Filter struct {
	Key    string // the id of a key, or a label
	Model  string // that was asked for, or served the request
	Style  string
	Job    string // the first exchange of a conversation
	Since  time.Time
	Until  time.Time     // those that began before it
	Before string        // the id of an exchange: those that began before it
	Bad    bool          // those that have ended otherwise than with a complete answer
	Slow   time.Duration // those that took at least that long
	Whole  bool          // no steps of others
	Limit  int           // how many; no part of what matches
}

// Pages of records.
const (
	UsualPage = 50
	LongPage  = 1000
)

// keyPrefix begins the id of a key where people see it.
const keyPrefix = "kg_"

// ParseFilter reads a filter from the parameters of a query.
func ParseFilter(q url.Values) (f Filter, err error) {
	f = Filter{Key: strings.TrimPrefix(strings.TrimSuffix(q.Get("key"), "…"), keyPrefix), Model: q.Get("model"), Style: q.Get("style"), Job: q.Get("job"), Before: q.Get("before"), Limit: UsualPage}
	if f.Style != "" {
		style, ok := dialect.Find(f.Style)
		if !ok {
			return f, exchange.InvalidParam("style", "style is %q; the styles are %s", f.Style, dialect.List(slices.Concat(dialect.Styles, dialect.Passed)...))
		}
		f.Style = string(style)
	}
	for _, bound := range []struct {
		name string
		at   *time.Time
	}{{"since", &f.Since}, {"until", &f.Until}} {
		if text := q.Get(bound.name); text != "" {
			if *bound.at, err = time.Parse(time.RFC3339, text); err != nil {
				return f, exchange.InvalidParam(bound.name, "%s is %q; it must be a time such as 2030-01-31T12:00:00Z", bound.name, text)
			}
		}
	}
	if text := q.Get("bad"); text != "" {
		if f.Bad, err = strconv.ParseBool(text); err != nil {
			return f, exchange.InvalidParam("bad", "bad is %q; it must be true or false", text)
		}
	}
	f.Whole = true
	if text := q.Get("steps"); text != "" {
		steps, err := strconv.ParseBool(text)
		if err != nil {
			return f, exchange.InvalidParam("steps", "steps is %q; it must be true or false", text)
		}
		f.Whole = !steps
	}
	if text := q.Get("slow_ms"); text != "" {
		ms, err := strconv.ParseInt(text, 10, 32)
		if err != nil || ms < 0 {
			return f, exchange.InvalidParam("slow_ms", "slow_ms is %q; it must be a number of milliseconds", text)
		}
		f.Slow = time.Duration(ms) * time.Millisecond
	}
	if text := q.Get("limit"); text != "" {
		if f.Limit, err = strconv.Atoi(text); err != nil || f.Limit < 1 || f.Limit > LongPage {
			return f, exchange.InvalidParam("limit", "limit is %q; it must be from 1 to %d", text, LongPage)
		}
	}
	return f, nil
}

// Query gives the parameters from which [ParseFilter] makes the same filter.
func (f Filter) Query() url.Values {
	q := url.Values{}
	for name, value := range map[string]string{"key": f.Key, "model": f.Model, "style": f.Style, "job": f.Job, "before": f.Before} {
		if value != "" {
			q.Set(name, value)
		}
	}
	for name, at := range map[string]time.Time{"since": f.Since, "until": f.Until} {
		if !at.IsZero() {
			q.Set(name, at.UTC().Format(time.RFC3339Nano))
		}
	}
	if f.Bad {
		q.Set("bad", "true")
	}
	if !f.Whole {
		q.Set("steps", "true")
	}
	if f.Slow > 0 {
		q.Set("slow_ms", strconv.FormatInt(f.Slow.Milliseconds(), 10))
	}
	if f.Limit > 0 {
		q.Set("limit", strconv.Itoa(f.Limit))
	}
	return q
}

// Matches reports whether a filter chooses a record that is new: Before and Limit, which are about pages of old ones, do not count.
func (f Filter) Matches(r *Record) bool {
	is := func(want string, have ...string) bool { return want == "" || slices.Contains(have, want) }
	return (!f.Whole || !r.IsStep()) && is(f.Key, r.Key, r.Label) && is(f.Model, r.Model, r.Answered) && is(f.Style, r.Style) && is(f.Job, r.Job) &&
		!r.Begun.Before(f.Since) && (f.Until.IsZero() || r.Begun.Before(f.Until)) && (!f.Bad || r.State.Bad()) && (f.Slow == 0 || r.Took >= Milliseconds(f.Slow))
}
