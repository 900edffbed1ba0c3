package exchange

import "slices"

// InOrderOfCalls puts the results of tools in the order in which they were called, as models are trained to have them, whatever the order in
// which an application sends them. Results of calls that are not in the turn before stay where they are.
func InOrderOfCalls(turns []Turn) {
	for i := 0; i < len(turns); i++ {
		order := map[string]int{}
		for n, p := range turns[i].Parts {
			if call, ok := p.(ToolCall); ok && turns[i].Role == Assistant {
				order[call.ID] = n
			}
		}
		end := i + 1
		for end < len(turns) && turns[end].Role == ToolRole {
			end++
		}
		if len(order) < 2 {
			continue
		}
		slices.SortStableFunc(turns[i+1:end], func(a, b Turn) int { return place(a, order) - place(b, order) })
	}
}

// place is where the call of a result stands among others; behind all of them if there is none.
func place(t Turn, order map[string]int) int {
	for _, p := range t.Parts {
		if r, ok := p.(ToolResult); ok {
			if n, known := order[r.CallID]; known {
				return n
			}
		}
	}
	return 1 << 30
}
