package exchange_test

import (
	"context"
	"fmt"
	"strings"

	"kindredgate/internal/exchange"
	"kindredgate/internal/runner/scripted"
)

// A stream is read in a loop; the switch names every kind of event.
func Example() {
	runner := &scripted.Runner{Pieces: func(*exchange.Request) []string {
		return scripted.Words("The last boat to Osmer leaves at 19:40.")
	}}
	req := &exchange.Request{
		Model:     "harbour-4m",
		Turns:     []exchange.Turn{{Role: exchange.User, Parts: []exchange.Part{exchange.Text("When is the last boat to Osmer?")}}},
		MaxTokens: 5,
	}
	var answer strings.Builder
	for event, err := range runner.Run(context.Background(), "", req) {
		if err != nil {
			fmt.Println(err)
			return
		}
		switch event := event.(type) {
		case exchange.Started:
			fmt.Println(event.PromptTokens, "tokens of prompt")
		case exchange.TextDelta:
			answer.WriteString(event.Text)
		case exchange.ReasoningDelta, exchange.ToolCallDelta: // not from this runner
		case exchange.Finish:
			fmt.Printf("%q, %d tokens, ended by %s\n", answer.String(), event.Tokens, event.Reason)
		}
	}
	// Output:
	// 7 tokens of prompt
	// "The last boat to Osmer", 5 tokens, ended by length
}

func ExampleAsError() {
	err := fmt.Errorf("answer: %w", exchange.InvalidParam("temperature", "temperature is %d; it must be from 0 to 2", 3))
	e := exchange.AsError(err)
	fmt.Println(e.Kind == exchange.Invalid, e.Param, e.Message)
	// Output: true temperature temperature is 3; it must be from 0 to 2
}
