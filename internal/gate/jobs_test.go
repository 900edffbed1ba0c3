package gate

import (
	"fmt"
	"testing"

	"kindredgate/internal/exchange"
)

func said(role exchange.Role, parts ...exchange.Part) exchange.Turn {
	return exchange.Turn{Role: role, Parts: parts}
}

// What goes on from what: only more turns after all turns of an earlier exchange of the same key, word for word.
func TestWhatGoesOnFromWhat(t *testing.T) {
	question := said(exchange.User, exchange.Text("When?"))
	call := said(exchange.Assistant, exchange.ToolCall{ID: "1", Name: "boats", Arguments: `{}`})
	result := said(exchange.ToolRole, exchange.ToolResult{CallID: "1", Content: "19:40"})
	answer := said(exchange.Assistant, exchange.Text("At 19:40."))
	for _, c := range []struct {
		name          string
		account       string
		first, second []exchange.Turn
		goesOn        bool
	}{
		{"a conversation", "k", []exchange.Turn{question}, []exchange.Turn{question, answer, question}, true},
		{"an agent's step", "k", []exchange.Turn{question}, []exchange.Turn{question, call, result}, true},
		{"an agent's next step", "k", []exchange.Turn{question, call, result}, []exchange.Turn{question, call, result, call, result}, true},
		{"the same once more", "k", []exchange.Turn{question}, []exchange.Turn{question}, false},
		{"less", "k", []exchange.Turn{question, answer, question}, []exchange.Turn{question}, false},
		{"another question", "k", []exchange.Turn{question}, []exchange.Turn{said(exchange.User, exchange.Text("Where?")), answer}, false},
		{"another key", "other", []exchange.Turn{question}, []exchange.Turn{question, answer, question}, false},
		{"another role", "k", []exchange.Turn{question}, []exchange.Turn{said(exchange.System, exchange.Text("When?")), answer}, false},
		{"texts that are cut otherwise", "k", []exchange.Turn{said(exchange.User, exchange.Text("ab"), exchange.Text("c"))}, []exchange.Turn{said(exchange.User, exchange.Text("a"), exchange.Text("bc")), answer}, false},
		{"a result of another call", "k", []exchange.Turn{question, call, result}, []exchange.Turn{question, call, said(exchange.ToolRole, exchange.ToolResult{CallID: "2", Content: "19:40"}), answer}, false},
		{"no turns at all", "k", nil, []exchange.Turn{question, answer}, false},
	} {
		j := newJobs()
		j.end(j.find("k", c.first), "first", "harbour-4m", 10)
		p := j.find(c.account, c.second)
		if goesOn := p.tail.step > 0; goesOn != c.goesOn || goesOn && p.tail != (tail{"first", 1, 10, "harbour-4m"}) {
			t.Errorf("%s: %+v", c.name, p)
		}
	}
}

// A job goes on from its last step, and what was long ago is forgotten.
func TestJobsAreCounted(t *testing.T) {
	j := newJobs()
	turns := []exchange.Turn{said(exchange.User, exchange.Text("When?"))}
	for step := range 5 {
		p := j.find("k", turns)
		if p.tail.step != step {
			t.Errorf("step %d goes on from step %d", step+1, p.tail.step)
		}
		j.end(p, fmt.Sprint("exchange ", step), "harbour-4m", 100+step)
		turns = append(turns, said(exchange.Assistant, exchange.Text("Aye.")), said(exchange.User, exchange.Text("And then?")))
	}
	if p := j.find("k", turns); p.tail != (tail{"exchange 0", 5, 104, "harbour-4m"}) {
		t.Errorf("the job is %+v", p.tail)
	}
	for i := range mostTails {
		j.end(j.find("k", []exchange.Turn{said(exchange.User, exchange.Text(fmt.Sprint(i)))}), "x", "harbour-4m", 1)
	}
	if p := j.find("k", turns); p.tail.step != 0 {
		t.Error("what was long ago is still remembered")
	}
	if n := j.tails.Len(); n != mostTails {
		t.Errorf("%d are remembered", n)
	}
}
