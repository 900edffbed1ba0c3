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
