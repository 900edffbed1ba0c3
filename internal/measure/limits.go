package measure

import (
	"sync"
	"time"

	"kindredgate/internal/tensor"
)

// Limits are what the machine can do at most, with one thread and with all: bytes read from memory a second, and
// operations on bytes and on floats, a multiplication and an addition being two.
type Limits struct {
	Threads    int     `json:"threads"`
	ReadOne    float64 `json:"read_one"`
	Read       float64 `json:"read"`
	IntegerOne float64 `json:"integer_one"`
	Integer    float64 `json:"integer"`
	FloatOne   float64 `json:"float_one"`
	Float      float64 `json:"float"`
}

// burst is how long a limit is tried at a time: long enough to count, short enough to fit between disturbances.
const burst = 40 * time.Millisecond

// measure looks at the limits again and keeps the best: the machine can do what it has done. data is what is read, which
// should be larger than the caches.
func (l *Limits) measure(threads int, data []byte) {
	l.Threads = threads
	for n, to := range map[int][3]*float64{1: {&l.ReadOne, &l.IntegerOne, &l.FloatOne}, threads: {&l.Read, &l.Integer, &l.Float}} {
		part := len(data) / n
		*to[0] = max(*to[0], rate(n, func(i, round int) int64 {
			piece := data[i*part : (i+1)*part]
			size := min(len(piece), 8<<20)
			at := round * size % (len(piece) - size + 1)
			tensor.ProbeRead(piece[at : at+size])
			return int64(size)
		}))
		*to[1] = max(*to[1], rate(n, func(int, int) int64 { return tensor.ProbeBytes(20_000) }))
		*to[2] = max(*to[2], rate(n, func(int, int) int64 { return tensor.ProbeFloats(20_000) }))
	}
}

// rate is how much so many goroutines do in a second, each round of which gives an amount.
func rate(threads int, round func(thread, number int) int64) float64 {
	var sum float64
	var mu sync.Mutex
	var all sync.WaitGroup
	for i := range threads {
		all.Go(func() {
			begun, done := time.Now(), int64(0)
			for n := 0; time.Since(begun) < burst; n++ {
				done += round(i, n)
			}
			one := float64(done) / time.Since(begun).Seconds()
			mu.Lock()
			sum += one
			mu.Unlock()
		})
	}
	all.Wait()
	return sum
}
