package placement

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/exchange"
)

func first() float64 { return 0 }

// Of two machines that differ in one thing the better one is chosen, and by so much that what it is better in makes a difference.
func TestRank(t *testing.T) {
	base := Candidate{Name: "base", Loaded: true, Prefill: 200, Decode: 20, Parallel: 4}
	with := func(change func(*Candidate)) Candidate {
		c := base
		c.Name = "other"
		change(&c)
		return c
	}
	long, short := Request{Prompt: 4000, Answer: 50}, Request{Prompt: 20, Answer: 400}
	for name, c := range map[string]struct {
		other Candidate
		of    Request
		want  string
	}{
		"loaded":                          {with(func(c *Candidate) { c.Loaded = false }), short, "base"},
		"quick to load":                   {with(func(c *Candidate) { c.Loaded, c.Load, c.Prefill = false, time.Second, 400 }), long, "other"},
		"knows the prompt":                {with(func(c *Candidate) { c.Cached = 3000 }), long, "other"},
		"knows the prompt, and is busy":   {with(func(c *Candidate) { c.Cached, c.Queued = 3900, 3 }), long, "other"},
		"knows a little, and has a queue": {with(func(c *Candidate) { c.Cached, c.Queued = 500, 9 }), long, "base"},
		"busy":                            {with(func(c *Candidate) { c.Queued = 3 }), short, "base"},
		"queue":                           {with(func(c *Candidate) { c.Queued, c.Decode = 8, 40 }), short, "base"},
		"faster at answers":               {with(func(c *Candidate) { c.Decode = 40 }), short, "other"},
		"faster at answers, long prompt":  {with(func(c *Candidate) { c.Decode, c.Prefill = 40, 100 }), long, "base"},
		"far away":                        {with(func(c *Candidate) { c.Delay = 30 * time.Second }), short, "base"},
		"never measured":                  {with(func(c *Candidate) { c.Prefill, c.Decode = 0, 0 }), short, "base"},
		"nonsense":                        {with(func(c *Candidate) { c.Queued, c.Cached, c.Parallel = -5, -7, 1 }), short, "base"},
	} {
		got := Rank([]Candidate{c.other, base}, c.of, first)
		if name == "nonsense" {
			if got[0].Total <= 0 || got[1].Total <= 0 {
				t.Errorf("%s: %+v", name, got)
			}
			continue
		}
		if got[0].Target != c.want {
			t.Errorf("%s: %+v", name, got)
		}
	}
}

// Machines that are about as good share requests; one that is clearly worse gets none of them.
func TestEquals(t *testing.T) {
	var list []Candidate
	for i := range 4 {
		list = append(list, Candidate{Name: fmt.Sprint(i), Loaded: true, Prefill: 200, Decode: 20 + float64(i)*0.1})
	}
	list = append(list, Candidate{Name: "slow", Loaded: true, Prefill: 200, Decode: 10})
	chosen := map[string]int{}
	for i := range 100 {
		got := Rank(list, Request{Prompt: 100}, func() float64 { return float64(i) / 100 })
		chosen[got[0].Target]++
		names := map[string]bool{}
		for _, e := range got {
			names[e.Target] = true
		}
		if len(names) != len(list) || got[len(got)-1].Target != "slow" {
			t.Fatalf("%+v", got)
		}
	}
	if len(chosen) != 4 || chosen["0"] != 25 || chosen["slow"] != 0 {
		t.Errorf("chosen: %v", chosen)
	}
}

func turns(texts ...string) *exchange.Request {
	req := &exchange.Request{}
	for i, text := range texts {
		req.Turns = append(req.Turns, exchange.Turn{Role: []exchange.Role{exchange.System, exchange.User}[i%2], Parts: []exchange.Part{exchange.Text(text)}})
	}
	return req
}

// What is remembered of requests is how far another one begins alike, through its written form, and within bounds.
func TestChain(t *testing.T) {
	instructions := strings.Repeat("You are the harbour office of Sorrel Sound. ", 100)
	var m Memory
	if m.Known().Tokens(Chain(turns(instructions))) != 0 {
		t.Error("something is known of nothing")
	}
	m.Add(Chain(turns(instructions, "When does it sail?")))
	known := KnownFrom(m.Known().Bytes())
	for name, c := range map[string]struct {
		req         *exchange.Request
		least, most int
	}{
		"the same":            {turns(instructions, "When does it sail?"), 900, 1200},
		"the same beginning":  {turns(instructions, strings.Repeat("Another question. ", 200)), 900, 1200},
		"another beginning":   {turns("x"+instructions, "When does it sail?"), 0, 0},
		"another in between":  {turns(instructions[:2000] + "!" + instructions[2000:]), 300, 500},
		"a tool before":       {&exchange.Request{Tools: []exchange.Tool{{Name: "next_sailing"}}, Turns: turns(instructions).Turns}, 0, 0},
		"the same as raw":     {&exchange.Request{Raw: &exchange.Raw{Text: instructions}}, 0, 0},
		"less than one block": {turns("When does it sail?"), 0, 0},
	} {
		if got := known.Tokens(Chain(c.req)); got < c.least || got > c.most {
			t.Errorf("%s: %d tokens are known, not %d to %d", name, got, c.least, c.most)
		}
	}
	for i := range 3000 {
		m.Add(Chain(turns(fmt.Sprint(i) + instructions[:blockBytes])))
	}
	if n := len(m.Known()); n != mostLinks {
		t.Errorf("%d links are remembered", n)
	}
	if n := len(KnownFrom(make([]byte, 1<<20))); n != mostLinks {
		t.Errorf("%d links are read", n)
	}
	m.Forget()
	if len(m.Known()) != 0 {
		t.Error("it was to be forgotten")
	}
}
