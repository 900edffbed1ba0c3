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
