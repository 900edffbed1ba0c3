package native

import (
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"testing"

	"kindredgate/internal/exchange"
)

// How many turns go is what leaving them out one by one would come to, with instructions kept wherever they are.
func TestFitLeavesOutAsFewAsItCan(t *testing.T) {
	r := New(Options{})
	defer r.Close()
	l, err := r.get(t.Context(), harbour)
	if err != nil {
		t.Fatal(err)
	}
	defer l.release()
	say := func(role exchange.Role, text string) exchange.Turn {
		return exchange.Turn{Role: role, Parts: []exchange.Part{exchange.Text(text)}}
	}
	for _, c := range []struct{ questions, words int }{{1, 5}, {3, 5}, {40, 20}, {300, 12}, {5, 1200}, {2, 3000}} {
		turns := []exchange.Turn{say(exchange.System, "Be brief.")}
		for i := range c.questions {
			turns = append(turns, say(exchange.User, fmt.Sprintf("Question %d: %s?", i, strings.Repeat(" boat", c.words))))
			if i%7 == 3 {
				turns = append(turns, say(exchange.System, fmt.Sprintf("Rule %d.", i)))
			}
			if i < c.questions-1 {
				turns = append(turns, say(exchange.Assistant, "Yes."))
			}
		}
		req := &exchange.Request{Turns: turns, Truncate: true, MaxTokens: 50}
		p, _, dropped, err := l.fit(t.Context(), req)
		if err != nil {
			t.Fatalf("%+v: %v", c, err)
		}
		fits := func(begin int) bool {
			rest, _ := from(turns, begin)
			own := *req
			own.Turns = rest
			p, _, err := l.render(&own)
			return err == nil && len(p.Tokens)+50 <= l.context
		}
		begins := questions(turns)
		want := begins[len(begins)-1]
		if i := slices.IndexFunc(begins, fits); i >= 0 {
			want = begins[i]
		}
		rest, n := from(turns, want)
		own := *req
		own.Turns = rest
		whole, _, err := l.render(&own)
		if err != nil || dropped != n || p.Text != whole.Text {
			t.Errorf("%+v: %d turns are left out, want %d; %v", c, dropped, n, err)
		}
	}
}

// Text that cannot fit is refused before it is made into tokens, which would cost many times its size.
func TestBulkIsRefusedUnread(t *testing.T) {
	r := New(Options{})
	defer r.Close()
	if err := r.Load(t.Context(), harbour, false); err != nil {
		t.Fatal(err)
	}
	bulk := strings.Repeat("a", 15<<20)
	for name, req := range map[string]*exchange.Request{
		"a turn":   {Turns: []exchange.Turn{{Role: exchange.User, Parts: []exchange.Part{exchange.Text(bulk)}}}},
		"the last": {Truncate: true, Turns: []exchange.Turn{ask("Hello.").Turns[0], {Role: exchange.User, Parts: []exchange.Part{exchange.Text(bulk)}}}},
		"a prompt": {Raw: &exchange.Raw{Text: bulk}},
	} {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		var err error
		for _, e := range r.Run(t.Context(), harbour, req) {
			err = e
		}
		runtime.ReadMemStats(&after)
		var e *exchange.Error
		if !errors.As(err, &e) || e.Code != "context_length_exceeded" || !strings.Contains(e.Message, "at least") {
			t.Errorf("%s: %v", name, err)
		}
		if took := after.TotalAlloc - before.TotalAlloc; took > 2*uint64(len(bulk)) {
			t.Errorf("%s: %d MB of memory for %d MB of text", name, took>>20, len(bulk)>>20)
		}
	}
	// What is left out need not be counted.
	req := &exchange.Request{Truncate: true, MaxTokens: 5, Turns: []exchange.Turn{{Role: exchange.User, Parts: []exchange.Part{exchange.Text(bulk)}}, ask("Hello.").Turns[0]}}
	for _, err := range r.Run(t.Context(), harbour, req) {
		if err != nil {
			t.Error(err)
		}
	}
}
