package gate

import (
	"hash/maphash"

	lru "github.com/hashicorp/golang-lru/v2"

	"kindredgate/internal/exchange"
)

// jobs finds exchanges that go on from one another: a conversation, or the steps of an agent. One goes on from another of the same key if
// its turns begin with all turns of that one, and are more. Of the turns only hashes are kept, in memory, so that after a restart jobs
// begin anew. It is safe for concurrent use.
type jobs struct {
	seed  maphash.Seed
	tails *lru.Cache[uint64, tail] // by the hash of all turns of an exchange
}

// tail is the end of a job so far.
type tail struct {
	id     string // of the job: its first exchange
	step   int
	tokens int    // of the prompt and the answer
	target string // that answered: the name of a model or preset
}

// mostTails bounds how many conversations are remembered.
const mostTails = 20_000

func newJobs() *jobs {
	tails, err := lru.New[uint64, tail](mostTails)
	if err != nil {
		panic(err) // only for a size that is none
	}
	return &jobs{maphash.MakeSeed(), tails}
}

// place is where an exchange stands among others.
type place struct {
	hash uint64 // of all its turns
	tail tail   // of those that it goes on from; step is 0 if there are none
	ok   bool   // whether it has turns at all
}

// find looks for what a conversation goes on from.
func (j *jobs) find(account string, turns []exchange.Turn) (p place) {
	if len(turns) == 0 {
		return p
	}
	var h maphash.Hash
	h.SetSeed(j.seed)
	h.WriteString(account)
	for i, t := range turns {
		hashTurn(&h, t)
		if i == len(turns)-1 {
			break
		}
		if found, ok := j.tails.Get(h.Sum64()); ok {
			p.tail = found // the longest is the last that is found
		}
	}
	p.hash, p.ok = h.Sum64(), true
	return p
}

func hashTurn(h *maphash.Hash, t exchange.Turn) {
	text := func(s string) {
		maphash.WriteComparable(h, len(s)) // so that texts cannot be shifted into one another
		h.WriteString(s)
	}
	text(string(t.Role))
	for _, part := range t.Parts {
		switch part := part.(type) {
		case exchange.Text:
			text(string(part))
		case exchange.Refusal:
			text(string(part))
		case exchange.Image:
			text(part.URL)
		case exchange.ToolCall:
			text(part.ID)
			text(part.Name)
			text(string(part.Arguments))
		case exchange.ToolResult:
			text(part.CallID)
			text(part.Content)
		}
	}
}

// end notes how far an exchange has brought its job.
func (j *jobs) end(p place, id, target string, tokens int) {
	if !p.ok {
		return
	}
	next := tail{id: id, step: 1, tokens: tokens, target: target}
	if p.tail.step > 0 {
		next.id, next.step = p.tail.id, p.tail.step+1
	}
	j.tails.Add(p.hash, next)
}
