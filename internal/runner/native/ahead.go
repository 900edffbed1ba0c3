package native

import (
	"context"
	"io"
	"os"
	"sync/atomic"
	"time"
)

// readAhead is the reading of a model's files ahead of their use. Weights are mapped, and what is not in memory yet comes
// when it is touched, page by page, while the processors wait. Read through in one go, it comes as fast as the disk gives
// it, and is there when it is touched.
type readAhead struct {
	done, total atomic.Int64 // bytes
	stop        context.CancelFunc
	ended       chan struct{}
}

// beginReading begins to read files. What fails is not told: whoever needs the weights will see it.
func beginReading(files []string, told func(took time.Duration)) *readAhead {
	ctx, stop := context.WithCancel(context.Background())
	r := &readAhead{stop: stop, ended: make(chan struct{})}
	for _, f := range files {
		if info, err := os.Stat(f); err == nil {
			r.total.Add(info.Size())
		}
	}
	go func() {
		defer close(r.ended)
		defer func() { _ = recover() }() // as little depends on it as on an error
		begun := time.Now()
		buffer := make([]byte, 4<<20)
		for _, f := range files {
			if !r.file(ctx, f, buffer) {
				return
			}
		}
		told(time.Since(begun))
	}()
	return r
}

func (r *readAhead) file(ctx context.Context, path string, buffer []byte) bool {
	f, err := os.Open(path)
	if err != nil {
		return false
	}
	defer f.Close() // it was only read
	for ctx.Err() == nil {
		n, err := f.Read(buffer)
		r.done.Add(int64(n))
		if err == io.EOF {
			return true
		}
		if err != nil {
			return false
		}
	}
	return false
}

// left is how many bytes are still to be read.
func (r *readAhead) left() int64 {
	select {
	case <-r.ended:
		return 0
	default:
		return max(0, r.total.Load()-r.done.Load())
	}
}

// end stops the reading and waits for its end.
func (r *readAhead) end() {
	r.stop()
	<-r.ended
}
