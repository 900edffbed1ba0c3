package response

import (
	"encoding/json"
	"fmt"

	"kindredgate/internal/exchange"
)

// Stored is the call that a stored response was asked with, as far as a response that goes on in the background needs it.
func Stored(body, input json.RawMessage, req *exchange.Request) (*Call, error) {
	c := &Call{Request: *req, Store: true, Background: true}
	if err := json.Unmarshal(body, &c.settings); err != nil {
		return nil, fmt.Errorf("a stored response cannot be read: %w", err)
	}
	if err := json.Unmarshal(input, &c.Input); err != nil {
		return nil, fmt.Errorf("the input of a stored response cannot be read: %w", err)
	}
	if c.settings.Previous != nil {
		c.Previous = *c.settings.Previous
	}
	return c, nil
}

// Ongoing is a stored response, whose stored form tells of its end if nobody had carried on with it, as one that somebody does.
func Ongoing(body json.RawMessage) (json.RawMessage, error) {
	var fields map[string]json.RawMessage
	if err := json.Unmarshal(body, &fields); err != nil {
		return nil, fmt.Errorf("a stored response cannot be read: %w", err)
	}
	for name, value := range map[string]string{"status": `"in_progress"`, "error": "null", "completed_at": "null", "incomplete_details": "null", "output": "[]"} {
		fields[name] = json.RawMessage(value)
	}
	return json.Marshal(fields)
}
