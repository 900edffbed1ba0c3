package ledger

import (
	"fmt"
	"math"
	"testing"
	"time"

	"kindredgate/internal/record"
)

// What was done is added up by when it was written, for whom and by what; what is older than a quarter of an hour is gone, and who asks with
// very many keys takes no more room than some hundreds.
func TestActivity(t *testing.T) {
	now := time.Date(2031, 5, 1, 12, 0, 0, 0, time.UTC)
	var l Lately
	l.Began(record.Record{})
	l.Began(record.Record{})
	of := func(label string, ago time.Duration, tokens int, first, took float64, s record.State) record.Record {
		return record.Record{Key: label, Label: label, Answered: "harbour-4m", Begun: now.Add(-ago), CompletionTokens: tokens, FirstToken: first, Took: took, State: s}
	}
	for _, r := range []record.Record{
		of("bot", 60*time.Second, 300, 5000, 35_000, record.Done), // written from 55 to 25 s ago
		of("bot", 30*time.Second, 0, 0, 10, record.Failed),
		of("desk", 20*time.Second, 30, 100, 1100, record.Done),
		of("old", 16*time.Minute, 99, 1, 2, record.Done),
		of("ahead", -time.Hour, 99, 1, 2, record.Done), // by a clock that was set
	} {
		l.add(r, now)
	}
	a := l.Activity(now)
	if a.InProgress != 0 || len(a.Points) != slotCount || len(a.Uses) != 2 {
		t.Fatalf("%+v", a)
	}
	total := 0.0
	for _, p := range a.Points {
		total += p.Tokens * slotTime.Seconds()
	}
	if math.Abs(total-330) > 0.01 {
		t.Errorf("%.2f tokens are in the points, of 330", total)
	}
	// From 60 to 45 s ago the first answer was written for 10 s, at 10 tokens a second.
	for _, p := range a.Points {
		if p.At.Equal(now.Add(-60 * time.Second)) {
			if math.Abs(p.Tokens-100.0/15) > 0.01 || p.FirstToken == nil || *p.FirstToken != 5000 {
				t.Errorf("%+v", p)
			}
		}
	}
	if u := a.Uses[0]; u.Label != "bot" || u.Requests != 2 || u.Failed != 1 || u.Tokens != 300 || u.Rate != 10 || *u.FirstToken != 5000 {
		t.Errorf("%+v", u)
	}
	for i := range 3 * usesKept {
		l.add(of(fmt.Sprint("k", i), time.Second, 1, 1, 2, record.Done), now)
	}
	if a = l.Activity(now); len(a.Uses) > usesKept+3 {
		t.Errorf("%d uses are kept", len(a.Uses))
	}
	if a = l.Activity(now.Add(time.Hour)); len(a.Uses) != 0 || a.Points[slotCount-1].Tokens != 0 {
		t.Errorf("an hour later: %+v", a.Uses)
	}
}
