package exchange

import (
	"strings"
	"testing"
)

// Results stand in the order of their calls; those of calls that are not known stay behind.
func TestResultsInTheOrderOfCalls(t *testing.T) {
	call := func(ids ...string) Turn {
		turn := Turn{Role: Assistant}
		for _, id := range ids {
			turn.Parts = append(turn.Parts, ToolCall{ID: id})
		}
		return turn
	}
	result := func(id string) Turn {
		return Turn{Role: ToolRole, Parts: []Part{ToolResult{CallID: id}}}
	}
	turns := []Turn{call("a", "b", "c"), result("c"), result("x"), result("a"), result("b"), call("d"), result("e"), result("d")}
	InOrderOfCalls(turns)
	var order []string
	for _, turn := range turns {
		for _, p := range turn.Parts {
			if r, ok := p.(ToolResult); ok {
				order = append(order, r.CallID)
			}
		}
	}
	if got := strings.Join(order, ""); got != "abcxed" {
		t.Errorf("the results stand as %s", got)
	}
}
