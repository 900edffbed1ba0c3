package engine

import "time"

// pace knows how long steps take: a time for going through the weights, and one for each token. It learns both from the
// steps so far, the last of which count most, by least squares.
type pace struct {
	weight, n, t, nn, nt float64 // sums of 1, tokens, seconds, tokens², tokens × seconds
}

// memory is how much of the sums a step keeps: the last ten or so count.
const paceMemory = 0.9

func (p *pace) note(tokens int, took time.Duration) {
	n, t := float64(tokens), took.Seconds()
	for _, s := range []struct {
		sum   *float64
		value float64
	}{{&p.weight, 1}, {&p.n, n}, {&p.t, t}, {&p.nn, n * n}, {&p.nt, n * t}} {
		*s.sum = paceMemory**s.sum + s.value
	}
}

// times are how long a step takes by itself, and for each of its tokens, in seconds; known is false if nothing is known
// yet.
func (p *pace) times() (base, each float64, known bool) {
	if p.weight == 0 {
		return 0, 0, false
	}
	// Where all steps were of about the same size, they say nothing about the two times; then the first counts as none.
	base, each = 0.0, p.t/p.n
	if variance := p.nn*p.weight - p.n*p.n; variance > 0.01*p.n*p.n {
		if slope := (p.nt*p.weight - p.n*p.t) / variance; slope > 0 {
			base, each = max(0, (p.t-slope*p.n)/p.weight), slope
		}
	}
	return base, each, true
}

// tokens is how many tokens a step may have to take about so long; 0 if nothing is known yet.
func (p *pace) tokens(long time.Duration) int {
	base, each, known := p.times()
	if !known {
		return 0
	}
	return int(min(max(0, long.Seconds()-base)/each, 1<<20))
}

// time is how long a step of so many tokens takes, in seconds.
func (p *pace) time(tokens int) float64 {
	base, each, known := p.times()
	if !known {
		return 1
	}
	return base + each*float64(tokens)
}
