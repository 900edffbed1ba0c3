package ledger

import (
	"cmp"
	"math/rand/v2"
	"slices"
	"sync"
	"time"

	"kindredgate/internal/record"
)

// The time that activity looks back over, in slots, and what each keeps.
const (
	slotTime  = 15 * time.Second
	slotCount = 60 // which are 15 minutes
	waitsKept = 200
	usesKept  = 500
)

// Point is what was done in one slot of time.
type Point struct {
	At         time.Time `json:"at"`
	Tokens     float64   `json:"tokens_per_second"` // of answers
	FirstToken *float64  `json:"first_token_ms"`    // the median; nil if nothing began
}

// Use is what a key had from a model over the time that is looked back over.
type Use struct {
	Key        string   `json:"key"`
	Label      string   `json:"label"`
	Model      string   `json:"model"` // that served it; "" for refused requests
	Requests   int      `json:"requests"`
	Failed     int      `json:"failed"`
	Tokens     int      `json:"completion_tokens"`
	Rate       float64  `json:"tokens_per_second"` // while answers were written; 0 if none were
	FirstToken *float64 `json:"first_token_ms"`    // the median; nil if there was none
}

// Activity is what was done lately, as screens show it.
type Activity struct {
	InProgress int     `json:"in_progress"`
	Points     []Point `json:"points"`
	Uses       []Use   `json:"uses"` // those with most tokens first
}

// Lately adds up what was done within the last quarter of an hour, in memory that is bounded. It is an observer of a gate, safe for concurrent
// use; the zero value is ready.
type Lately struct {
	mu    sync.Mutex
	open  int
	slots [slotCount]slot
}

type slot struct {
	number int64 // of slots since 1970
	tokens float64
	waits  sample
	uses   map[useOf]*used
}

type useOf struct{ key, label, model string }

type used struct {
	requests, failed, tokens int
	writing                  float64 // milliseconds
	waits                    sample
}

// sample is a part of what was measured, each with the same chance (Vitter 1985).
type sample struct {
	seen int
	kept []float64
}

func (s *sample) add(v float64) {
	if s.seen++; len(s.kept) < waitsKept {
		s.kept = append(s.kept, v)
	} else if i := rand.IntN(s.seen); i < waitsKept {
		s.kept[i] = v
	}
}

// median is that of what was measured; nil if nothing was.
func median(list []float64) *float64 {
	if len(list) == 0 {
		return nil
	}
	list = slices.Sorted(slices.Values(list))
	return &list[len(list)/2]
}

// at is the slot of a time; nil if that is over.
func (l *Lately) at(t, now time.Time) *slot {
	n, last := t.UnixNano()/int64(slotTime), now.UnixNano()/int64(slotTime)
	if n > last || n <= last-slotCount {
		return nil
	}
	s := &l.slots[n%slotCount]
	if s.number != n {
		*s = slot{number: n, uses: map[useOf]*used{}}
	}
	return s
}

// Began counts an exchange that is in progress.
func (l *Lately) Began(r record.Record) {
	if r.IsStep() {
		return // its request is
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.open++
}

// Ended adds what an exchange came to.
func (l *Lately) Ended(r record.Record) { l.add(r.Own(), time.Now()) }

func (l *Lately) add(r record.Record, now time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if r.Asked() && !r.IsStep() {
		l.open = max(0, l.open-1)
	}
	begun, end := r.Begun, r.Begun.Add(record.Duration(r.Took))
	wrote := begun.Add(record.Duration(r.FirstToken))
	if s := l.at(begun, now); s != nil {
		if r.FirstToken > 0 {
			s.waits.add(r.FirstToken)
		}
		of := useOf{r.Key, r.Label, r.Answered}
		u, ok := s.uses[of]
		if !ok && len(s.uses) >= usesKept {
			of = useOf{label: "others"}
			u, ok = s.uses[of]
		}
		if !ok {
			u = &used{}
			s.uses[of] = u
		}
		if !r.IsStep() {
			u.requests++
			if r.State.Bad() {
				u.failed++
			}
		}
		u.tokens += r.CompletionTokens
		if r.FirstToken > 0 {
			u.waits.add(r.FirstToken)
			u.writing += max(0, r.Took-r.FirstToken)
		}
	}
	if r.CompletionTokens == 0 {
		return
	}
	// Tokens count when they were written, evenly from the first to the last.
	length := max(end.Sub(wrote), time.Millisecond)
	for from := wrote; from.Before(wrote.Add(length)); {
		next := from.Truncate(slotTime).Add(slotTime)
		if limit := wrote.Add(length); next.After(limit) {
			next = limit
		}
		if s := l.at(from, now); s != nil {
			s.tokens += float64(r.CompletionTokens) * float64(next.Sub(from)) / float64(length)
		}
		from = next
	}
}

// Activity is what was done lately.
func (l *Lately) Activity(now time.Time) Activity {
	l.mu.Lock()
	defer l.mu.Unlock()
	out := Activity{InProgress: l.open, Points: []Point{}, Uses: []Use{}}
	sums := map[useOf]*used{}
	waits := map[useOf][]float64{}
	last := now.UnixNano() / int64(slotTime)
	for n := last - slotCount + 1; n <= last; n++ {
		p := Point{At: time.Unix(0, n*int64(slotTime)).UTC()}
		if s := &l.slots[n%slotCount]; s.number == n {
			p.Tokens, p.FirstToken = s.tokens/slotTime.Seconds(), median(s.waits.kept)
			for of, u := range s.uses {
				sum, ok := sums[of]
				if !ok {
					sum = &used{}
					sums[of] = sum
				}
				sum.requests, sum.failed, sum.tokens, sum.writing = sum.requests+u.requests, sum.failed+u.failed, sum.tokens+u.tokens, sum.writing+u.writing
				waits[of] = append(waits[of], u.waits.kept...)
			}
		}
		out.Points = append(out.Points, p)
	}
	for of, u := range sums {
		use := Use{Key: of.key, Label: of.label, Model: of.model, Requests: u.requests, Failed: u.failed, Tokens: u.tokens, FirstToken: median(waits[of])}
		if u.writing > 0 {
			use.Rate = float64(u.tokens) / u.writing * 1000
		}
		out.Uses = append(out.Uses, use)
	}
	slices.SortFunc(out.Uses, func(a, b Use) int {
		return cmp.Or(b.Tokens-a.Tokens, b.Requests-a.Requests, cmp.Compare(a.Label+a.Model, b.Label+b.Model))
	})
	return out
}
