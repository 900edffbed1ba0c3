package gate

import (
	"context"
	"errors"

	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
)

// Measure gives the tokens of a wanted answer with their log-probabilities, each with so many alternatives, as an exchange of its own.
// prompt is how many tokens stand before it.
func (g *Gate) Measure(ctx context.Context, caller keyring.Key, from Origin, req exchange.Request, answer string, top int) (scores []exchange.Score, prompt int, err error) {
	req.Wanted, req.Scores, req.Candidates = &answer, &top, 1
	req.Format, req.Choice = exchange.Format{}, exchange.Choice{} // nothing is made that could keep to them
	x, err := g.Begin(ctx, caller, from, &req)
	if err != nil {
		return nil, 0, err
	}
	for event, err := range x.Events() {
		if err != nil {
			return nil, 0, err
		}
		if s, ok := event.(exchange.Started); ok && s.Echo != nil {
			scores, prompt = s.Echo.Scores, s.PromptTokens-len(s.Echo.Scores)
		}
	}
	if scores == nil {
		return nil, 0, errors.New("the answer was not scored")
	}
	return scores, prompt, nil
}
