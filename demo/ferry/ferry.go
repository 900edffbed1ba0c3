// Package ferry is a tool server of Sorrel Sound Ferries, the made-up ferry line of the sample models: it speaks the Model Context Protocol and
// has the three tools that the sample model was trained on.
package ferry

import (
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"maps"
	"regexp"
	"slices"
	"strings"

	"github.com/modelcontextprotocol/go-sdk/mcp"
)

//go:embed facts.json
var raw []byte

// island is what the facts have of an island.
type island struct {
	Departures            []string
	Adult, Child, Bicycle int
	Boat                  string
	CrossingMinutes       int `json:"crossing_minutes"`
	Pier, Landmark, Cafe  string
	Dogs, Tide            string
}

var islands = func() map[string]island {
	var facts struct{ Islands map[string]island }
	if err := json.Unmarshal(raw, &facts); err != nil {
		panic(err) // it is a part of the program
	}
	return facts.Islands
}()

// seats is how many a boat has for those who book ahead.
const seats = 40

// Server makes the server.
func Server(version string) *mcp.Server {
	s := mcp.NewServer(&mcp.Implementation{Name: "sorrel-sound-ferries", Title: "Sorrel Sound Ferries", Version: version}, nil)
	reads, writes := &mcp.ToolAnnotations{ReadOnlyHint: true}, &mcp.ToolAnnotations{}
	add(s, "next_sailing", "Find the next sailing to an island after a time.", reads,
		`{"type": "object", "properties": {"island": {"type": "string", "description": "Island name"}, "after": {"type": "string", "description": "HH:MM"}}, "required": ["island", "after"]}`,
		func(to island, a arguments) (string, error) {
			if !clock.MatchString(a.After) {
				return "", errors.New("after must be a time such as 10:30")
			}
			for _, at := range to.Departures {
				if at >= a.After { // as texts, which have two digits each
					return fmt.Sprintf(`{"island": %q, "after": %q, "departs": %q, "boat": %q}`, a.Island, a.After, at, to.Boat), nil
				}
			}
			return fmt.Sprintf(`{"island": %q, "after": %q, "departs": null}`, a.Island, a.After), nil
		})
	add(s, "fare_quote", "Work out the total fare for a party.", reads,
		`{"type": "object", "properties": {"island": {"type": "string", "description": "Island name"}, "adults": {"type": "integer"}, "children": {"type": "integer"}, "bicycles": {"type": "integer"}}, "required": ["island", "adults", "children", "bicycles"]}`,
		func(to island, a arguments) (string, error) {
			if min(a.Adults, a.Children, a.Bicycles) < 0 || max(a.Adults, a.Children, a.Bicycles) > seats {
				return "", fmt.Errorf("adults, children and bicycles are numbers from 0 to %d", seats)
			}
			total := a.Adults*to.Adult + a.Children*to.Child + a.Bicycles*to.Bicycle
			return fmt.Sprintf(`{"island": %q, "adults": %d, "children": %d, "bicycles": %d, "total": %d, "currency": "crowns"}`, a.Island, a.Adults, a.Children, a.Bicycles, total), nil
		})
	add(s, "hold_seats", "Hold seats on a sailing.", writes,
		`{"type": "object", "properties": {"island": {"type": "string", "description": "Island name"}, "time": {"type": "string", "description": "HH:MM"}, "seats": {"type": "integer"}}, "required": ["island", "time", "seats"]}`,
		func(to island, a arguments) (string, error) {
			switch {
			case !slices.Contains(to.Departures, a.Time):
				return "", fmt.Errorf("no boat leaves for %s at %q; these do: %s", a.Island, a.Time, strings.Join(to.Departures, ", "))
			case a.Seats < 1:
				return "", errors.New("seats is a number from 1 on")
			case a.Seats > seats:
				return fmt.Sprintf(`{"status": "full", "island": %q, "time": %q}`, a.Island, a.Time), nil
			}
			return fmt.Sprintf(`{"status": "held", "island": %q, "time": %q, "seats": %d, "reference": %q}`, a.Island, a.Time, a.Seats, reference(a)), nil
		})
	return s
}

// arguments are those of all tools.
type arguments struct {
	Island, After, Time               string
	Adults, Children, Bicycles, Seats int
}

var clock = regexp.MustCompile(`^([01][0-9]|2[0-3]):[0-5][0-9]$`)

// reference is that of a booking: the same for the same one.
func reference(a arguments) string {
	const letters = "ABCDEFGHJKLMNPQRSTUVWXYZ"
	h := fnv.New32a()
	fmt.Fprint(h, a.Island, a.Time, a.Seats)
	n := int(h.Sum32() >> 4)
	return fmt.Sprintf("%c%c-%04d", letters[n%24], letters[n/24%24], n/576%10_000)
}

// add adds a tool. What is wrong with a call is its result, for the model to do better.
func add(s *mcp.Server, name, description string, hints *mcp.ToolAnnotations, schema string, do func(island, arguments) (string, error)) {
	s.AddTool(&mcp.Tool{Name: name, Description: description, Annotations: hints, InputSchema: json.RawMessage(schema)}, func(_ context.Context, req *mcp.CallToolRequest) (*mcp.CallToolResult, error) {
		var a arguments
		err := json.Unmarshal(req.Params.Arguments, &a)
		to, ok := islands[a.Island]
		if err == nil && !ok {
			err = fmt.Errorf("there is no island %q; the boats sail to %s", a.Island, strings.Join(slices.Sorted(maps.Keys(islands)), ", "))
		}
		text := ""
		if err == nil {
			text, err = do(to, a)
		}
		if err != nil {
			text = err.Error()
		}
		return &mcp.CallToolResult{IsError: err != nil, Content: []mcp.Content{&mcp.TextContent{Text: text}}}, nil
	})
}
