package native

import (
	"context"
	"encoding/base64"
	"errors"
	"os"
	"runtime"
	"strings"
	"testing"

	"kindredgate/internal/exchange"
)

// A picture is looked at when the one before it is done, out of the memory for models, and not for somebody who has left.
func TestLookingIsBounded(t *testing.T) {
	small := New(Options{Memory: 1000})
	defer small.Close()
	if err := small.borrow(2000); err == nil || !strings.Contains(err.Error(), "models.memory") {
		t.Errorf("more than there is: %v", err)
	}
	if err := small.borrow(600); err != nil {
		t.Error(err)
	}
	if err := small.borrow(600); err == nil {
		t.Error("the same memory is given twice")
	}
	small.giveBack(600)
	if err := small.borrow(600); err != nil {
		t.Errorf("what came back is not there: %v", err)
	}
	small.giveBack(600)

	const folder = "../../model/testdata/vision/pixtral/"
	raw, err := os.ReadFile(folder + "images/a.png")
	if err != nil {
		t.Fatal(err)
	}
	picture := exchange.Image{URL: "data:image/png;base64," + base64.StdEncoding.EncodeToString(raw), At: "messages[0].content[0].image_url.url"}
	r := New(Options{})
	defer r.Close()
	req := &exchange.Request{MaxTokens: 2, Turns: []exchange.Turn{{Role: exchange.User, Parts: []exchange.Part{picture, exchange.Text("what is this")}}}}
	run := func(ctx context.Context) error {
		for _, err := range r.Run(ctx, folder+"hf", req) {
			if err != nil {
				return err
			}
		}
		return nil
	}
	r.looking <- struct{}{} // somebody else's is looked at
	ctx, cancel := context.WithCancelCause(t.Context())
	left := errors.New("the client has left")
	var said exchange.Progress
	ended := make(chan error)
	go func() { ended <- run(exchange.WithProgress(ctx, &said)) }()
	for !strings.Contains(said.Said(), "waiting to look at a picture") {
		runtime.Gosched()
	}
	cancel(left)
	if err := <-ended; !errors.Is(err, left) {
		t.Errorf("waiting ends with %v", err)
	}
	<-r.looking
	if err := run(t.Context()); err != nil {
		t.Error(err)
	}
	r.looking <- struct{}{} // what is known need not be looked at
	if err := run(t.Context()); err != nil {
		t.Error(err)
	}
	<-r.looking
	r.mu.Lock()
	defer r.mu.Unlock()
	for e := range r.live {
		if r.used != e.bytes {
			t.Errorf("%d bytes are in use, %d of them the model's", r.used, e.bytes)
		}
	}
}

// The same picture read in another size is another one, and rows are kept within bounds.
func TestRowsThatAreKept(t *testing.T) {
	r := New(Options{})
	defer r.Close()
	l, err := r.get(t.Context(), "../../model/testdata/vision/qwen2_5-vl/hf")
	if err != nil {
		t.Fatal(err)
	}
	defer l.release()
	raw, err := os.ReadFile("../../model/testdata/vision/qwen2_5-vl/images/a.png")
	if err != nil {
		t.Fatal(err)
	}
	tokens := map[string]int{}
	for _, detail := range []string{"low", "high", "original"} {
		l.eyes.tokens = 20
		p, err := l.eyes.plan(exchange.Image{URL: "data:image/png;base64," + base64.StdEncoding.EncodeToString(raw), Detail: detail})
		if err != nil {
			t.Fatal(err)
		}
		tokens[detail] = p.Tokens()
	}
	if tokens["low"] > 20 || tokens["high"] > 20 || tokens["original"] <= 20 {
		t.Errorf("%v", tokens)
	}
}

// Pictures that are fetched for a request are bounded together, as those are that it brings itself.
func TestFetchedPicturesAreBounded(t *testing.T) {
	const folder = "../../model/testdata/vision/pixtral/"
	raw, err := os.ReadFile(folder + "images/a.png")
	if err != nil {
		t.Fatal(err)
	}
	long := append(raw, make([]byte, 5<<20)...) // behind the picture's end
	r := New(Options{FetchPicture: func(context.Context, string) ([]byte, error) { return long, nil }})
	defer r.Close()
	l, err := r.get(t.Context(), folder+"hf")
	if err != nil {
		t.Fatal(err)
	}
	defer l.release()
	for n, refused := range map[int]bool{2: false, 3: true} {
		req := &exchange.Request{Turns: []exchange.Turn{{Role: exchange.User}}}
		for range n {
			req.Turns[0].Parts = append(req.Turns[0].Parts, exchange.Image{URL: "https://ferry.test/a.png"})
		}
		_, err := l.seeing(t.Context(), req)
		if e := (*exchange.Error)(nil); (err != nil) != refused || refused && (!errors.As(err, &e) || e.Code != "image_too_large") {
			t.Errorf("%d of them: %v", n, err)
		}
	}
}
