package config

import "testing"

// What an exchange costs, in millionths of the currency: a price is for a million tokens, so it is as many millionths for each.
func TestPrices(t *testing.T) {
	cached := 0.5
	p := Prices{Models: map[string]Price{"named": {Prompt: 2, Cached: &cached, Answer: 8}, "plain": {Prompt: 2, Answer: 8}, "*": {Answer: 0.25}}}
	for _, c := range []struct {
		model                      string
		prompt, cached, completion int
		want                       int64
	}{
		{"named", 100, 40, 10, 2*60 + 20 + 80},
		{"plain", 100, 40, 10, 2*100 + 80},
		{"other", 100, 40, 10, 3}, // 2.5, rounded
		{"named", 0, 0, 0, 0},
		{"named", 2_000_000, 0, 1_000_000, 12_000_000},
	} {
		if got := p.Of(c.model, Use{Prompt: c.prompt, Cached: c.cached, Answer: c.completion}); got != c.want {
			t.Errorf("%+v costs %d", c, got)
		}
	}
	if got := (Prices{}).Of("any", Use{Prompt: 100, Answer: 100}); got != 0 {
		t.Errorf("without prices it costs %d", got)
	}
	if got := (Prices{Models: map[string]Price{"*": {Prompt: 1, Call: 0.04}}}).Of("painter", Use{Prompt: 7, Passed: true}); got != 40_000 {
		t.Errorf("a call that is passed on costs %d", got)
	}
	below := -1.0
	for name, bad := range map[string]Prices{
		"a machine that pays": {Machine: -1}, "a currency that is a text": {Currency: "crowns of Sorrel"}, "a prompt that pays": {Models: map[string]Price{"m": {Prompt: -1}}},
		"a call that pays": {Models: map[string]Price{"m": {Call: -1}}}, "an answer that pays": {Models: map[string]Price{"m": {Answer: -1}}}, "what is known pays": {Models: map[string]Price{"m": {Cached: &below}}},
	} {
		if bad.check() == nil {
			t.Errorf("%s is taken", name)
		}
	}
}
