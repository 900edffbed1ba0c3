package tensor

import (
	"math"
	"time"
)

// Gain is what teams of some size bring: bytes read from memory a second, and operations on bytes.
type Gain struct {
	Threads       int
	Read, Integer float64
}

// Sizes of what is measured: larger than most caches, in pieces as short as those of products, and as long together as a large product takes.
const (
	gainBytes  = 64 << 20
	gainPieces = 512
	gainRounds = 400 // of multiplying, a piece
	gainTries  = 5
)

// Gains measures teams of these sizes by turns, and keeps the best of each: anything else that runs makes them slower, and not faster.
func Gains(sizes []int) []Gain {
	data := make([]byte, gainBytes)
	for i := 0; i < len(data); i += 4096 {
		data[i] = 1 // so that each page is there
	}
	gains := make([]Gain, len(sizes))
	teams := make([]*Team, len(sizes))
	for i, n := range sizes {
		gains[i].Threads, teams[i] = n, NewTeam(n)
		defer teams[i].Close()
	}
	const part = gainBytes / gainPieces
	read := Func(func(_, from, to int) { ProbeRead(data[from*part : to*part]) })
	multiply := Func(func(_, from, to int) { ProbeBytes((to - from) * gainRounds) })
	for range gainTries {
		for i, t := range teams {
			g := &gains[i]
			g.Read = max(g.Read, gainBytes/t.took(read))
			g.Integer = max(g.Integer, float64(probeOperations(gainPieces*gainRounds))/t.took(multiply))
		}
	}
	return gains
}

// took is how many seconds work of all pieces takes.
func (t *Team) took(w Work) float64 {
	begun := time.Now()
	t.Split(gainPieces, shortWork, w) // long work, which is never kept alone
	return time.Since(begun).Seconds()
}

// leastGain is how much more threads must bring to be worth their electricity and the noise of measuring.
const leastGain = 1.03

// Worth chooses a size: the least one that brings about as much as any does, for answers, which read memory, and prompts, which multiply.
func Worth(gains []Gain) int {
	best := 0.0
	for _, g := range gains {
		best = max(best, g.both())
	}
	chosen := 0
	for _, g := range gains {
		if g.both()*leastGain >= best && (chosen == 0 || g.Threads < chosen) {
			chosen = g.Threads
		}
	}
	return chosen
}

func (g Gain) both() float64 { return math.Sqrt(g.Read * g.Integer) }
